#include "opifex/core/check/density.hpp"

#include <array>
#include <cmath>

namespace opifex {
namespace {

constexpr std::uint32_t kSectors = 16, kSampleBytes = kSectors * cd::kRawBytes;

double entropy_of(ByteView bytes) {
  std::array<std::uint32_t, 256> counts{};
  for (const std::byte b : bytes) ++counts[std::to_integer<unsigned>(b)];
  double bits = 0;
  for (const std::uint32_t n : counts) {
    if (n == 0) continue;
    const double share = static_cast<double>(n) / static_cast<double>(bytes.size());
    bits -= share * std::log2(share);
  }
  return bits;
}

/// The bytes of a sample; empty where they cannot be read.
using Reader = std::function<Bytes(std::uint64_t at)>;

std::vector<Density> sampled(std::uint64_t size, std::size_t most, const Reader& read, JobContext& context) {
  std::vector<Density> along;
  const std::uint64_t samples = ceil_div(size, kSampleBytes),
                      step = std::max<std::uint64_t>(1, ceil_div(samples, most));
  for (std::uint64_t n = 0; n < samples; n += step) {
    context.progress.check_stop();
    try {
      const Bytes bytes = read(n * kSampleBytes);
      if (!bytes.empty())
        along.push_back({n * kSampleBytes, static_cast<std::uint32_t>(bytes.size()), entropy_of(bytes)});
    } catch (const Error& e) {
      if (e.details.fault == Fault::interrupted) throw;
    }
  }
  return along;
}

std::vector<Density> of_source(const SourcePtr& source, std::size_t most, JobContext& context) {
  if (!source) return {};
  return sampled(
      source->size(), most, [&](std::uint64_t at) { return read_up_to(*source, at, kSampleBytes); }, context);
}

std::vector<Density> of_cd(const CdImage& disc, std::size_t most, JobContext& context) {
  const auto sectors = static_cast<std::uint64_t>(std::max<cd::Lba>(0, disc.layout().lead_out));
  const auto read = [&](std::uint64_t at) {
    const std::uint64_t lba = at / cd::kRawBytes;
    const auto count = static_cast<std::uint32_t>(std::min<std::uint64_t>(kSectors, sectors - lba));
    Bytes bytes(std::size_t{count} * cd::kRawBytes);
    disc.read(SectorForm::raw, static_cast<cd::Lba>(lba), count, bytes);
    return bytes;
  };
  return sampled(sectors * cd::kRawBytes, most, read, context);
}

}  // namespace

std::vector<Density> density_along(const Image& image, std::size_t most, JobContext& context) {
  return std::visit(Overloaded{[](const NoContent&) { return std::vector<Density>{}; },
                               [&](const CdContent& c) { return of_cd(*c.sectors, most, context); },
                               [&](const BlockContent& b) { return of_source(b.bytes, most, context); },
                               [&](const RomContent& r) { return of_source(r.bytes, most, context); },
                               [](const FileContent&) { return std::vector<Density>{}; }},
                    image.content);
}

}  // namespace opifex
