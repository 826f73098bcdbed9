#include "ask_lists.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "known_collector.hpp"

namespace opifex::jobs {

AskedLists::AskedLists(const std::vector<std::string>& words, const std::filesystem::path& cache, Listener& listener,
                       JobContext& context) {
  if (words.empty()) return;
  lists_ = find_lists(words, cache, context);
  for (const RefusedList& refused : lists_.refused) listener.failed(Error(refused.why));
  if (lists_.lists.empty())
    throw Error({.code = "no_list", .what = "none of these lists can be read", .file = words.front()});
}

namespace {

std::string title_of(const KnownList& list) {
  const std::string name(list.header_text("name")), version(list.header_text("version"));
  return name.empty() || version.empty() ? name : fmt::format("{} ({})", name, version);
}

KnownAnswer answer_of(const KnownList& list, const KnownAs& as, const std::filesystem::path& image) {
  KnownAnswer answer{.list = list.file, .list_title = title_of(list), .verdict = as.verdict, .through = as.through};
  answer.by_crc = as.by_crc;
  answer.why = as.why;
  for (const NearTold& near : as.near) answer.why.push_back(near.message);
  if (as.set) answer.set = std::string(list.name(list.sets[*as.set]));
  answer.other_name = !answer.set.empty() && is_known(as.verdict) &&
                      (as.verdict == KnownVerdict::renamed || image.stem().string() != answer.set);
  return answer;
}

}  // namespace

std::vector<KnownAnswer> AskedLists::ask(const std::filesystem::path& image, JobContext& context) const {
  KnownCollector collector(lists_);
  CheckOptions options;
  collector.prepare(options, false);
  const Source source{{image, {}}, image.string()};
  const Image opened = open_source(source.input);
  collector.add_image(source, opened, check_image(opened, options, context));
  const KnownCollector::Known known = collector.finish(context);
  std::vector<KnownAnswer> answers;
  for (const KnownAs& as : known.images.front().as) answers.push_back(answer_of(*lists_.lists[as.list], as, image));
  return answers;
}

bool is_known(const std::vector<KnownAnswer>& answers) {
  return std::any_of(answers.begin(), answers.end(), [](const KnownAnswer& a) { return is_known(a.verdict); });
}

}  // namespace opifex::jobs
