#include "joined_source.hpp"

#include <algorithm>

namespace opifex {

using cd::Lba;

void JoinedSource::read_at(std::uint64_t offset, std::span<std::byte> out) const {
  const std::size_t size = joiner_->sector_bytes();
  while (!out.empty()) {
    const Lba lba = first_ + static_cast<Lba>(offset / size);
    const auto inside = static_cast<std::size_t>(offset % size);
    const RescueRange& range = range_at(lba);
    const auto run = static_cast<std::uint32_t>(
        std::min<std::uint64_t>(out.size() / size, static_cast<std::uint64_t>(range.end - lba)));
    if (inside == 0 && run > 0 && !range.inputs.empty()) {
      joiner_->read(range.inputs.front(), lba, run, out.first(run * size));
      out = out.subspan(run * size);
      offset += run * size;
      continue;
    }
    Bytes sector(size);
    make(lba, range, sector);
    const std::size_t n = std::min(out.size(), size - inside);
    std::copy_n(sector.begin() + static_cast<std::ptrdiff_t>(inside), n, out.begin());
    out = out.subspan(n);
    offset += n;
  }
}

const RescueRange& JoinedSource::range_at(Lba lba) const {
  const auto after = std::upper_bound(ranges_->begin(), ranges_->end(), lba,
                                      [](Lba at, const RescueRange& r) { return at < r.first; });
  return *std::prev(after);
}

void JoinedSource::make(Lba lba, const RescueRange& range, std::span<std::byte> out) const {
  if (!range.inputs.empty()) return joiner_->read(range.inputs.front(), lba, 1, out);
  if (range.how == RescueHow::lost) {
    const bool audio = joiner_->is_audio(lba);
    std::fill(out.begin(), out.end(), audio ? std::byte{0} : kRescueFill);
    if (joiner_->blocks() || audio) return;
    const bool mode1 = joiner_->layout().track_at(lba)->mode.kind == cd::TrackMode::Kind::mode1;
    return cd::put_header(cd::SectorSpan(out), lba, mode1 ? 1 : 2);
  }
  std::vector<Bytes> sectors(joiner_->inputs().size(), Bytes(out.size()));
  std::vector<ByteView> views;
  for (std::size_t i = 0; i < sectors.size(); ++i) {
    joiner_->read(i, lba, 1, sectors[i]);
    views.emplace_back(sectors[i]);
  }
  cd::Sector decided{};
  joiner_->decide(lba, views, decided);
  std::copy_n(decided.begin(), out.size(), out.begin());
}

}  // namespace opifex
