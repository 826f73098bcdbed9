// The kernels, each variant beside the reference.
#include <benchmark/benchmark.h>

#include "opifex/core/cd/examine.hpp"
#include "opifex/core/cd/parity.hpp"

namespace opifex::cd {
namespace {

std::vector<Sector> sectors(SectorKind kind) {
  std::vector<Sector> all(2048);  // 4.8 MB: more than the nearer caches hold
  Bytes user(kUserBytes);
  for (std::size_t i = 0; i < all.size(); ++i) {
    for (std::size_t k = 0; k < kUserBytes; ++k) user[k] = static_cast<std::byte>((i * 31 + k * k) >> 2);
    const std::span<const std::byte, kUserBytes> data(user);
    if (kind == SectorKind::mode1)
      make_mode1(all[i], static_cast<Lba>(i), data);
    else
      make_form1(all[i], static_cast<Lba>(i), kForm1Data, data);
  }
  return all;
}

void count(benchmark::State& state, std::size_t sectors_a_round) {
  state.SetBytesProcessed(static_cast<std::int64_t>(state.iterations()) *
                          static_cast<std::int64_t>(sectors_a_round * kRawBytes));
}

void verify_every_sector(benchmark::State& state) {
  const auto all = sectors(state.range(0) == 1 ? SectorKind::mode1 : SectorKind::mode2_form1);
  for (auto round : state) {
    std::uint64_t bad = 0;
    for (std::size_t i = 0; i < all.size(); ++i) bad += examine(all[i], {static_cast<Lba>(i), true}).bad() ? 1u : 0u;
    if (bad != 0) state.SkipWithError("sound sectors were found bad");
  }
  count(state, all.size());
}
BENCHMARK(verify_every_sector)->ArgName("mode")->Arg(1)->Arg(2);

void ecc_check(benchmark::State& state, ParityVariant variant) {
  const auto all = sectors(SectorKind::mode1);
  for (auto round : state)
    for (const Sector& s : all) benchmark::DoNotOptimize(variant.ecc_is_right(s, EccHeader::counts));
  count(state, all.size());
}

void ecc_make(benchmark::State& state, ParityVariant variant) {
  auto all = sectors(SectorKind::mode1);
  for (auto round : state)
    for (Sector& s : all) variant.compute_ecc(s, EccHeader::counts);
  count(state, all.size());
}

void edc_of_sector(benchmark::State& state, ParityVariant variant) {
  const auto all = sectors(SectorKind::mode1);
  for (auto round : state)
    for (const Sector& s : all) benchmark::DoNotOptimize(variant.edc(ByteView(s).first(kMode1EdcAt), 0));
  count(state, all.size());
}

const bool registered = [] {
  for (const ParityVariant& v : parity_variants()) {
    if (!v.supported) continue;
    const std::string name(v.name);
    benchmark::RegisterBenchmark(("ecc_check/" + name).c_str(), ecc_check, v);
    benchmark::RegisterBenchmark(("ecc_make/" + name).c_str(), ecc_make, v);
    benchmark::RegisterBenchmark(("edc/" + name).c_str(), edc_of_sector, v);
  }
  const ParityVariant reference{"reference", true, [](ByteView b, std::uint32_t c) { return edc_reference(b, c); },
                                &compute_ecc_reference, nullptr};
  benchmark::RegisterBenchmark("ecc_make/reference", ecc_make, reference);
  benchmark::RegisterBenchmark("edc/reference", edc_of_sector, reference);
  return true;
}();

}  // namespace
}  // namespace opifex::cd
