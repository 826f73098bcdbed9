/// The lines of a text file, from whatever encoding it has: UTF-8 where its bytes are, else windows-1252; UTF-16 behind
/// a byte order mark.
#pragma once

#include <optional>
#include <string>

#include "opifex/core/io/byte_source.hpp"

namespace opifex {

class ListLines {
 public:
  /// Reads all of it once to learn the encoding. `file` is for messages.
  ListLines(const ByteSource& source, std::string file);

  /// The next line in UTF-8 without its end, CR included; valid until the next call. Error: token_too_long for a line
  /// over 64 KiB, bad_encoding for UTF-16 that is none.
  std::optional<std::string_view> next();
  /// Number of the line that next() gave, from 1.
  std::uint64_t line() const { return line_; }

 private:
  enum class Encoding { utf8, windows_1252, utf16_le, utf16_be };
  void find_encoding();
  bool fill();
  std::optional<std::string_view> next_raw();

  const ByteSource& source_;
  std::string file_;
  Encoding encoding_ = Encoding::utf8;
  std::uint64_t at_ = 0;  // in the source, behind what is in buffer_
  std::string buffer_;    // read, not yet given
  std::size_t used_ = 0;  // of the buffer
  std::string decoded_;
  std::uint64_t line_ = 0;
};

}  // namespace opifex
