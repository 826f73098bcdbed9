/// OCR-1, the open protocol between a computer (host) and a cartridge reader (device): lines of text one way, binary
/// frames the other (shared facts: reader-protocol; sections are named where they count).
#pragma once

#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex::dump::ocr1 {

inline constexpr std::size_t kMostLine = 240;      ///< bytes of a line with its LF (section 2)
inline constexpr std::size_t kMostPayload = 4096;  ///< of a frame (section 3)
inline constexpr std::size_t kFrameHead = 16, kFrameTail = 2;

/// What can be read (section 4).
inline constexpr std::string_view kRomSpace = "rom", kCharacterSpace = "chr", kSaveSpace = "ram", kClockSpace = "rtc";

using Fields = std::map<std::string, std::string, std::less<>>;

/// "@TTTT BODY ;CCCC" with its LF. `tag` is not 0.
std::string line_of(std::uint16_t tag, std::string_view body);

struct Frame {
  char kind = 'A';  ///< A done, X failed, D data, W wait, E event
  std::uint8_t sequence = 0;
  std::uint16_t tag = 0;
  std::uint32_t position = 0;
  Bytes payload = {};

  Fields fields() const;  ///< of a text payload
};
Bytes encode(const Frame& frame);

/// "key=value" joined by LF.
std::string text_of(const std::vector<std::pair<std::string, std::string>>& fields);

/// The host's side of the stream (section 7): finds frames among garbage and lost bytes.
class FrameParser {
 public:
  void add(ByteView bytes);
  /// The next good frame; nothing: more bytes are needed.
  std::optional<Frame> next();
  /// A pause within a frame: what was begun is given up, and the search goes on behind its header.
  void gap();
  /// True while a frame has begun and is not whole.
  bool is_within_frame() const { return within_; }
  void clear();

 private:
  Bytes buffer_;
  std::size_t at_ = 0;
  bool within_ = false;
};

/// Numbers are decimal, or hexadecimal behind 0x, up to FFFFFFFF.
std::optional<std::uint32_t> parse_number(std::string_view text);
/// Digits in pairs.
std::optional<Bytes> parse_hex(std::string_view text);

/// A line as the device has it.
struct Line {
  std::uint16_t tag = 0;
  std::string verb;
  std::vector<std::string> arguments;
};
enum class LineFault { none, bad_line, bad_crc };

/// The device's side of the stream (section 2).
class LineParser {
 public:
  struct Result {
    LineFault fault = LineFault::none;
    Line line;
  };
  /// The lines that end within these bytes. Lines that do not begin with '@' are ignored.
  std::vector<Result> add(ByteView bytes);
  /// A line that was begun long ago is dropped.
  void drop() { text_.clear(), begun_ = spoiled_ = false; }
  bool is_within_line() const { return begun_; }

 private:
  std::string text_;
  bool begun_ = false, spoiled_ = false;
};

}  // namespace opifex::dump::ocr1
