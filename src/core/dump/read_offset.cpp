#include "opifex/core/dump/read_offset.hpp"

#include <algorithm>
#include <cstdlib>

#include "opifex/core/cd/sector.hpp"

namespace opifex::dump {
namespace {

using cd::Lba;

constexpr std::size_t kStep = 4;  // bytes of a sample of both channels
constexpr Lba kSearched = 3;      // sectors either way: drives are 1,200 samples off at most

/// Sectors of data beside a border to music; more than one of each, so that they can agree.
std::vector<Lba> places_at_borders(const std::vector<Region>& regions) {
  constexpr Lba kInside = 8, kApart = 16;
  std::vector<Lba> places;
  for (std::size_t i = 0; i < regions.size(); ++i) {
    const Region& r = regions[i];
    const auto is_music = [&](const Region& other) { return other.kind == RegionKind::audio; };
    if (r.kind != RegionKind::data || r.end - r.first < 2 * (kInside + kApart)) continue;
    if (i + 1 < regions.size() && is_music(regions[i + 1]) && regions[i + 1].first == r.end)
      places.insert(places.end(), {r.end - kInside, r.end - kInside - kApart});
    if (i > 0 && is_music(regions[i - 1]) && regions[i - 1].end == r.first)
      places.insert(places.end(), {r.first + kInside, r.first + kInside + kApart});
  }
  return places;
}

/// The stream around `lba` as the drive delivers music; empty if it does not.
Bytes stream_around(Drive& drive, Lba lba, Lba reach) {
  CdParts as_music;
  as_music.as_audio = true;
  Bytes stream(static_cast<std::size_t>(2 * reach + 1) * cd::kRawBytes);
  for (Lba i = -reach; i <= reach; ++i) {
    const auto sector = std::span(stream).subspan(static_cast<std::size_t>(i + reach) * cd::kRawBytes, cd::kRawBytes);
    const Outcome outcome = drive.read_cd(lba + i, 1, as_music, sector);
    if (!outcome.ok() || outcome.bytes != cd::kRawBytes) return {};
  }
  return stream;
}

/// True if the sector of data is what stands there in the stream, scrambled as on the disc (ECMA-130, annex B).
bool is_sector(Drive& drive, Lba lba, cd::SectorView in_stream) {
  cd::Sector stored{};
  if (!drive.read_cd(lba, 1, {}, stored).ok()) return false;
  return std::equal(stored.begin(), stored.end(), in_stream.begin());
}

std::optional<int> offset_at(Drive& drive, Lba lba) {
  const Bytes stream = stream_around(drive, lba, kSearched);
  const Lba first = lba - kSearched;
  for (std::size_t at = 0; at + cd::kRawBytes <= stream.size(); at += kStep) {
    if (!std::equal(cd::kSync.begin(), cd::kSync.end(), stream.begin() + static_cast<std::ptrdiff_t>(at))) continue;
    cd::Sector s;
    std::copy_n(stream.begin() + static_cast<std::ptrdiff_t>(at), s.size(), s.begin());
    cd::scramble(s);  // its own inverse
    const auto address = cd::header_lba(s);
    if (!address || std::abs(*address - lba) > 2 * kSearched || !is_sector(drive, *address, s)) continue;
    const std::ptrdiff_t expected = std::ptrdiff_t{*address - first} * static_cast<std::ptrdiff_t>(cd::kRawBytes);
    return static_cast<int>((static_cast<std::ptrdiff_t>(at) - expected) / static_cast<std::ptrdiff_t>(kStep));
  }
  return std::nullopt;
}

}  // namespace

std::optional<int> find_read_offset(Drive& drive, const std::vector<Region>& regions) {
  constexpr std::size_t kPlaces = 4, kEnough = 2;
  if (drive.facts().told && !drive.facts().accurate_stream) return std::nullopt;
  std::vector<int> found;
  std::vector<Lba> places = places_at_borders(regions);
  if (places.size() > kPlaces) places.resize(kPlaces);
  for (const Lba place : places) {
    if (const auto offset = offset_at(drive, place)) found.push_back(*offset);
    if (found.empty()) break;  // a drive that refuses once always does
    if (found.front() != found.back()) return std::nullopt;
    if (found.size() == kEnough) return found.front();
  }
  return std::nullopt;
}

}  // namespace opifex::dump
