/// What the fuzz targets of known lists do with one that was read.
#pragma once

#include <cstdlib>

#include "opifex/core/lists/match.hpp"

namespace opifex::fuzz {

/// A collection of just what the first entries ask for: none of these may be missing.
inline void use_list(const KnownList& list) {
  constexpr std::size_t kMost = 50;
  Collection all;
  all.units = {"unit"};
  std::size_t wanted = 0;
  for (const ListedEntry& e : list.entries.first(std::min(kMost, list.entries.size()))) {
    if (e.hashes == 0 || e.status == ListedStatus::no_dump) continue;
    CollectedFile file{.path = std::to_string(wanted++), .base = std::string(listed_base(list.name(e)))};
    ListedView view{.kind = e.kind, .size_bytes = e.size_bytes == kUnknownSize ? 1 : e.size_bytes};
    for (const ListHash h : kListHashes) view.hashes.push_back({std::string(to_string(h)), list.hash(e, h)});
    file.views.push_back(view);
    all.files.push_back(file);
  }
  const ListMatch found = match(list, all);
  std::uint64_t sets = 0;
  for (const auto& [verdict, count] : found.totals) sets += count;
  if (sets != list.sets.size()) std::abort();
  for (const FileMatch& file : found.files)
    if (file.verdict == FileVerdict::unknown || file.verdict == FileVerdict::bad) std::abort();
  for (std::uint32_t s = 0; s < std::min<std::size_t>(kMost, list.sets.size()); ++s) absent_set(list, s);
}

}  // namespace opifex::fuzz
