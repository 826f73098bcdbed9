#include "opifex/report/volume.hpp"

#include <algorithm>
#include <ctime>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/glob.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/file_system.hpp"
#include "opifex/report/table.hpp"
#include "opifex/report/words.hpp"

namespace opifex::report {
namespace {

/// Entries in the order of a walk: each folder followed by what is in it.
std::vector<const VolumeEntry*> walk_order(const Volume& volume, const std::string& path) {
  std::vector<const VolumeEntry*> entries;
  for (const VolumeEntry& e : volume.entries)
    if (path.empty() || path_fits(path, e.path)) entries.push_back(&e);
  // '/' sorts before everything, so that a folder's files follow it at once.
  const auto key = [](char c) { return c == '/' ? 0 : static_cast<unsigned char>(c) + 1; };
  const auto before = [&](char a, char b) { return key(a) < key(b); };
  std::stable_sort(entries.begin(), entries.end(), [&](const VolumeEntry* a, const VolumeEntry* b) {
    return std::lexicographical_compare(a->path.begin(), a->path.end(), b->path.begin(), b->path.end(), before);
  });
  return entries;
}

std::string attributes_text(const VolumeEntry& e) {
  std::string text = e.attributes;
  const auto add = [&](const std::string& word) { text += (text.empty() ? "" : ",") + word; };
  if (!e.link.empty()) add("-> " + printable(e.link));
  if (e.facts && e.facts->protection) add(e.facts->protection_text);
  if (e.facts && e.facts->type) add(fmt::format("type {:#x}", *e.facts->type));
  if (!e.sound && e.kind != EntryKind::audio) add(e.flaw.empty() ? "OUTSIDE" : "DAMAGED");
  if (!e.safe) add(e.refused.empty() ? "UNSAFE NAME" : "REFUSED");
  return text;
}

std::string lba_text(const Volume& v, const VolumeEntry& e) {
  if (e.extents.empty() || e.size_bytes == 0) return "-";
  return fmt::format("{}", static_cast<std::int64_t>(e.extents.front().sector) + v.shift);
}

std::string shown_path(const VolumeEntry& e, FilesView view) {
  const std::string tail = e.kind == EntryKind::folder ? "/" : "";
  if (view == FilesView::flat) return printable(e.path) + tail;
  const auto depth = static_cast<std::size_t>(std::count(e.path.begin(), e.path.end(), '/'));
  const std::size_t slash = e.path.rfind('/');
  return std::string(2 * depth, ' ') + printable(slash == std::string::npos ? e.path : e.path.substr(slash + 1)) + tail;
}

template <typename T>
Json json_or_null(const std::optional<T>& value) {
  return value ? Json(*value) : Json();
}
Json json_or_null(const std::string& text) { return text.empty() ? Json() : Json(text); }

/// What only some file systems tell.
Json facts_json(const EntryFacts& f) {
  return {{"place", f.place},
          {"blocks", f.blocks},
          {"hundredths", f.hundredths},
          {"comment", f.comment},
          {"protection", f.protection ? Json(f.protection_text) : Json()},
          {"protection_bits", json_or_null(f.protection)},
          {"id", json_or_null(f.id)},
          {"type", json_or_null(f.type)},
          {"title", json_or_null(f.title)},
          {"plain_title", json_or_null(f.plain_title)},
          {"game_code", json_or_null(f.code)},
          {"region", json_or_null(f.region)},
          {"icons", f.icons.size()},
          {"chain", f.chain}};
}

Json entry_json(const Volume& volume, std::size_t number, const VolumeEntry& e) {
  Json extents = Json::array();
  for (const VolumeExtent& x : e.extents)
    extents.push_back({{"lba", static_cast<std::int64_t>(x.sector) + volume.shift}, {"size_bytes", x.size_bytes}});
  const std::string date = date_text(e.modified);
  const Json first = e.extents.empty() ? Json() : extents.front()["lba"];
  Json json = {{"path", e.path},
               {"volume", number},
               {"kind", to_string(e.kind)},
               {"size_bytes", e.size_bytes},
               {"modified", date.empty() ? Json() : Json(date)},
               {"lba", first},
               {"extents", std::move(extents)},
               {"attributes", e.attributes},
               {"link", e.link.empty() ? Json() : Json(e.link)},
               {"sound", e.sound},
               {"safe_name", e.safe}};
  if (!e.flaw.empty()) json["flaw"] = e.flaw;
  if (e.facts) json["facts"] = facts_json(*e.facts);
  return json;
}

/// The image of the game that wrote a save, of those of a folder.
std::string game_of(const EntryFacts& facts, const std::map<std::string, std::string>& games) {
  const auto at = games.find(jobs::plain_code(facts.code));
  return facts.code.empty() || at == games.end() ? "" : at->second;
}

bool holds_saves(const Volume& volume) {
  return std::any_of(volume.entries.begin(), volume.entries.end(),
                     [](const VolumeEntry& e) { return e.facts && !e.facts->chain.empty(); });
}

/// What is on a memory card: titles first, for names are codes.
Table saves_table(const std::vector<const VolumeEntry*>& entries, const std::map<std::string, std::string>& games) {
  std::vector<Table::Column> columns = {
      {"Blocks", Align::right}, {"Game code"}, path_column("Title"), {"Icons", Align::right}, path_column("Name")};
  if (!games.empty()) columns.push_back(path_column("Game"));
  Table table(columns);
  for (const VolumeEntry* e : entries) {
    const EntryFacts& f = *e->facts;
    const std::string title = f.plain_title.empty() ? "-" : printable(f.plain_title);
    std::vector<std::string> cells = {fmt::format("{}", f.blocks), f.code.empty() ? "-" : printable(f.code), title,
                                      fmt::format("{}", f.icons.size()),
                                      printable(e->path) + (e->sound ? "" : "  DAMAGED")};
    const std::string game = game_of(f, games);
    if (!games.empty()) cells.push_back(game.empty() ? "-" : printable(game));
    table.add(cells);
  }
  return table;
}

Table files_table(const Volume& v, const std::vector<const VolumeEntry*>& entries, FilesView view) {
  const bool by_place =
      std::any_of(entries.begin(), entries.end(), [](const VolumeEntry* e) { return e->facts != nullptr; });
  const bool comments = std::any_of(entries.begin(), entries.end(),
                                    [](const VolumeEntry* e) { return e->facts && !e->facts->comment.empty(); });
  std::vector<Table::Column> columns = {{"Size", Align::right},
                                        {"Date"},
                                        {by_place ? "Block" : "LBA", Align::right},
                                        {"Attributes"},
                                        path_column("Path")};
  if (comments) columns.push_back(path_column("Comment"));
  Table table(columns);
  for (const VolumeEntry* e : entries) {
    std::vector<std::string> cells = {
        e->kind == EntryKind::folder ? "" : grouped(e->size_bytes), date_text(e->modified),
        e->facts ? fmt::format("{}", e->facts->place) : lba_text(v, *e), attributes_text(*e), shown_path(*e, view)};
    if (comments) cells.push_back(e->facts ? printable(e->facts->comment) : "");
    table.add(cells);
  }
  return table;
}

std::string space_text(const VolumeSpace& space) {
  constexpr std::uint64_t kByte = 1;
  std::string text = space.block_bytes > kByte
                         ? fmt::format("{} of {} blocks free, room for {}", grouped(space.free_blocks),
                                       grouped(space.blocks), bytes_text(space.free_bytes))
                         : fmt::format("{} free", bytes_text(space.free_bytes));
  if (space.largest_free_bytes != space.free_bytes)
    text += fmt::format(", the largest file {}", bytes_text(space.largest_free_bytes));
  return "  " + text + "\n";
}

std::string deleted_text(const Volume& volume) {
  std::string text;
  for (const VolumeEntry& e : volume.deleted)
    text += fmt::format("  deleted {} (entry {}, {}{}){}\n", printable(e.path), e.facts->place,
                        plural(e.facts->blocks, "block"),
                        e.facts->plain_title.empty() ? "" : ", " + printable(e.facts->plain_title),
                        e.facts->restorable ? ": --undelete brings it back" : ": " + e.flaw);
  return text;
}

void add_totals(std::string& text, const std::vector<const VolumeEntry*>& entries, std::string_view what = "file") {
  std::uint64_t files = 0, folders = 0, bytes = 0;
  for (const VolumeEntry* e : entries) {
    folders += e->kind == EntryKind::folder ? 1 : 0;
    files += e->kind == EntryKind::folder ? 0 : 1;
    bytes += e->kind == EntryKind::file ? e->size_bytes : 0;
  }
  constexpr std::uint64_t kKilo = 1024;
  text += "\n  " + plural(files, what);
  if (folders > 0) text += " in " + plural(folders, "folder");
  text += bytes < kKilo ? fmt::format(", {} bytes\n", bytes)
                        : fmt::format(", {} ({} bytes)\n", human_size(bytes), grouped(bytes));
}

}  // namespace

std::string date_text(const std::optional<std::int64_t>& seconds) {
  if (!seconds) return "";
  const CivilTime t = civil_time(*seconds);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02}", t.year, t.month, t.day, t.hour, t.minute);
}

LongResult files_json(const jobs::Listed& listed) {
  const Image& image = listed.image;
  const std::vector<Volume>& volumes = listed.volumes;
  const std::string& path = listed.path;
  Json systems = Json::array(), warnings = Json::array(), deleted = Json::array();
  std::uint64_t total = 0, free = 0;
  std::vector<std::pair<std::size_t, const VolumeEntry*>> entries;
  for (std::size_t i = 0; i < volumes.size(); ++i) {
    const Volume& v = volumes[i];
    systems.push_back({{"system", v.system},
                       {"label", v.label},
                       {"blocks", v.blocks},
                       {"damaged", v.damaged()},
                       {"unlisted", v.unlisted.empty() ? Json() : Json(v.unlisted)},
                       {"bootable", v.bootable},
                       {"free_blocks", v.space ? Json(v.space->free_blocks) : Json()},
                       {"free_bytes", v.space ? Json(v.space->free_bytes) : Json()},
                       {"largest_free_bytes", v.space ? Json(v.space->largest_free_bytes) : Json()}});
    free += v.space ? v.space->free_bytes : 0;
    for (const VolumeEntry& e : v.deleted) {
      Json one = entry_json(v, i, e);
      one["restorable"] = e.facts && e.facts->restorable;
      deleted.push_back(std::move(one));
    }
    for (const VolumeProblem& p : v.problems)
      warnings.push_back({{"code", p.code},
                          {"severity", to_string(p.weight)},
                          {"message", p.message},
                          {"place", json_or_null(p.place)}});
    for (const VolumeEntry* e : walk_order(v, path)) {
      entries.emplace_back(i, e);
      total += e->kind == EntryKind::file ? e->size_bytes : 0;
    }
  }
  LongResult long_result;
  long_result.result = {{"path", image.path.string()}, {"volumes", systems}, {"entries", Json::array()},
                        {"total_bytes", total},        {"free_bytes", free}, {"deleted", deleted},
                        {"warnings", warnings}};
  long_result.key = "entries";
  long_result.next = [&volumes, &listed, entries = std::move(entries),
                      at = std::size_t{0}]() mutable -> std::optional<Json> {
    if (at == entries.size()) return std::nullopt;
    const auto& [volume, entry] = entries[at++];
    Json json = entry_json(volumes[volume], volume, *entry);
    if (!listed.games.empty() && entry->facts) json["game"] = json_or_null(game_of(*entry->facts, listed.games));
    return json;
  };
  return long_result;
}

std::string files_text(const jobs::Listed& listed, FilesView view) {
  std::string text;
  for (const Volume& v : listed.volumes) {
    if (!text.empty()) text += "\n";
    text += fmt::format("{}: {}{}\n", printable(listed.image.path.string()), name_of(v),
                        v.label.empty() ? "" : ", volume " + printable(v.label));
    if (!v.unlisted.empty()) {
      text += fmt::format("\n  nothing to list: {}\n", v.unlisted);
      continue;
    }
    text += "\n";
    const auto entries = walk_order(v, listed.path);
    text += (holds_saves(v) ? saves_table(entries, listed.games) : files_table(v, entries, view)).text("  ");
    add_totals(text, entries, holds_saves(v) ? "save" : "file");
    if (v.space) text += space_text(*v.space);
    if (v.bootable) text += "  its boot block is run by the machine\n";
    text += deleted_text(v);
    for (const VolumeProblem& p : v.problems)
      text += fmt::format("  {:8}{} [{}]\n", to_string(p.weight), p.message, p.code);
  }
  return text;
}

LongResult extract_json(const jobs::ExtractedFiles& outcome) {
  const ExtractPlan& plan = outcome.plan;
  Json skipped = Json::array();
  for (const SkippedEntry& s : plan.skipped) skipped.push_back({{"path", s.path}, {"why", s.why}});
  LongResult long_result;
  long_result.result = {{"inputs", {outcome.image.path.string()}},
                        {"outputs", Json::array()},
                        {"skipped", skipped},
                        {"total_bytes", plan.total_bytes},
                        {"planned_only", outcome.items.empty() && !plan.items.empty()},
                        {"verified", outcome.read_back},
                        {"warnings", to_json(outcome.warnings)},
                        {"losses", Json::array()},
                        {"steps", Json::array()},
                        {"seconds", outcome.seconds}};
  long_result.key = "outputs";
  long_result.next = [&outcome, &plan = outcome.plan, at = std::size_t{0}]() mutable -> std::optional<Json> {
    while (at < plan.items.size() && plan.items[at].is_folder()) ++at;
    if (at == plan.items.size()) return std::nullopt;
    const ExtractItem& item = plan.items[at];
    const bool there = at < outcome.items.size() && outcome.items[at] == Extracted::was_there;
    ++at;
    return Json{{"path", item.target},
                {"from", item.entry->path},
                {"size_bytes", item.size_bytes},
                {"renamed", item.renamed},
                {"was_there", there}};
  };
  return long_result;
}

std::string extract_text(const jobs::ExtractedFiles& outcome) {
  const ExtractPlan& plan = outcome.plan;
  std::uint64_t files = 0, folders = 0, there = 0;
  std::string text;
  for (std::size_t i = 0; i < plan.items.size(); ++i) {
    const ExtractItem& item = plan.items[i];
    (item.is_folder() ? folders : files) += 1;
    there += i < outcome.items.size() && outcome.items[i] == Extracted::was_there && !item.is_folder() ? 1u : 0u;
    if (item.renamed)
      text += fmt::format("  renamed   {} is written as {}\n", printable(item.entry->path), printable(item.target));
  }
  const bool planned = outcome.items.empty() && !plan.items.empty();
  std::string head = fmt::format("{} {}", planned ? "would extract" : "extracted", plural(files, "file"));
  if (folders > 0) head += " in " + plural(folders, "folder");
  head += fmt::format(", {}, {} {}\n", human_size(plan.total_bytes), planned ? "into" : "to", printable(outcome.into));
  if (there > 0) head += fmt::format("  {} of them were there already\n", grouped(there));
  if (outcome.read_back) head += "  every file was read back and is the same as in the image\n";
  for (const SkippedEntry& s : plan.skipped)
    text += fmt::format("  left out  {}: {}\n", printable(s.path), printable(s.why));
  for (const Warning& w : outcome.warnings) text += fmt::format("  warning   {}\n", printable(warning_text(w)));
  return head + text;
}

namespace {

Json rom_differences_json(const Comparison& result) {
  if (!result.rom_differences) return nullptr;
  const RomDifferences& d = *result.rom_differences;
  return {{"bytes", d.bytes},
          {"data_bits", d.data_bits},
          {"first_offsets", d.first_offsets},
          {"address_bits_1", d.address_bits_1},
          {"address_bits_0", d.address_bits_0}};
}

}  // namespace

Json comparison_json(const Image& here, const std::string& other, const Comparison& result) {
  Json differences = Json::array();
  for (const Difference& d : result.differences)
    differences.push_back({{"kind", to_string(d.kind)}, {"path", d.path}, {"detail", d.detail}});
  return {{"path", here.path.string()},
          {"same_as", other},
          {"same", result.same()},
          {"same_sectors", result.same_sectors ? Json(*result.same_sectors) : Json()},
          {"other_sectors", result.other_sectors},
          {"first_other_lba", result.first_other_sector ? Json(*result.first_other_sector) : Json()},
          {"same_rom", result.same_rom ? Json(*result.same_rom) : Json()},
          {"rom_differences", rom_differences_json(result)},
          {"same_files", result.same_files},
          {"differences", differences},
          {"remarks", result.remarks}};
}

std::string comparison_text(const Image& here, const std::string& other, const Comparison& result) {
  std::string text = fmt::format("{}: {} {}\n", printable(here.path.string()),
                                 result.same() ? "the same content as" : "not the same content as", printable(other));
  for (const std::string& r : result.remarks) text += fmt::format("  {}\n", r);
  if (result.same_sectors && *result.same_sectors)
    text += fmt::format("  every sector is the same: {}\n",
                        result.compared.empty() ? "2048 bytes of each" : result.compared);
  if (result.same_rom && *result.same_rom) text += fmt::format("  every byte is the same: {}\n", result.compared);
  for (const std::string& other_mark : result.other_marks)
    text += fmt::format("  differs   {}\n", printable(other_mark));
  if (result.other_sectors > 0)
    text += fmt::format("  {} sector{}, the first is LBA {}\n", grouped(result.other_sectors),
                        result.other_sectors == 1 ? " differs" : "s differ", *result.first_other_sector);
  if (result.same_files > 0)
    text += fmt::format("  {} file{} the same\n", grouped(result.same_files), result.same_files == 1 ? " is" : "s are");
  constexpr std::size_t kShown = 50;
  for (std::size_t i = 0; i < std::min(kShown, result.differences.size()); ++i) {
    const Difference& d = result.differences[i];
    text +=
        fmt::format("  {:10} {}{}\n", to_string(d.kind), printable(d.path), d.detail.empty() ? "" : ": " + d.detail);
  }
  if (result.differences.size() > kShown)
    text += fmt::format("  ... and {} more; --json lists all\n", grouped(result.differences.size() - kShown));
  return text;
}

}  // namespace opifex::report
