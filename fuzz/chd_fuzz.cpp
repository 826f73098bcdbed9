// Header, map, metadata and tracks of a CHD, then its first hunks through every codec. No parents are found.
#include "opifex/core/formats/chd/chd.hpp"
#include "opifex/core/image/format.hpp"

#include "fuzz.hpp"

using namespace opifex;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  fuzz::tolerate([&] {
    const auto file = chd::Chd::open(memory_source(fuzz::bytes_of(data, size), "fuzz.chd"), {});
    constexpr std::uint32_t kHunks = 32, kMostBytes = 1 << 20;
    if (file->header().hunk_bytes > kMostBytes) return;
    Bytes hunk(file->header().hunk_bytes);
    for (std::uint64_t n = 0; n < std::min(kHunks, file->header().hunk_count); ++n)
      fuzz::tolerate([&] { file->read_hunk(n, hunk); });
    fuzz::tolerate([&] { chd::check_contents(*file); });
  });
  return 0;
}
