// What the three kinds share inside.
#pragma once

#include "opifex/core/convert/patch.hpp"

namespace opifex::patches {

std::uint32_t crc32_of(ByteView bytes);
std::uint32_t crc32_of(const ByteSource& file);
std::uint32_t crc32_of(const Output& out);

[[noreturn]] void refuse(const std::string& file, std::uint64_t at, std::string found, std::string expected);

/// Reads a patch from front to back; numbers as UPS and BPS write them.
class Cursor {
 public:
  Cursor(ByteView bytes, std::size_t from, const std::string& file) : bytes_(bytes), at_(from), file_(file) {}
  bool at_end() const { return at_ >= bytes_.size(); }
  std::size_t at() const { return at_; }
  std::size_t left() const { return bytes_.size() - at_; }
  unsigned byte(const char* what);
  /// Seven bits a byte, low first, the last marked, each further one counting from where the shorter ones end.
  std::uint64_t number(const char* what);
  ByteView take(std::uint64_t n, const char* what);
  std::uint64_t big(std::size_t n, const char* what);

 private:
  ByteView bytes_;
  std::size_t at_;
  const std::string& file_;
};

void append_number(Bytes& out, std::uint64_t n);
void append_le32(Bytes& out, std::uint32_t n);
void append_big(Bytes& out, std::uint64_t n, std::size_t bytes);

PatchFacts read_ips(ByteView patch, const std::string& file);
PatchFacts read_ups(ByteView patch, const std::string& file);
PatchFacts read_bps(ByteView patch, const std::string& file);
void apply_ips(ByteView patch, const ByteSource& source, Output& out, const std::string& file);
/// `reverse`: from the target to the source.
void apply_ups(ByteView patch, const ByteSource& source, bool reverse, Output& out, const std::string& file);
void apply_bps(ByteView patch, const ByteSource& source, Output& out, const std::string& file);
std::uint64_t ips_target_bytes(ByteView patch, std::uint64_t source_bytes, const std::string& file);

/// Bytes of a step that goes through memory.
inline constexpr std::size_t kStep = 1 << 20;
/// As far as the source reaches and no further than `bytes`, zeros behind it.
void copy_source(const ByteSource& source, std::uint64_t bytes, Output& out);
Bytes make_ips(ByteView source, ByteView target);
Bytes make_ups(ByteView source, ByteView target);
Bytes make_bps(ByteView source, ByteView target);

/// The three checksums at the end of UPS and BPS; Error if the patch's own is wrong.
inline constexpr std::size_t kFooter = 12;
void read_footer(ByteView patch, PatchFacts& facts, const std::string& file);
void append_footer(Bytes& patch, ByteView source, ByteView target);
/// Error ("too_large") above `most`.
void refuse_size(std::uint64_t bytes, std::uint64_t most, const std::string& file);

}  // namespace opifex::patches
