#include "opifex/core/volumes/kept_facts.hpp"

#include <charconv>
#include <sstream>

#include <toml++/toml.h>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex {

namespace fs = std::filesystem;

namespace {

[[noreturn]] void refuse_list(const fs::path& list, std::optional<std::uint32_t> line, std::string found) {
  throw Error({.code = "bad_list",
               .what = "the list of what the files had beside their bytes cannot be understood",
               .file = list.string(),
               .line = line,
               .found = std::move(found),
               .hint = "mend it, or move it away: the files go in without it then"});
}

std::string date_text_of(std::int64_t seconds, std::uint32_t hundredths) {
  const CivilTime t = civil_time(seconds);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02}:{:02}.{:02}", t.year, t.month, t.day, t.hour, t.minute, t.second,
                     hundredths);
}

/// "1991-03-14 15:09:26.50"; nothing if it is none.
std::optional<std::pair<std::int64_t, std::uint32_t>> parse_date(std::string_view text) {
  constexpr std::string_view kForm = "0000-00-00 00:00:00.00";
  if (text.size() != kForm.size()) return std::nullopt;
  for (std::size_t i = 0; i < text.size(); ++i)
    if (kForm[i] == '0' ? text[i] < '0' || text[i] > '9' : text[i] != kForm[i]) return std::nullopt;
  const auto number = [&](std::size_t at, std::size_t digits) {
    int n = 0;
    std::from_chars(text.data() + at, text.data() + at + digits, n);
    return n;
  };
  const auto seconds =
      seconds_of({number(0, 4), number(5, 2), number(8, 2), number(11, 2), number(14, 2), number(17, 2)});
  if (!seconds) return std::nullopt;
  return std::pair(*seconds, static_cast<std::uint32_t>(number(20, 2)));
}

KeptFile file_of(const toml::table& t, const fs::path& list) {
  KeptFile file;
  const auto line = static_cast<std::uint32_t>(t.source().begin.line);
  file.name = t["name"].value_or("");
  file.facts.comment = t["comment"].value_or("");
  const auto number = [&](const char* key) -> std::optional<std::uint32_t> {
    if (!t.contains(key)) return std::nullopt;
    const auto value = t[key].value<std::int64_t>();
    if (!value || *value < 0 || *value > UINT32_MAX) refuse_list(list, line, fmt::format("{} is no number", key));
    return static_cast<std::uint32_t>(*value);
  };
  file.facts.protection = number("protection");
  file.facts.id = number("id");
  file.facts.type = number("type");
  if (!t.contains("modified")) return file;
  const auto date = parse_date(t["modified"].value_or(""));
  if (!date) refuse_list(list, line, "modified is no date like 1991-03-14 15:09:26.50");
  file.facts.modified = date->first;
  file.facts.hundredths = date->second;
  return file;
}

}  // namespace

KeptFiles read_kept_facts(const fs::path& folder) {
  const fs::path list = folder / kKeptFactsName;
  std::error_code error;
  if (!fs::is_regular_file(list, error)) return {};
  constexpr std::size_t kMost = 16 << 20;
  const SourcePtr source = open_file(list);
  if (source->size() > kMost) refuse_list(list, {}, bytes_text(source->size()));
  const Bytes text = read_up_to(*source, 0, kMost);
  KeptFiles files;
  try {
    const toml::table root = toml::parse(as_text(text), list.string());
    const toml::array* all = root["file"].as_array();
    if (!all) refuse_list(list, {}, "no [[file]] in it");
    for (const toml::node& node : *all) {
      const toml::table* t = node.as_table();
      const std::string path = t ? (*t)["path"].value_or("") : "";
      if (path.empty())
        refuse_list(list, static_cast<std::uint32_t>(node.source().begin.line), "an entry without a path");
      files[path] = file_of(*t, list);
    }
  } catch (const toml::parse_error& e) {
    refuse_list(list, static_cast<std::uint32_t>(e.source().begin.line), printable(e.description()));
  }
  return files;
}

std::string kept_facts_text(const KeptFiles& files) {
  toml::array all;
  for (const auto& [path, file] : files) {
    toml::table t{{"path", path}};
    if (!file.name.empty()) t.insert("name", file.name);
    if (file.facts.protection) t.insert("protection", static_cast<std::int64_t>(*file.facts.protection));
    if (!file.facts.comment.empty()) t.insert("comment", file.facts.comment);
    if (file.facts.modified) t.insert("modified", date_text_of(*file.facts.modified, file.facts.hundredths));
    if (file.facts.id) t.insert("id", static_cast<std::int64_t>(*file.facts.id));
    if (file.facts.type) t.insert("type", static_cast<std::int64_t>(*file.facts.type));
    all.push_back(std::move(t));
  }
  std::ostringstream text;
  text << "# What these files had in their image beside their bytes: read when they are put into one again.\n"
       << toml::table{{"file", std::move(all)}} << "\n";
  return text.str();
}

std::optional<KeptFile> kept_of(const VolumeEntry& entry, const std::string& host_name) {
  if (!entry.facts) return std::nullopt;
  KeptFile file;
  const std::size_t slash = entry.path.rfind('/');
  const std::string name = slash == std::string::npos ? entry.path : entry.path.substr(slash + 1);
  // What stands in a save itself need not be kept beside it.
  if (name != host_name && entry.facts->header.empty()) file.name = name;
  file.facts.comment = entry.facts->comment;
  if (entry.facts->protection.value_or(0) != 0) file.facts.protection = entry.facts->protection;
  file.facts.id = entry.facts->id;
  file.facts.type = entry.facts->type;
  // Dates of folders change while files are put into them; and drives differ in what they keep of a second.
  if (entry.modified && (entry.facts->hundredths != 0 || entry.kind == EntryKind::folder)) {
    file.facts.modified = entry.modified;
    file.facts.hundredths = entry.facts->hundredths;
  }
  const KeptFacts& f = file.facts;
  const bool any = !file.name.empty() || !f.comment.empty() || f.protection || f.modified || f.id || f.type;
  return any ? std::optional(std::move(file)) : std::nullopt;
}

}  // namespace opifex
