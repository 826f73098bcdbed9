#include "opifex/core/base/glob.hpp"

#include <span>
#include <vector>

#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

bool part_fits(std::string_view pattern, std::string_view name) {
  std::size_t p = 0, n = 0, star = std::string_view::npos, mark = 0;
  while (n < name.size()) {
    if (p < pattern.size() && pattern[p] == '*') {
      star = p++;
      mark = n;
    } else if (p < pattern.size() && (pattern[p] == '?' || pattern[p] == name[n])) {
      ++p;
      ++n;
    } else if (star != std::string_view::npos) {
      p = star + 1;
      n = ++mark;
    } else {
      return false;
    }
  }
  while (p < pattern.size() && pattern[p] == '*') ++p;
  return p == pattern.size();
}

std::vector<std::string_view> parts_of(std::string_view path) {
  std::vector<std::string_view> parts;
  for (std::size_t at = 0; at <= path.size();) {
    const std::size_t end = std::min(path.find('/', at), path.size());
    if (end > at) parts.push_back(path.substr(at, end - at));
    at = end + 1;
  }
  return parts;
}

bool parts_fit(std::span<const std::string_view> pattern, std::span<const std::string_view> path) {
  if (pattern.empty()) return true;  // all that is below
  if (pattern[0] == "**")
    for (std::size_t skip = 0; skip <= path.size(); ++skip)
      if (parts_fit(pattern.subspan(1), path.subspan(skip))) return true;
  return !path.empty() && part_fits(pattern[0], path[0]) && parts_fit(pattern.subspan(1), path.subspan(1));
}

}  // namespace

bool path_fits(std::string_view pattern, std::string_view path) {
  const std::string p = fold_case(pattern), s = fold_case(path);
  const auto pattern_parts = parts_of(p), path_parts = parts_of(s);
  return !pattern_parts.empty() && parts_fit(pattern_parts, path_parts);
}

}  // namespace opifex
