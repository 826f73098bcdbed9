#include "opifex/report/known.hpp"

#include <algorithm>

#include <fmt/ranges.h>

#include "opifex/core/base/text.hpp"
#include "opifex/report/table.hpp"
#include "opifex/report/terminal.hpp"
#include "opifex/report/words.hpp"

namespace opifex::report {
namespace {

Json or_null(const std::string& text) { return text.empty() ? Json() : Json(text); }

using jobs::KnownAs;
using jobs::KnownVerdict;

std::string text_or(std::string_view text, std::string_view other) { return std::string(text.empty() ? other : text); }

std::string title_of(const KnownList& list) {
  const std::string version(list.header_text("version"));
  const std::string name = text_or(list.header_text("name"), std::filesystem::path(list.file).filename().string());
  return version.empty() ? name : fmt::format("{} ({})", name, version);
}

Json entry_json(const KnownList& list, const ListedEntry& e) {
  Json json = {{"name", list.name(e)},
               {"kind", to_string(e.kind)},
               {"size_bytes", e.size_bytes == kUnknownSize ? Json() : Json(e.size_bytes)},
               {"status", to_string(e.status)},
               {"serial", or_null(std::string(list.text(e.serial)))}};
  for (const ListHash h : kListHashes) json[std::string(to_string(h))] = or_null(list.hash(e, h));
  return json;
}

Json set_json(const KnownList& list, const SetMatch& set) {
  Json entries = Json::array();
  const auto listed = list.entries_of(list.sets[set.set]);
  for (std::size_t i = 0; i < set.entries.size(); ++i) {
    const EntryMatch& m = set.entries[i];
    entries.push_back({{"name", list.name(listed[i])},
                       {"state", to_string(m.state)},
                       {"file", or_null(m.file)},
                       {"reason", or_null(std::string(to_string(m.reason)))},
                       {"known_bad", m.known_bad},
                       {"also_at", or_null(m.also_at)}});
  }
  return {{"name", list.name(list.sets[set.set])},
          {"verdict", to_string(set.verdict)},
          {"flags", set.flags},
          {"extra", set.extra},
          {"entries", entries}};
}

Json totals_json(const ListMatch& match) {
  Json totals = Json::object();
  for (const auto& [verdict, count] : match.totals) totals[std::string(to_string(verdict))] = count;
  return totals;
}

Json file_json(const KnownList& list, const CollectedFile& file, const FileMatch& m) {
  return {{"path", file.path},
          {"verdict", to_string(m.verdict)},
          {"set", m.set ? Json(list.name(list.sets[*m.set])) : Json()},
          {"entry", m.entry ? Json(list.name(list.entries[*m.entry])) : Json()},
          {"expected_name", or_null(m.expected_name)},
          {"reason", or_null(std::string(to_string(m.reason)))},
          {"through", or_null(m.through)},
          {"by", or_null(m.by)}};
}

Json problems_json(const KnownList& list) {
  Json problems = Json::array();
  for (const ListProblem& p : list.problems)
    problems.push_back({{"code", p.code}, {"line", p.line}, {"message", p.message}});
  return problems;
}

Json near_json(const KnownAs& as, const KnownList& list) {
  Json near = Json::array();
  for (const jobs::NearTold& told : as.near)
    near.push_back({{"kind", to_string(told.miss.kind)},
                    {"track", told.track == 0 ? Json() : Json(told.track)},
                    {"entry", list.name(list.entries[told.miss.entry])},
                    {"amount", told.miss.amount},
                    {"filler", or_null(told.miss.filler)},
                    {"proof", told.miss.proof},
                    {"message", told.message}});
  return near;
}

Json as_json(const KnownAs& as, const jobs::KnownTold& told) {
  const KnownList& list = *told.lists[as.list];
  return {{"verdict", to_string(as.verdict)},
          {"list", list.file},
          {"set", as.set ? Json(list.name(list.sets[*as.set])) : Json()},
          {"through", or_null(as.through)},
          {"by_crc", as.by_crc},
          {"why", as.why},
          {"near", near_json(as, list)},
          {"tried", as.tried}};
}

std::string verdict_words(KnownVerdict verdict, const std::string& set) {
  switch (verdict) {
    case KnownVerdict::known:
      return "known and complete: " + set;
    case KnownVerdict::renamed:
      return "known and complete, called otherwise: the list has it as " + set;
    case KnownVerdict::extra:
      return "known and complete, with something beside it that is not listed: " + set;
    case KnownVerdict::duplicate:
      return "known: another file here holds the same";
    case KnownVerdict::known_bad:
      return "known as a bad dump, the list says so itself: " + set;
    case KnownVerdict::part_missing:
      return "known in part, the rest is missing: " + set;
    case KnownVerdict::differs:
      return "near to a known one, and not the same: " + set;
    case KnownVerdict::not_comparable:
      return "not comparable with lists of whole dumps";
    case KnownVerdict::not_known:
      return "not known";
  }
  return "";
}

/// What is missing, what differs, what it is but for something, and what was tried in vain.
std::string why_lines(const KnownAs& as, const std::string& indent) {
  std::string text;
  for (const std::string& why : as.why) text += fmt::format("{}{}\n", indent, why);
  for (const jobs::NearTold& near : as.near)
    text += fmt::format("{}{} (by {})\n", indent, near.message, near.miss.proof);
  if (as.near.empty())
    for (const std::string& tried : as.tried) text += fmt::format("{}compared in vain: {}\n", indent, tried);
  return text;
}

std::string one_image_text(const jobs::KnownImage& image, const jobs::KnownTold& told) {
  std::string text;
  for (const KnownAs& as : image.as) {
    const KnownList& list = *told.lists[as.list];
    Facts facts;
    facts.add("List", title_of(list));
    facts.add("Verdict", verdict_words(as.verdict, as.set ? printable(list.name(list.sets[*as.set])) : ""));
    if (!as.through.empty()) facts.add("Compared", as.through);
    if (as.by_crc) facts.add("Proof", "by CRC-32 alone: the list has nothing better");
    text += facts.text();
    text += why_lines(as, "    ");
  }
  return text;
}

std::string flags_words(const SetMatch& set) {
  std::string words;
  const auto add = [&](std::string_view word) { words += (words.empty() ? "" : ", ") + std::string(word); };
  for (const std::string& flag : set.flags) {
    if (flag == "renamed") add("called otherwise");
    if (flag == "known_bad") add("the list says it is a bad dump");
    if (flag == "has_nodump") add("part of it was never dumped");
    if (flag == "extra") add("something beside it is not listed");
    if (flag == "cue_equivalent") add("the sheet says the same in other words");
    if (flag == "cue_differs") add("the sheet differs");
    if (flag == "cue_missing") add("without its sheet");
    if (flag == "layout_split") add("its tracks lie in one file");
    if (flag == "layout_merge") add("its one bin lies in several files");
  }
  return words;
}

/// Paths as they are below the folder that was asked for: all of them begin with it.
std::string below(const std::string& folder, const std::string& path) {
  const std::string root = folder.ends_with('/') ? folder : folder + "/";
  return printable(!folder.empty() && path.starts_with(root) ? path.substr(root.size()) : path);
}

/// Entries that are not as they should be, a line each.
std::string entry_lines(const KnownList& list, const SetMatch& set, const std::string& folder) {
  std::string text;
  const auto listed = list.entries_of(list.sets[set.set]);
  for (std::size_t i = 0; i < set.entries.size(); ++i) {
    const EntryMatch& m = set.entries[i];
    if (m.state == EntryState::good || m.state == EntryState::equivalent || m.state == EntryState::nodump) continue;
    const std::string name = printable(list.name(listed[i]));
    if (m.state == EntryState::renamed)
      text += fmt::format("      renamed   {}  is here as {}\n", name, below(folder, m.file));
    else if (m.state == EntryState::bad)
      text += fmt::format("      bad       {}  ({})\n", below(folder, m.file),
                          m.reason == BadReason::size            ? "another size"
                          : m.reason == BadReason::other_content ? "it holds what another entry should"
                          : m.reason == BadReason::unreadable    ? "it cannot be read"
                                                                 : "the right size, other content");
    else if (m.state == EntryState::missing)
      text += fmt::format("      missing   {}{}\n", name,
                          m.also_at.empty() ? "" : "  (the same content: " + below(folder, m.also_at) + ")");
    else
      text += fmt::format("      {:<9} {}\n", to_string(m.state), name);
  }
  for (const std::string& extra : set.extra) text += fmt::format("      extra     {}\n", below(folder, extra));
  return text;
}

std::string totals_words(const ListMatch& match) {
  std::vector<std::string> words;
  for (const auto& [verdict, count] : match.totals)
    words.push_back(fmt::format("{} {}", grouped(count), to_string(verdict)));
  return fmt::format("{}", fmt::join(words, ", "));
}

/// Of images that the list does not know: what they would be, but for something.
std::string closer_text(const jobs::KnownTold& told, std::size_t number) {
  std::string text;
  for (const jobs::KnownImage& image : told.images) {
    const KnownAs& as = image.as[number];
    if (as.near.empty()) continue;
    text += fmt::format("  near      {}\n", below(told.folder, image.name));
    for (const std::string& why : as.why) text += fmt::format("      {}\n", why);
    for (const jobs::NearTold& near : as.near) text += fmt::format("      {} (by {})\n", near.message, near.miss.proof);
  }
  return text;
}

std::string collection_text(const jobs::KnownTold& told, std::size_t number) {
  const KnownList& list = *told.lists[number];
  const ListMatch& match = told.matches[number];
  std::string text = fmt::format("{}: {}\n", printable(title_of(list)), totals_words(match));
  for (const SetMatch& set : match.sets) {
    const std::string flags = flags_words(set);
    text += fmt::format("  {} {}{}\n", state_text(to_string(set.verdict), 9), printable(list.name(list.sets[set.set])),
                        flags.empty() ? "" : "  (" + flags + ")");
    text += entry_lines(list, set, told.folder);
  }
  text += closer_text(told, number);
  std::size_t unknown = 0;
  constexpr std::size_t kShown = 20;
  for (std::size_t f = 0; f < match.files.size(); ++f) {
    const FileMatch& m = match.files[f];
    if (m.verdict == FileVerdict::duplicate)
      text += fmt::format("  duplicate {}  (what {} holds)\n", below(told.folder, told.collection.files[f].path),
                          printable(list.name(list.entries[*m.entry])));
    if (m.verdict == FileVerdict::not_comparable)
      text += fmt::format("  not comparable {}  ({})\n", below(told.folder, told.collection.files[f].path),
                          told.collection.files[f].not_comparable);
    if (m.verdict != FileVerdict::unknown) continue;
    if (++unknown <= kShown) text += fmt::format("  unknown   {}\n", below(told.folder, told.collection.files[f].path));
  }
  if (unknown > kShown) text += fmt::format("  ... and {} more that it does not know\n", grouped(unknown - kShown));
  return text;
}

}  // namespace

Json known_json(const jobs::KnownImage& image, const jobs::KnownTold& told) {
  if (image.as.empty()) return nullptr;
  Json json = as_json(image.best, told);
  json["lists"] = Json::array();
  for (const KnownAs& as : image.as) json["lists"].push_back(as_json(as, told));
  return json;
}

Json lists_known_json(const jobs::KnownTold& told) {
  Json lists = Json::array();
  for (std::size_t i = 0; i < told.lists.size(); ++i) {
    const KnownList& list = *told.lists[i];
    const ListMatch& match = told.matches[i];
    Json sets = Json::array(), files = Json::array();
    for (const SetMatch& set : match.sets) sets.push_back(set_json(list, set));
    for (std::size_t f = 0; f < match.files.size(); ++f)
      files.push_back(file_json(list, told.collection.files[f], match.files[f]));
    lists.push_back({{"list", list.file},
                     {"name", or_null(std::string(list.header_text("name")))},
                     {"version", or_null(std::string(list.header_text("version")))},
                     {"totals", totals_json(match)},
                     {"sets", sets},
                     {"files", files},
                     {"problems", problems_json(list)}});
  }
  return lists;
}

std::string known_text(const jobs::KnownTold& told) {
  if (told.one_image && told.images.size() == 1) return one_image_text(told.images.front(), told);
  std::string text;
  for (std::size_t i = 0; i < told.lists.size(); ++i) text += (i > 0 ? "\n" : "") + collection_text(told, i);
  return text;
}

Json answers_json(const std::vector<jobs::KnownAnswer>* answers) {
  if (!answers) return nullptr;
  Json all = Json::array();
  for (const jobs::KnownAnswer& a : *answers)
    all.push_back({{"list", a.list},
                   {"verdict", to_string(a.verdict)},
                   {"set", or_null(a.set)},
                   {"through", or_null(a.through)},
                   {"by_crc", a.by_crc},
                   {"why", a.why}});
  return all;
}

std::string answers_text(const std::vector<jobs::KnownAnswer>* answers, const std::string& image) {
  std::string text;
  if (!answers) return text;
  for (const jobs::KnownAnswer& a : *answers) {
    const auto add = [&](std::string_view label, const std::string& words) {
      text += fmt::format("  {:<11} {}\n", label, words);
    };
    add("List", printable(text_or(a.list_title, a.list)));
    add("", verdict_words(a.verdict, printable(a.set)) + (a.by_crc ? " (by CRC-32 alone)" : ""));
    for (const std::string& why : a.why) add("", "  " + why);
    if (a.other_name)
      add("", fmt::format("the list's name for it: opifex rename '{}' --by '{}'", printable(image), printable(a.list)));
  }
  return text;
}

Json list_json(const jobs::ListTold& told) {
  const KnownList& list = told.list;
  Json header = Json::object(), sets = Json::array();
  for (const auto& [key, value] : list.header) header[key] = value;
  for (const std::uint32_t s : told.shown) {
    const ListedSet& set = list.sets[s];
    Json one = Json::object(), entries = Json::array();
    for (std::size_t i = 0; i < kSetFields; ++i)
      one[std::string(to_string(static_cast<SetField>(i)))] =
          or_null(std::string(list.text(set, static_cast<SetField>(i))));
    for (const ListedEntry& e : list.entries_of(set)) entries.push_back(entry_json(list, e));
    one["entries"] = entries;
    sets.push_back(one);
  }
  return {{"path", list.file},
          {"kind", to_string(list.kind)},
          {"header", header},
          {"sets", list.sets.size()},
          {"entries", list.entries.size()},
          {"total_bytes", list.totals.bytes},
          {"shown", sets},
          {"problems", problems_json(list)},
          {"more_problems", list.more_problems}};
}

namespace {

std::string kind_words(ListKind kind) {
  switch (kind) {
    case ListKind::xml:
      return "XML datafile";
    case ListKind::text:
      return "older form, in parentheses";
    case ListKind::bsd:
      return "checksum list, BSD lines";
    case ListKind::mixed:
      return "checksum list of several kinds";
    case ListKind::sfv:
      return "checksum list, SFV";
    default:
      return fmt::format("checksum list, {}", to_string(kind));
  }
}

std::string hashes_words(const KnownList& list) {
  std::vector<std::string_view> words;
  for (const ListHash h : kListHashes)
    if ((list.algorithms & bit(h)) != 0) words.push_back(to_string(h));
  return fmt::format("{}", fmt::join(words, ", "));
}

std::string shown_set(const KnownList& list, const ListedSet& set) {
  std::string text = fmt::format("\n  {}\n", printable(list.name(set)));
  Table table({{"Entry"}, {"Size", Align::right}, {"CRC-32"}, {"SHA-1"}, state_column("Status")});
  for (const ListedEntry& e : list.entries_of(set))
    table.add({std::string(list.name(e)), e.size_bytes == kUnknownSize ? "-" : grouped(e.size_bytes),
               list.hash(e, ListHash::crc32), list.hash(e, ListHash::sha1), std::string(to_string(e.status))});
  return text + table.text("    ");
}

}  // namespace

std::string list_text(const jobs::ListTold& told) {
  const KnownList& list = told.list;
  std::string text = printable(list.file) + "\n";
  Facts facts;
  facts.add("Kind", kind_words(list.kind));
  for (const auto& [label, key] :
       {std::pair{"Name", "name"}, std::pair{"Version", "version"}, std::pair{"Author", "author"},
        std::pair{"Date", "date"}, std::pair{"Homepage", "homepage"}})
    facts.add(label, std::string(list.header_text(key)));
  if (list.header_text("description") != list.header_text("name"))
    facts.add("Description", std::string(list.header_text("description")));
  facts.add("Sets", grouped(list.sets.size()));
  facts.add("Entries", grouped(list.entries.size()));
  if (list.totals.bytes > 0) facts.add("Size", bytes_text(list.totals.bytes));
  facts.add("Hashes", hashes_words(list));
  if (list.totals.bad_dumps > 0) facts.add("Bad dumps", grouped(list.totals.bad_dumps));
  if (list.totals.no_dumps > 0) facts.add("Not dumped", grouped(list.totals.no_dumps));
  facts.add("Faults", list.problems.empty() ? "none" : grouped(list.problems.size() + list.more_problems));
  text += facts.text();
  constexpr std::size_t kShown = 20;
  for (std::size_t i = 0; i < list.problems.size() && i < kShown; ++i)
    text += fmt::format("    line {:<6} {} [{}]\n", list.problems[i].line, printable(list.problems[i].message),
                        list.problems[i].code);
  if (list.problems.size() + list.more_problems > kShown)
    text += fmt::format("    ... and {} more\n", grouped(list.problems.size() + list.more_problems - kShown));
  for (const std::uint32_t s : told.shown) text += shown_set(list, list.sets[s]);
  return text;
}

namespace {

/// Sets that are not whole, those of which nothing is there as well, in the order of the list.
template <typename Visit>
void visit_missing(const jobs::MissingTold& told, const Visit& visit) {
  auto there = told.match.sets.begin();
  for (std::uint32_t s = 0; s < told.list.sets.size(); ++s) {
    const bool touched = there != told.match.sets.end() && there->set == s;
    const SetMatch set = touched ? *there++ : absent_set(told.list, s);
    if (set.verdict != SetVerdict::complete && set.verdict != SetVerdict::unverifiable) visit(set);
  }
}

}  // namespace

Json missing_json(const jobs::MissingTold& told) {
  Json sets = Json::array();
  visit_missing(told, [&](const SetMatch& set) { sets.push_back(set_json(told.list, set)); });
  return {{"list", told.list.file}, {"folder", told.folder}, {"totals", totals_json(told.match)}, {"missing", sets}};
}

std::string missing_text(const jobs::MissingTold& told) {
  std::string text =
      fmt::format("{} in {}: {}\n", printable(title_of(told.list)), printable(told.folder), totals_words(told.match));
  visit_missing(told, [&](const SetMatch& set) {
    text += fmt::format("  {} {}\n", state_text(to_string(set.verdict), 9),
                        printable(told.list.name(told.list.sets[set.set])));
    if (set.verdict != SetVerdict::absent) text += entry_lines(told.list, set, told.folder);
  });
  return text;
}

Json list_made_json(const jobs::ListMade& made) {
  Json outputs = Json::array();
  outputs.push_back({{"path", made.out.string()}, {"size_bytes", made.size_bytes}});
  return {{"outputs", outputs}, {"sets", made.sets}, {"entries", made.entries}, {"planned_only", made.planned_only}};
}

std::string list_made_text(const jobs::ListMade& made) {
  return fmt::format("{} {}  {}, {}, {}\n", made.planned_only ? "would write" : "wrote", printable(made.out.string()),
                     plural(made.sets, "set"), made.entries == 1 ? "1 entry" : grouped(made.entries) + " entries",
                     human_size(made.size_bytes));
}

}  // namespace opifex::report
