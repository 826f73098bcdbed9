// One raw sector: examined, repaired, and never "repaired" into something that is not sound.
#include <algorithm>
#include <cstdlib>

#include "opifex/core/cd/examine.hpp"

#include "fuzz.hpp"

using namespace opifex;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  cd::Sector s{};
  const Bytes input = fuzz::bytes_of(data, std::min(size, cd::kRawBytes));
  std::copy(input.begin(), input.end(), s.begin());
  for (const cd::SectorPlace place : {cd::SectorPlace{}, cd::SectorPlace{4242, true}}) {
    cd::examine(s, place);
    cd::Sector mended = s;
    const bool claimed = cd::repair(mended, place);
    if (!claimed && mended != s) std::abort();
    if (claimed && (cd::examine(mended, place).problems & (cd::kProblemEdc | cd::kProblemEcc | cd::kProblemSync)) != 0)
      std::abort();
  }
  return 0;
}
