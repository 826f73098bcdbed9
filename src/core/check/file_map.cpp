#include "opifex/core/check/file_map.hpp"

#include <algorithm>
#include <bit>

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
  std::stable_sort(spans_.begin(), spans_.end(), [](const Span& a, const Span& b) { return a.first < b.first; });
  width_ = std::bit_ceil(std::max<std::size_t>(1, spans_.size()));
  latest_.assign(2 * width_, INT64_MIN);
  for (std::size_t i = 0; i < spans_.size(); ++i) latest_[width_ + i] = spans_[i].end;
  for (std::size_t i = width_ - 1; i > 0; --i) latest_[i] = std::max(latest_[2 * i], latest_[2 * i + 1]);
}

void FileMap::collect(std::size_t node, std::size_t first, std::size_t width, std::size_t before, std::int64_t begin,
                      std::vector<std::string>& paths) const {
  if (first >= before || latest_[node] <= begin) return;
  if (width == 1) {
    paths.push_back(spans_[first].path);
    return;
  }
  collect(2 * node, first, width / 2, before, begin, paths);
  collect(2 * node + 1, first + width / 2, width / 2, before, begin, paths);
}

std::vector<std::string> FileMap::hit_by(cd::Lba first, std::uint64_t count) const {
  const std::int64_t end = first + static_cast<std::int64_t>(count);
  const auto behind =
      std::lower_bound(spans_.begin(), spans_.end(), end, [](const Span& s, std::int64_t e) { return s.first < e; });
  std::vector<std::string> paths;
  collect(1, 0, width_, static_cast<std::size_t>(behind - spans_.begin()), first, paths);
  paths.erase(std::unique(paths.begin(), paths.end()), paths.end());
  return paths;
}

std::string files_text(const std::vector<std::string>& paths) {
  constexpr std::size_t kShown = 3;
  std::string text;
  for (std::size_t i = 0; i < std::min(kShown, paths.size()); ++i) text += (i > 0 ? ", " : "") + printable(paths[i]);
  if (paths.size() > kShown) text += fmt::format(" and {} more", paths.size() - kShown);
  return text;
}

}  // namespace opifex
