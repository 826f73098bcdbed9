#include "opifex/core/check/file_map.hpp"

#include <algorithm>
#include <bit>
#include <map>
#include <tuple>

#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {

FileMap::FileMap(const Image& image) {
  std::vector<Volume> volumes;
  try {
    volumes = read_volumes(image);
  } catch (const Error& e) {
    if (e.details.fault != Fault::refused) throw;
    return;  // the directories themselves are damaged: nothing can be named
  }
  complete_ =
      !volumes.empty() && std::none_of(volumes.begin(), volumes.end(), [](const Volume& v) { return v.damaged(); });
  for (const Volume& v : volumes)
    for (const VolumeEntry& e : v.entries)
      for (const VolumeExtent& x : e.extents) {
        if (x.size_bytes == 0 || !x.recorded || e.kind == EntryKind::audio) continue;
        const std::int64_t first = static_cast<std::int64_t>(x.sector) + v.shift;
        spans_.push_back({first, first + static_cast<std::int64_t>(x.sectors()), e.path});
      }
  const auto all_of = [](const Span& s) { return std::tie(s.first, s.end, s.path); };
  std::sort(spans_.begin(), spans_.end(), [&](const Span& a, const Span& b) { return all_of(a) < all_of(b); });
  // Two file systems of one disc name the same file.
  spans_.erase(
      std::unique(spans_.begin(), spans_.end(), [&](const Span& a, const Span& b) { return all_of(a) == all_of(b); }),
      spans_.end());
  width_ = std::bit_ceil(std::max<std::size_t>(1, spans_.size()));
  latest_.assign(2 * width_, INT64_MIN);
  for (std::size_t i = 0; i < spans_.size(); ++i) latest_[width_ + i] = spans_[i].end;
  for (std::size_t i = width_ - 1; i > 0; --i) latest_[i] = std::max(latest_[2 * i], latest_[2 * i + 1]);
}

void FileMap::collect(std::size_t node, std::size_t first, std::size_t width, std::size_t before, std::int64_t begin,
                      const std::function<void(const Span&)>& take) const {
  if (first >= before || latest_[node] <= begin) return;
  if (width == 1) return take(spans_[first]);
  collect(2 * node, first, width / 2, before, begin, take);
  collect(2 * node + 1, first + width / 2, width / 2, before, begin, take);
}

void FileMap::each_hit(std::int64_t first, std::int64_t end, const std::function<void(const Span&)>& take) const {
  const auto behind =
      std::lower_bound(spans_.begin(), spans_.end(), end, [](const Span& s, std::int64_t e) { return s.first < e; });
  collect(1, 0, width_, static_cast<std::size_t>(behind - spans_.begin()), first, take);
}

std::vector<std::string> FileMap::hit_by(cd::Lba first, std::uint64_t count) const {
  std::vector<std::string> paths;
  each_hit(first, first + static_cast<std::int64_t>(count), [&](const Span& span) { paths.push_back(span.path); });
  paths.erase(std::unique(paths.begin(), paths.end()), paths.end());
  return paths;
}

std::vector<FileHit> FileMap::suffered(std::span<const DiscRange> damage) const {
  std::vector<FileHit> hits;
  std::map<std::string_view, std::size_t> known;  // by path, in `hits`
  for (const DiscRange& range : damage)
    each_hit(range.first, range.end, [&](const Span& span) {
      const auto [at, fresh] = known.try_emplace(span.path, hits.size());
      const std::int64_t first = std::max(range.first, span.first);
      if (fresh) hits.push_back({span.path, 0, 0, first});
      hits[at->second].hit += static_cast<std::uint64_t>(std::min(range.end, span.end) - first);
    });
  for (const Span& span : spans_)
    if (const auto at = known.find(span.path); at != known.end())
      hits[at->second].sectors += static_cast<std::uint64_t>(span.end - span.first);
  return hits;
}

std::vector<DiscRange> FileMap::used() const {
  std::vector<DiscRange> ranges;
  for (const Span& span : spans_) {
    if (ranges.empty() || span.first > ranges.back().end) ranges.push_back({span.first, span.end});
    ranges.back().end = std::max(ranges.back().end, span.end);
  }
  return ranges;
}

std::string files_text(const std::vector<std::string>& paths) {
  constexpr std::size_t kShown = 3;
  std::string text;
  for (std::size_t i = 0; i < std::min(kShown, paths.size()); ++i) text += (i > 0 ? ", " : "") + printable(paths[i]);
  if (paths.size() > kShown) text += fmt::format(" and {} more", paths.size() - kShown);
  return text;
}

}  // namespace opifex
