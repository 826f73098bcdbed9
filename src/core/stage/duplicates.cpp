#include "duplicates.hpp"

#include <algorithm>
#include <map>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/convert/extract.hpp"

#include "examiner.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

/// A few places of a file: equal ones are then compared.
std::string sample(const ByteSource& source) {
  constexpr std::size_t kPiece = 4 << 10;
  constexpr std::uint64_t kPlaces = 16;
  Digest digest("sha1");
  for (std::uint64_t n = 0; n <= kPlaces; ++n) {
    const std::uint64_t last = source.size() > kPiece ? source.size() - kPiece : 0;
    digest.update(read_up_to(source, last / kPlaces * n, kPiece));
  }
  return digest.finish();
}

/// The data files of an item, without the sheets that name them.
std::vector<fs::path> data_files(const SurveyItem& item) {
  std::vector<fs::path> files;
  std::copy_if(item.files.begin(), item.files.end(), std::back_inserter(files),
               [](const fs::path& f) { return !is_sheet_name(f); });
  return files;
}

/// All files of both, up to a size that is read in a moment; nothing beyond.
std::optional<bool> same_bytes(const SurveyItem& a, const SurveyItem& b, JobContext& context) {
  constexpr std::uint64_t kMost = 256 << 20;
  const std::vector<fs::path> x = data_files(a), y = data_files(b);
  if (x.size() != y.size()) return false;
  bool known = true;
  for (std::size_t i = 0; i < x.size(); ++i) {
    const SourcePtr left = open_file(x[i]), right = open_file(y[i]);
    if (left->size() != right->size()) return false;
    if (left->size() > kMost)
      known = false;
    else if (first_difference(*left, *right, context.progress))
      return false;
  }
  return known ? std::optional(true) : std::nullopt;
}

std::pair<fs::path, std::uint64_t> largest_file(const SurveyItem& item) {
  std::pair<fs::path, std::uint64_t> best{item.path, 0};
  for (const fs::path& f : item.files) {
    std::error_code ignored;
    const std::uint64_t size = fs::file_size(f, ignored);
    if (!ignored && size > best.second) best = {f, size};
  }
  return best;
}

}  // namespace

std::vector<Warning> find_duplicates(const Survey& survey, JobContext& context) {
  std::vector<Warning> problems;
  std::map<std::uint64_t, std::vector<const SurveyItem*>> by_size;
  for (const SurveyItem& i : survey.items)
    if (i.kind != SurveyKind::game_folder && i.kind != SurveyKind::broken && i.size_bytes > 0)
      by_size[largest_file(i).second].push_back(&i);
  for (const auto& [size, items] : by_size) {
    if (items.size() < 2) continue;
    std::map<std::string, const SurveyItem*> first;
    for (const SurveyItem* i : items) {
      context.progress.check_stop();
      const fs::path file = largest_file(*i).first;
      const auto [at, is_new] = first.try_emplace(sample(*open_file(file)), i);
      const auto same = is_new ? false : same_bytes(*i, *at->second, context);
      if (same && !*same) continue;
      problems.push_back({"duplicate",
                          fmt::format("{} {} {}", i->path.lexically_relative(survey.folder).string(),
                                      same ? "is a copy of" : "looks like a copy of",
                                      at->second->path.lexically_relative(survey.folder).string()),
                          same ? "" : "<job check> <same-as> proves it"});
    }
  }
  return problems;
}

}  // namespace opifex
