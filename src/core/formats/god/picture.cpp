#include "picture.hpp"

#include "opifex/core/base/hash.hpp"

namespace opifex::god {

bool is_png(ByteView bytes) {
  constexpr std::string_view kSignature = "\x89PNG\r\n\x1A\n";
  constexpr std::size_t kAround = 12, kHeaderBytes = 13;  // length, type and CRC of a chunk; IHDR
  if (!as_text(bytes).starts_with(kSignature)) return false;
  bytes = bytes.subspan(kSignature.size());
  for (bool first = true; bytes.size() >= kAround; first = false) {
    const std::uint32_t length = load_be32(bytes, 0);
    if (length > bytes.size() - kAround) return false;
    const ByteView named = bytes.subspan(4, 4 + std::size_t{length});
    const std::string_view type = as_text(named).substr(0, 4);
    if (first != (type == "IHDR") || (first && length != kHeaderBytes)) return false;
    if (digest_of("crc32", named) != fmt::format("{:08x}", load_be32(bytes, 8 + std::size_t{length}))) return false;
    bytes = bytes.subspan(kAround + length);
    if (type == "IEND") return bytes.empty();
  }
  return false;
}

}  // namespace opifex::god
