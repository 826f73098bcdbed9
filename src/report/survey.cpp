#include "opifex/report/survey.hpp"

#include <algorithm>
#include <map>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/report/table.hpp"
#include "opifex/report/text.hpp"
#include "opifex/report/words.hpp"

namespace opifex::report {
namespace {

std::string relative(const Survey& survey, const std::filesystem::path& path) {
  return path.lexically_relative(survey.folder).generic_string();
}

/// "12 images, 2 archives, 1 game folder"
std::string counts(const Survey& survey) {
  std::map<SurveyKind, std::size_t> kinds;
  for (const SurveyItem& i : survey.items) ++kinds[i.kind];
  std::string text;
  for (const auto& [kind, n] : kinds)
    text += fmt::format("{}{} {}{}", text.empty() ? "" : ", ", grouped(n), to_string(kind),
                        n == 1 || kind == SurveyKind::broken ? "" : "s");
  return text.empty() ? "no games" : text;
}

std::string disc_text(const Survey& survey, const SurveyItem& item) {
  if (item.set.empty()) return item.id.disc;
  const auto n = std::count_if(survey.items.begin(), survey.items.end(), [&](const SurveyItem& o) {
    return o.set == item.set && o.path.parent_path() == item.path.parent_path();
  });
  // Disc 3 beside disc 1: there are three, whatever lies here.
  int last = static_cast<int>(n);
  for (const SurveyItem& o : survey.items)
    if (o.set == item.set && o.path.parent_path() == item.path.parent_path()) last = std::max(last, o.disc);
  return fmt::format("{} of {}", item.disc, last);
}

std::string state_text(const SurveyItem& item) {
  if (!item.complete) return "INCOMPLETE";
  if (item.id.scrubbed.value_or(false)) return item.id.state == "full" ? "scrubbed" : item.id.state + ", scrubbed";
  return item.id.state == "full" ? "" : item.id.state;
}

std::string format_text(const SurveyItem& item) {
  const std::string format = item.format.empty() ? std::string(to_string(item.kind)) : item.format;
  if (item.package && !item.id.category.empty()) return format + ", " + item.id.category;
  return item.parts > 1 ? fmt::format("{}, {} parts", format, item.parts) : format;
}

std::string size_text(std::uint64_t bytes) {
  constexpr std::uint64_t kKilo = 1024;
  return bytes < kKilo ? fmt::format("{} bytes", bytes)
                       : fmt::format("{} ({} bytes)", human_size(bytes), grouped(bytes));
}

std::string fact(const char* label, const std::string& value) {
  Facts facts;
  facts.add(label, value);
  return facts.text();
}

}  // namespace

Json survey_json(const Survey& survey) {
  Json items = Json::array(), problems = Json::array();
  for (const SurveyItem& i : survey.items) {
    Json files = Json::array(), warnings = Json::array();
    for (const auto& f : i.files) files.push_back(f.string());
    for (const Warning& w : i.warnings) warnings.push_back({{"code", w.code}, {"message", warning_text(w)}});
    items.push_back({{"path", i.path.string()},
                     {"kind", to_string(i.kind)},
                     {"format", i.format.empty() ? Json() : Json(i.format)},
                     {"platform", i.id.platform.empty() ? Json() : Json(i.id.platform)},
                     {"serial", i.id.serial.empty() ? Json() : Json(i.id.serial)},
                     {"title", i.id.title.empty() ? Json() : Json(i.id.title)},
                     {"region", i.id.region.empty() ? Json() : Json(i.id.region)},
                     {"category", i.id.category.empty() ? Json() : Json(i.id.category)},
                     {"disc", i.set.empty() && i.id.disc.empty() ? Json() : Json(disc_text(survey, i))},
                     {"set", i.set.empty() ? Json() : Json(i.set)},
                     {"state", i.id.state.empty() ? Json() : Json(i.id.state)},
                     {"size_bytes", i.size_bytes},
                     {"parts", i.parts},
                     {"complete", i.complete},
                     {"files", files},
                     {"warnings", warnings}});
  }
  for (const Warning& w : survey.problems) problems.push_back({{"code", w.code}, {"message", warning_text(w)}});
  const bool complete =
      std::all_of(survey.items.begin(), survey.items.end(), [](const SurveyItem& i) { return i.complete; });
  return {{"path", survey.folder.string()},
          {"format", "folder"},
          {"platform", nullptr},
          {"complete", complete},
          {"confidence", nullptr},
          {"drive", {{"file_system", survey.drive.file_system}, {"free_bytes", survey.drive.free_bytes}}},
          {"games", items},
          {"total_bytes", survey.total_bytes},
          {"other_files", survey.other_files},
          {"warnings", problems}};
}

std::string survey_text(const Survey& survey) {
  std::string text = printable(survey.folder.string()) + "\n";
  text += fact("Drive", fmt::format("{}, {} free", survey.drive.file_system, human_size(survey.drive.free_bytes)));
  text += fact("Holds", fmt::format("{}, {}", counts(survey), human_size(survey.total_bytes)));
  if (survey.other_files > 0) text += fact("Besides", plural(survey.other_files, "other file"));
  if (!survey.items.empty()) {
    Table table({{"Platform"},
                 {"Serial"},
                 path_column("Title"),
                 {"Disc"},
                 {"Format"},
                 {"Size", Align::right},
                 state_column("State"),
                 path_column("Path")});
    for (const SurveyItem& i : survey.items) {
      const bool image = i.kind == SurveyKind::image;
      table.add({i.id.platform.empty() && !image ? "-" : short_platform_name(i.id.platform), i.id.serial, i.id.title,
                 disc_text(survey, i), format_text(i), human_size(i.size_bytes), state_text(i),
                 relative(survey, i.path)});
    }
    text += "\n" + table.text("  ");
  }
  std::string warnings;
  for (const SurveyItem& i : survey.items)
    for (const Warning& w : i.warnings)
      warnings +=
          fmt::format("  {}: {} [{}]\n", printable(relative(survey, i.path)), printable(warning_text(w)), w.code);
  for (const Warning& w : survey.problems) warnings += fmt::format("  {} [{}]\n", printable(warning_text(w)), w.code);
  return text + (warnings.empty() ? "" : "\n  To look at:\n" + warnings);
}

Json listing_json(const std::string& path, const ImageListing& listing) {
  Json discs = Json::array(), warnings = Json::array();
  for (const ImageListing::Item& d : listing.images)
    discs.push_back({{"slot", d.slot},
                     {"serial", d.id},
                     {"title", d.title},
                     {"size_bytes", d.size_bytes},
                     {"stored_bytes", d.stored_bytes}});
  for (const Warning& w : listing.warnings) warnings.push_back({{"code", w.code}, {"message", warning_text(w)}});
  return {{"path", path},
          {"format", listing.format},
          {"platform", listing.platform},
          {"complete", true},
          {"confidence", "certain"},
          {"block_bytes", listing.block_bytes},
          {"blocks", listing.blocks},
          {"discs", discs},
          {"warnings", warnings}};
}

std::string listing_text(const std::string& path, const ImageListing& listing) {
  std::uint64_t stored = 0;
  Table table(
      {{"Slot", Align::right}, {"Serial"}, path_column("Title"), {"Stored", Align::right}, {"Disc", Align::right}});
  for (const ImageListing::Item& d : listing.images) {
    table.add({fmt::format("{}", d.slot), d.id, d.title, human_size(d.stored_bytes), human_size(d.size_bytes)});
    stored += d.stored_bytes;
  }
  std::string text = printable(path) + "\n" + fact("Format", "a container of many Wii discs (WBFS)");
  text += fact("Holds", fmt::format("{} discs, {} of {} in blocks of {}", listing.images.size(), human_size(stored),
                                    human_size(listing.blocks * listing.block_bytes), human_size(listing.block_bytes)));
  text += "\n" + table.text("  ");
  for (const Warning& w : listing.warnings)
    text += fmt::format("  warning     {} [{}]\n", printable(warning_text(w)), w.code);
  return text + "\n  To work with one of them: --pick SERIAL\n";
}

Json other_json(const std::string& path, const NonImage& other) {
  Json splits = Json::array();
  for (const auto& s : other.split_files)
    splits.push_back({{"path", s.path}, {"parts", s.parts}, {"size_bytes", s.size_bytes}, {"complete", s.complete}});
  const auto text = [](const std::string& s) { return s.empty() ? Json() : Json(s); };
  const bool complete = other.size_check != "short" && std::all_of(other.split_files.begin(), other.split_files.end(),
                                                                   [](const auto& s) { return s.complete; });
  return {{"path", path},
          {"format", other.what},
          {"platform", text(other.id.platform)},
          {"title", text(other.id.title)},
          {"serial", text(other.id.serial)},
          {"content_id", text(other.content_id)},
          {"region", text(other.id.region)},
          {"version", text(other.id.version)},
          {"category", text(other.id.category)},
          {"size_bytes", other.size_bytes},
          {"told_bytes", other.told_bytes ? Json(*other.told_bytes) : Json()},
          {"complete", complete},
          {"confidence", text(other.id.confidence)},
          {"evidence", other.id.evidence},
          {"split_files", splits},
          {"warnings", Json::array()}};
}

std::string other_text(const std::string& path, const NonImage& other) {
  static const std::map<std::string, std::string> names = {
      {"package", "package, not opened"}, {"audio", "bare audio: no sheet says so"},
      {"metadata", "PARAM.SFO"},          {"container", "container, not opened yet"},
      {"drive", "image of a drive"},      {"folder", "folder of one game"}};
  std::string text = printable(path) + "\n" + fact("Format", names.at(other.what));
  text += fact(other.what == "drive" ? "Holds" : "Platform",
               other.id.platform == "sfo" ? "" : platform_name(other.id.platform));
  if (other.what == "container") text += fact("Known by", other.id.evidence.front());
  text += fact("Serial", other.id.serial) + fact("Title", other.id.title) + fact("Region", other.id.region);
  text +=
      fact("Version", other.id.version) + fact("Category", other.id.category) + fact("Content id", other.content_id);
  text += fact("Size", size_text(other.size_bytes));
  if (other.size_check == "short")
    text += fact("Complete", fmt::format("NO: its header says {} bytes; cut off, or one part of several",
                                         grouped(*other.told_bytes)));
  else if (other.size_check == "exact")
    text += fact("Complete", "yes");
  for (const auto& s : other.split_files)
    text += fact("Split file", fmt::format("{}, {} part{}, {}{}", s.path, s.parts, s.parts == 1 ? "" : "s",
                                           human_size(s.size_bytes), s.complete ? "" : ": PARTS ARE MISSING"));
  return text;
}

Json unknown_json(const std::string& path, const ErrorDetails& why) {
  return {{"path", path},          {"format", nullptr},
          {"platform", nullptr},   {"complete", nullptr},
          {"confidence", nullptr}, {"warnings", Json::array({{{"code", why.code}, {"message", why.what}}})}};
}

std::string unknown_text(const std::string& path, const ErrorDetails& why) {
  return fmt::format("{}\n  Format      unknown: {}\n", printable(path), printable(why.found));
}

}  // namespace opifex::report
