// The first bytes are the header's start; the megabyte of zeros behind it and some sectors are supplied, so that the
// fuzzer need not find them.
#include <algorithm>

#include "opifex/core/formats/vcd/vcd.hpp"

#include "fuzz.hpp"

using namespace opifex;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  constexpr std::size_t kHeader = 0x100000, kUsed = 0x410;
  Bytes bytes(kHeader + 200 * cd::kRawBytes + 100);
  const Bytes input = fuzz::bytes_of(data, std::min(size, kUsed + 4 * cd::kRawBytes));
  std::copy_n(input.begin(), std::min(input.size(), kUsed), bytes.begin());
  if (input.size() > kUsed) std::copy(input.begin() + kUsed, input.end(), bytes.begin() + kHeader);
  fuzz::tolerate([&] {
    std::vector<Warning> warnings;
    fuzz::read_some(*vcd::read_disc(memory_source(std::move(bytes), "fuzz.vcd"), warnings));
  });
  fuzz::tolerate([&] {
    std::vector<Warning> warnings;
    fuzz::read_some(*vcd::read_disc(memory_source(fuzz::bytes_of(data, size), "fuzz.vcd"), warnings));
  });
  return 0;
}
