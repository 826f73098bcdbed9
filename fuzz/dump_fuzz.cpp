// What a drive answers, and the files a dump leaves behind. The first byte chooses the parser.
#include "opifex/core/check/sector_map.hpp"
#include "opifex/core/dump/sense.hpp"
#include "opifex/core/dump/toc.hpp"
#include "opifex/core/platforms/ps3_disc.hpp"

#include "fuzz.hpp"

using namespace opifex;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  if (size == 0) return 0;
  const ByteView input = std::as_bytes(std::span(data, size)).subspan(1);
  try {
    switch (data[0] % 6) {
      case 0:
        parse_sector_map(as_text(input), "map");
        break;
      case 1:
        dump::parse_full_toc(input);
        break;
      case 2:
        dump::parse_plain_toc(
            input, input.size() > 64 ? std::optional(Bytes(input.begin(), input.begin() + 32)) : std::nullopt);
        break;
      case 3:
        dump::parse_cd_text(input);
        break;
      case 4:
        dump::parse_sense(input);
        break;
      default:
        read_ps3_disc(*memory_source({input.begin(), input.end()}, "disc"));
        break;
    }
  } catch (const Error&) {
  }
  return 0;
}
