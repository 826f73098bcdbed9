#include "disc_sets.hpp"

#include <algorithm>
#include <map>
#include <set>

#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

}  // namespace

std::optional<DiscName> disc_in(const std::string& stem) {
  const std::string folded = fold_case(stem);
  for (const std::string_view word : {"disc", "disk", "cd"}) {
    for (std::size_t at = folded.find(word); at != std::string::npos; at = folded.find(word, at + 1)) {
      const bool begins = at == 0 || std::string_view(" ([-_").find(folded[at - 1]) != std::string_view::npos;
      std::size_t digit = at + word.size();
      while (digit < folded.size() && (folded[digit] == ' ' || folded[digit] == '_')) ++digit;
      if (!begins || digit >= folded.size() || folded[digit] < '1' || folded[digit] > '9') continue;
      std::size_t end = digit + 1;
      if (end < folded.size() && folded[end] >= '0' && folded[end] <= '9') continue;  // no game has ten discs
      end = std::min(folded.find_first_of(")]", end), folded.size());
      std::string rest = folded.substr(0, at) + (end < folded.size() ? folded.substr(end + 1) : "");
      while (!rest.empty() && std::string_view(" ([-_").find(rest.back()) != std::string_view::npos) rest.pop_back();
      return DiscName{rest, folded[digit] - '0'};
    }
  }
  return std::nullopt;
}

void join_discs(Survey& survey) {
  std::map<std::string, std::vector<SurveyItem*>> sets;
  for (SurveyItem& i : survey.items) {
    if (i.kind != SurveyKind::image && i.kind != SurveyKind::archive) continue;
    const auto name = disc_in(i.path.stem().string());
    if (!name) continue;
    i.disc = name->number;
    sets[(i.path.parent_path() / name->rest).string()].push_back(&i);
  }
  for (auto& [key, items] : sets) {
    std::set<int> numbers;
    for (const SurveyItem* i : items) numbers.insert(i->disc);
    for (int n = 1; n < *numbers.rbegin(); ++n)
      if (!numbers.contains(n))
        survey.problems.push_back(
            {"missing_disc", fmt::format("disc {} is missing beside {}", n,
                                         items.front()->path.lexically_relative(survey.folder).string())});
    if (items.size() < 2) continue;
    for (SurveyItem* i : items) i->set = fs::path(key).filename().string();
  }
}

}  // namespace opifex
