#include "opifex/core/check/file_map.hpp"

#include <algorithm>

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
  for (const Volume& v : volumes)
    for (const VolumeEntry& e : v.entries)
      for (const VolumeExtent& x : e.extents) {
        if (x.size_bytes == 0 || !x.recorded || e.kind == EntryKind::audio) continue;
        const std::int64_t first = static_cast<std::int64_t>(x.sector) + v.shift;
        spans_.push_back({first, first + static_cast<std::int64_t>(x.sectors()), e.path});
      }
  std::stable_sort(spans_.begin(), spans_.end(), [](const Span& a, const Span& b) { return a.first < b.first; });
  std::int64_t reach = INT64_MIN;
  for (const Span& s : spans_) reaches_.push_back(reach = std::max(reach, s.end));
}

std::vector<std::string> FileMap::hit_by(cd::Lba first, std::uint64_t count) const {
  const std::int64_t end = first + static_cast<std::int64_t>(count);
  auto at =
      std::lower_bound(spans_.begin(), spans_.end(), end, [](const Span& s, std::int64_t e) { return s.first < e; });
  std::vector<std::string> paths;
  while (at != spans_.begin()) {
    --at;
    if (reaches_[static_cast<std::size_t>(at - spans_.begin())] <= first) break;
    if (at->end > first) paths.push_back(at->path);
  }
  std::reverse(paths.begin(), paths.end());
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
