#include "opifex/report/shelf.hpp"

#include <algorithm>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/report/csv.hpp"
#include "opifex/report/table.hpp"
#include "opifex/report/terminal.hpp"
#include "opifex/report/text.hpp"
#include "opifex/report/volume.hpp"
#include "opifex/report/words.hpp"

namespace opifex::report {
namespace {

using namespace jobs;

Json or_null(const std::string& text) { return text.empty() ? Json() : Json(text); }
Json time_or_null(std::int64_t seconds) { return seconds == 0 ? Json() : Json(date_text(seconds)); }
std::string day(std::int64_t seconds) { return seconds == 0 ? "never" : date_text(seconds).substr(0, 10); }
std::string shown(const std::string& text) { return printable(text); }

std::string known_word(const std::string& known) {
  std::string word = known.empty() ? "not asked" : known;
  std::replace(word.begin(), word.end(), '_', ' ');
  return word;
}

Json item_json(const ShelfItem& i) {
  return {{"item", i.id},
          {"path", place_of(i)},
          {"computer", i.host},
          {"kind", i.kind},
          {"format", or_null(i.format)},
          {"archive", or_null(i.archive)},
          {"platform", or_null(i.platform)},
          {"title", or_null(i.title)},
          {"serial", or_null(i.serial)},
          {"region", or_null(i.region)},
          {"set", or_null(i.set)},
          {"disc", i.disc == 0 ? Json() : Json(i.disc)},
          {"discs", i.discs == 0 ? Json() : Json(i.discs)},
          {"verdict", i.verdict},
          {"remark", or_null(i.remark)},
          {"rotten", i.rotten},
          {"state", or_null(i.state)},
          {"complete", i.complete},
          {"compressed", i.compressed},
          {"stored_bytes", i.stored_bytes},
          {"content_bytes", i.content_bytes},
          {"content", or_null(i.content_key)},
          {"game", or_null(i.game_key)},
          {"known", or_null(i.known)},
          {"known_list", or_null(i.known_list)},
          {"known_set", or_null(i.known_set)},
          {"added", time_or_null(i.added_at)},
          {"checked", time_or_null(i.checked_at)},
          {"gone", time_or_null(i.gone_at)}};
}

Json items_json(const std::vector<ShelfItem>& items) {
  Json all = Json::array();
  for (const ShelfItem& i : items) all.push_back(item_json(i));
  return all;
}

std::string verdict_of(const ShelfItem& i) { return i.rotten ? "changed" : i.is_gone() ? "gone" : i.verdict; }

struct ShownColumn {
  const char* name;
  const char* title;
  Align align;
  std::string (*text)(const ShelfItem& item);
  std::string (*exact)(const ShelfItem& item);  // for a spreadsheet; null: as people read it
};
const ShownColumn kShown[] = {
    {"item", "item", Align::right, [](const ShelfItem& i) { return std::to_string(i.id); }, nullptr},
    {"title", "title", Align::left, [](const ShelfItem& i) { return i.title.empty() ? i.known_set : i.title; },
     nullptr},
    {"platform", "platform", Align::left,
     [](const ShelfItem& i) { return i.platform.empty() ? "" : short_platform_name(i.platform); },
     [](const ShelfItem& i) { return i.platform; }},
    {"format", "format", Align::left,
     [](const ShelfItem& i) {
       const std::string& format = i.format.empty() ? i.kind : i.format;
       return i.archive.empty() || i.archive == format ? format : format + " in " + i.archive;
     },
     [](const ShelfItem& i) { return i.format; }},
    {"serial", "serial", Align::left, [](const ShelfItem& i) { return i.serial; }, nullptr},
    {"region", "region", Align::left, [](const ShelfItem& i) { return i.region; }, nullptr},
    {"disc", "disc", Align::left,
     [](const ShelfItem& i) {
       if (i.disc == 0) return std::string();
       return i.discs == 0 ? std::to_string(i.disc) : fmt::format("{} of {}", i.disc, i.discs);
     },
     nullptr},
    {"set", "set", Align::left, [](const ShelfItem& i) { return i.set; }, nullptr},
    {"verdict", "verdict", Align::left, [](const ShelfItem& i) { return verdict_of(i); }, nullptr},
    {"known", "known", Align::left, [](const ShelfItem& i) { return known_word(i.known); },
     [](const ShelfItem& i) { return i.known; }},
    {"stored", "stored", Align::right, [](const ShelfItem& i) { return human_size(i.stored_bytes); },
     [](const ShelfItem& i) { return std::to_string(i.stored_bytes); }},
    {"content", "content", Align::right, [](const ShelfItem& i) { return human_size(i.content_bytes); },
     [](const ShelfItem& i) { return std::to_string(i.content_bytes); }},
    {"checked", "checked", Align::left, [](const ShelfItem& i) { return day(i.checked_at); },
     [](const ShelfItem& i) { return i.checked_at == 0 ? "" : date_text(i.checked_at); }},
    {"added", "added", Align::left, [](const ShelfItem& i) { return day(i.added_at); },
     [](const ShelfItem& i) { return date_text(i.added_at); }},
    {"computer", "computer", Align::left, [](const ShelfItem& i) { return i.host; }, nullptr},
    {"path", "path", Align::left, [](const ShelfItem& i) { return place_of(i); }, nullptr}};

std::vector<const ShownColumn*> columns_of(const ShelfListed& listed) {
  static const std::vector<std::string> kUsual = {"item", "title", "platform", "format", "verdict", "stored", "path"};
  static const std::vector<std::string> kOfCsv = {"item",   "title",   "platform", "format",   "serial",
                                                  "region", "disc",    "set",      "verdict",  "known",
                                                  "stored", "content", "checked",  "computer", "path"};
  std::vector<const ShownColumn*> columns;
  for (const std::string& name : !listed.columns.empty() ? listed.columns : listed.as_csv ? kOfCsv : kUsual)
    for (const ShownColumn& c : kShown)
      if (c.name == name) columns.push_back(&c);
  return columns;
}

/// Items in their order, some hundreds at a time: a hundred thousand of them are never in memory together.
class ItemPager {
 public:
  explicit ItemPager(const ShelfListed& listed) : shelf_(listed.shelf), ids_(listed.ids) {}
  std::optional<ShelfItem> next() {
    while (at_ == page_.size()) {
      if (next_ >= ids_.size()) return std::nullopt;
      load();
    }
    return page_[at_++];
  }

 private:
  void load() {
    constexpr std::size_t kPage = 250;
    const std::size_t end = std::min(next_ + kPage, ids_.size());
    page_.clear();
    at_ = 0;
    shelf_.each({ids_.begin() + static_cast<std::ptrdiff_t>(next_), ids_.begin() + static_cast<std::ptrdiff_t>(end)},
                [&](const ShelfItem& item) { page_.push_back(item); });
    next_ = end;
  }

  const Shelf& shelf_;
  const std::vector<std::int64_t>& ids_;
  std::vector<ShelfItem> page_;
  std::size_t next_ = 0, at_ = 0;
};

std::string time_text(double seconds) { return fmt::format("{:.1f} s", seconds); }

// Adding.

Json to_json(const ShelfAdded& a) {
  Json bad = Json::array();
  for (const auto& [where, why] : a.not_intact) bad.push_back({{"path", where}, {"why", why}});
  return {{"folders", a.folders},
          {"read", a.read},
          {"changed", a.changed},
          {"unchanged", a.unchanged},
          {"gone", a.gone},
          {"back", a.back},
          {"forgotten", a.forgotten},
          {"other_files", a.other_files},
          {"bytes_read", a.bytes_read},
          {"seconds", a.seconds},
          {"verdicts", a.verdicts},
          {"not_intact", bad}};
}

std::string text_of(const ShelfAdded& a, const std::string& shelf) {
  std::string text;
  for (const auto& [where, why] : a.not_intact) text += fmt::format("  {}: {}\n", shown(where), shown(why));
  if (!text.empty()) text = "Not intact:\n" + text + "\n";
  text += fmt::format("{} read", plural(a.read, "item"));
  std::vector<std::string> more;
  const auto add = [&](std::uint64_t n, const char* what) {
    if (n > 0) more.push_back(fmt::format("{} {}", grouped(n), what));
  };
  add(a.changed, "of them changed since the last time");
  add(a.back, "there again");
  add(a.unchanged, "unchanged and not read again");
  add(a.gone, "gone");
  add(a.forgotten, "no games any more, or parts of another one");
  if (!more.empty()) text += fmt::format(", {}", fmt::join(more, ", "));
  text += fmt::format("; {} in {}\n", human_size(a.bytes_read), time_text(a.seconds));
  if (!a.verdicts.empty()) {
    std::vector<std::string> verdicts;
    for (const auto& [verdict, n] : a.verdicts) verdicts.push_back(fmt::format("{} {}", grouped(n), verdict));
    text += fmt::format("Verdicts: {}\n", fmt::join(verdicts, ", "));
  }
  if (a.read + a.unchanged == 0) text += "There is no game in this place.\n";
  if (a.gone > 0) text += "opifex shelf moved tells which of them lie elsewhere now.\n";
  return text + fmt::format("Shelf: {}\n", shown(shelf));
}

// Lists.

std::string text_of(const ShelfListed& listed) {
  if (listed.ids.empty())
    return listed.all == 0 ? "The shelf is empty: opifex shelf add FOLDER\n"
                           : fmt::format("None of the {} on the shelf fits.\n", plural(listed.all, "item"));
  std::vector<Table::Column> titles;
  const auto columns = columns_of(listed);
  for (const ShownColumn* c : columns) titles.push_back({c->title, c->align});
  Table table(titles);
  std::uint64_t stored = 0;
  listed.shelf.each(listed.ids, [&](const ShelfItem& item) {
    std::vector<std::string> cells;
    for (const ShownColumn* c : columns) cells.push_back(c->text(item));
    table.add(cells);
    stored += item.stored_bytes;
  });
  return table.text() + fmt::format("\n{}{}, {}\n", plural(listed.ids.size(), "item"),
                                    listed.ids.size() == listed.all ? "" : " of " + grouped(listed.all),
                                    human_size(stored));
}

LongResult to_json(const ShelfListed& listed) {
  LongResult result{{{"items", Json::array()}, {"on_shelf", listed.all}}, "items", {}};
  auto pager = std::make_shared<ItemPager>(listed);
  result.next = [pager]() -> std::optional<Json> {
    const auto item = pager->next();
    return item ? std::optional(item_json(*item)) : std::nullopt;
  };
  return result;
}

// One item.

Json to_json(const ShelfShown& s) {
  Json json = item_json(s.item);
  json["stale"] = or_null(s.stale);
  json["files"] = Json::array();
  for (const ShelfFile& f : s.item.files) json["files"].push_back({{"path", f.path}, {"size_bytes", f.size_bytes}});
  json["contents"] = Json::array();
  for (const ShelfContent& c : s.item.contents)
    json["contents"].push_back({{"path", or_null(c.path)},
                                {"through", or_null(c.through)},
                                {"size_bytes", c.size_bytes},
                                {"crc32", or_null(c.crc32)},
                                {"md5", or_null(c.md5)},
                                {"sha1", or_null(c.sha1)}});
  return json;
}

std::string text_of(const ShelfShown& s) {
  const ShelfItem& i = s.item;
  std::string text = fmt::format("Item {}: {}\n", i.id, shown(place_of(i)));
  if (!s.stale.empty()) text += fmt::format("  NOT AS RECORDED: {}\n", shown(s.stale));
  Facts facts;
  const auto columns = {"title", "platform", "serial", "region", "disc", "format"};
  for (const char* name : columns)
    for (const ShownColumn& c : kShown)
      if (c.name == std::string_view(name)) facts.add(c.title, c.text(i));
  facts.add("verdict", i.remark.empty() ? verdict_of(i) : verdict_of(i) + ": " + i.remark);
  facts.add("known", i.known_set.empty()
                         ? known_word(i.known)
                         : fmt::format("{} as {} ({})", known_word(i.known), i.known_set, i.known_list));
  facts.add("size", i.stored_bytes == i.content_bytes
                        ? human_size(i.stored_bytes)
                        : fmt::format("{} for {}", human_size(i.stored_bytes), human_size(i.content_bytes)));
  facts.add("left out", i.state);
  facts.add("added", date_text(i.added_at));
  facts.add("checked", i.checked_at == 0 ? "never" : date_text(i.checked_at));
  facts.add("computer", i.host);
  text += facts.text();
  Table table({{"what"}, {"bytes", Align::right}, {"SHA-1"}});
  for (const ShelfContent& c : i.contents) {
    const std::string name = std::filesystem::path(c.path).filename().string();
    table.add({c.through.empty() ? name : "  " + c.through, grouped(c.size_bytes), c.sha1});
  }
  return text + (i.contents.empty() ? "" : table.text("  "));
}

// Copies.

Json to_json(const ShelfDoubled& d) {
  Json groups = Json::array();
  for (const ShelfCopies& g : d.groups) {
    Json copies = Json::array();
    for (std::size_t n = 0; n < g.copies.size(); ++n) {
      const ShelfItem& i = g.copies[n];
      const auto stale = d.stale.find(i.id);
      Json copy = item_json(i);
      copy["keep"] = n == 0;
      copy["less_than_first"] = n == 0 ? Json() : or_null(g.against[n - 1]);
      copy["frees_nothing"] = std::find(g.bound.begin(), g.bound.end(), i.id) != g.bound.end();
      copy["stale"] = stale == d.stale.end() ? Json() : Json(stale->second);
      copies.push_back(std::move(copy));
    }
    groups.push_back(
        {{"same_bytes", g.same_bytes}, {"freed_bytes", g.freed_bytes}, {"why", g.why}, {"copies", copies}});
  }
  return {{"groups", groups}, {"freed_bytes", d.freed_bytes}};
}

std::string text_of(const ShelfDoubled& d) {
  if (d.groups.empty()) return "Nothing on the shelf is there twice.\n";
  std::string text;
  for (const ShelfCopies& g : d.groups) {
    const ShelfItem& best = g.copies.front();
    const std::string title = best.title.empty() ? std::filesystem::path(best.path).stem().string() : best.title;
    text += fmt::format("{}: {} of {}{}\n", shown(title), fmt::format("{} copies", g.copies.size()),
                        g.same_bytes ? "the same content" : "the same game, trimmed or wrapped differently",
                        g.freed_bytes > 0 ? fmt::format(", {} too much", human_size(g.freed_bytes)) : "");
    for (std::size_t n = 0; n < g.copies.size(); ++n) {
      const ShelfItem& i = g.copies[n];
      std::string remark = n == 0 ? "best: " + g.why : "";
      if (std::find(g.bound.begin(), g.bound.end(), i.id) != g.bound.end())
        remark = "its files hold something else, too";
      if (const auto stale = d.stale.find(i.id); stale != d.stale.end())
        remark = stale->second + ": opifex shelf add first";
      text += fmt::format("  {} {:>5}  {:>9}  {}{}\n", n == 0 ? "keep" : "    ", i.id, human_size(i.stored_bytes),
                          shown(place_of(i)), remark.empty() ? "" : "  (" + shown(remark) + ")");
    }
  }
  return text +
         fmt::format("\nWithout the other copies {} would be free. Nothing was removed.\n", human_size(d.freed_bytes));
}

// Sets.

Json to_json(const ShelfSetsTold& told) {
  Json sets = Json::array();
  for (const ShelfSet& s : told.sets) {
    Json discs = Json::array();
    for (const ShelfItem& i : s.discs)
      discs.push_back(
          {{"item", i.id}, {"disc", i.disc}, {"path", place_of(i)}, {"computer", i.host}, {"verdict", i.verdict}});
    sets.push_back({{"platform", or_null(s.platform)}, {"set", s.name}, {"missing", s.missing}, {"discs", discs}});
  }
  return {{"sets", sets}};
}

std::string text_of(const ShelfSetsTold& told) {
  if (told.sets.empty()) return "No game of several discs.\n";
  std::string text;
  std::size_t gaps = 0;
  for (const ShelfSet& s : told.sets) {
    gaps += s.missing.empty() ? 0U : 1U;
    text += fmt::format("{}{}\n", shown(s.name),
                        s.missing.empty() ? "" : fmt::format("  MISSING: disc {}", fmt::join(s.missing, ", ")));
    for (const ShelfItem& i : s.discs) text += fmt::format("  disc {:<2} {}\n", i.disc, shown(place_of(i)));
  }
  return text + fmt::format("\n{}, {} with a gap\n", plural(told.sets.size(), "set"), gaps);
}

// The patrol.

Json to_json(const ShelfVerified& v) {
  Json items = Json::array();
  for (const auto& i : v.items)
    items.push_back({{"item", i.id},
                     {"path", i.place},
                     {"outcome", i.outcome},
                     {"why", or_null(i.why)},
                     {"verdict", i.verdict},
                     {"checked_before", time_or_null(i.checked_before)}});
  return {{"items", items},
          {"as_recorded", v.as_recorded},
          {"not_intact", v.not_intact},
          {"left", v.left},
          {"too_large", v.too_large},
          {"longest_unchecked", v.left == 0 ? Json() : time_or_null(v.longest_unchecked)},
          {"bytes_read", v.bytes_read},
          {"seconds", v.seconds},
          {"planned_only", v.planned_only}};
}

std::string text_of(const ShelfVerified& v) {
  std::string text;
  if (v.planned_only) {
    for (const auto& i : v.items) text += fmt::format("  {}  {}\n", day(i.checked_before), shown(i.place));
    return text + fmt::format("{}, {} would be read, {} left.\n", plural(v.items.size(), "item"),
                              human_size(v.bytes_read), grouped(v.left));
  }
  for (const auto& i : v.items)
    if (i.outcome != "as recorded")
      text += fmt::format("{}: {}\n  {}\n", tone_text(Tone::lost, i.outcome == "changed" ? "CHANGED" : i.outcome),
                          shown(i.place), shown(hint_text(i.why)));
  if (v.items.empty() && v.left == 0) return "Nothing of this computer is on the shelf.\n";
  const std::uint64_t bad = v.items.size() - v.as_recorded;
  text += fmt::format("{} of {} as recorded", grouped(v.as_recorded), plural(v.items.size(), "item"));
  if (bad > 0) text += fmt::format(", {} not", grouped(bad));
  if (v.not_intact > 0) text += fmt::format(" ({} not intact from the beginning)", grouped(v.not_intact));
  text += fmt::format("; {} in {}\n", human_size(v.bytes_read), time_text(v.seconds));
  if (v.left > 0)
    text += fmt::format("{} not read this time; the longest unchecked: {}\n", plural(v.left, "item"),
                        day(v.longest_unchecked));
  if (v.too_large > 0) text += fmt::format("{} larger than what may be read at all\n", plural(v.too_large, "item"));
  return text;
}

// Moved, forgotten, lines.

Json to_json(const ShelfMoved& m) {
  Json moved = Json::array();
  for (const auto& [from, to] : m.moved) moved.push_back({{"from", item_json(from)}, {"to", item_json(to)}});
  return {{"moved", moved}, {"lost", items_json(m.lost)}};
}

std::string text_of(const ShelfMoved& m) {
  if (m.moved.empty() && m.lost.empty()) return "Nothing is gone.\n";
  std::string text;
  for (const auto& [from, to] : m.moved)
    text += fmt::format("moved  {}\n    to {}{}\n", shown(place_of(from)), shown(place_of(to)),
                        from.host == to.host ? "" : shown(" on " + to.host));
  for (const ShelfItem& i : m.lost) text += fmt::format("gone   {}  (since {})\n", shown(place_of(i)), day(i.gone_at));
  text += fmt::format("\n{} moved, {} gone\n", grouped(m.moved.size()), grouped(m.lost.size()));
  if (!m.moved.empty()) text += "opifex shelf forget --moved takes the old places off the shelf.\n";
  return text;
}

Json to_json(const ShelfForgot& f) { return {{"forgotten", f.places}, {"planned_only", f.planned_only}}; }

std::string text_of(const ShelfForgot& f) {
  std::string text;
  for (const std::string& place : f.places) text += fmt::format("  {}\n", shown(place));
  return fmt::format("{} {} off the shelf; no file is touched:\n", plural(f.places.size(), "item"),
                     f.planned_only ? "would be taken" : "taken") +
         text;
}

Json to_json(const ShelfLines& l) {
  return {{"file", l.file}, {"written", l.written}, {"items", l.items}, {"renewed", l.renewed}, {"older", l.older}};
}

std::string text_of(const ShelfLines& l) {
  if (l.written) return fmt::format("wrote {}: {}\n", shown(l.file), plural(l.items, "item"));
  return fmt::format("{}: {} new, {} renewed, {} older than what is here and left out\n", shown(l.file),
                     grouped(l.items), grouped(l.renewed), grouped(l.older));
}

// Sums.

Json counts_json(const std::vector<ShelfCount>& counts) {
  Json all = Json::array();
  for (const ShelfCount& c : counts)
    all.push_back({{"name", or_null(c.name)},
                   {"items", c.items},
                   {"stored_bytes", c.stored_bytes},
                   {"content_bytes", c.content_bytes}});
  return all;
}

Json to_json(const ShelfSummary& summary) {
  const ShelfStats& s = summary.stats;
  Json folders = Json::array();
  for (const ShelfFolder& f : summary.folders)
    folders.push_back({{"computer", f.host}, {"path", f.path}, {"looked_through", time_or_null(f.scanned_at)}});
  return {{"items", s.all.items},
          {"stored_bytes", s.all.stored_bytes},
          {"content_bytes", s.all.content_bytes},
          {"gone", s.gone.items},
          {"compressed", s.compressed.items},
          {"changed", s.rotten},
          {"sets", s.sets},
          {"incomplete_sets", s.incomplete_sets},
          {"computers", s.hosts},
          {"platforms", counts_json(s.platforms)},
          {"formats", counts_json(s.formats)},
          {"verdicts", counts_json(s.verdicts)},
          {"known", counts_json(s.known)},
          {"last_check", counts_json(s.ages)},
          {"folders", folders}};
}

std::string text_of(const ShelfSummary& summary) {
  const ShelfStats& s = summary.stats;
  std::string text = fmt::format("{}, {}", plural(s.all.items, "item"), human_size(s.all.stored_bytes));
  if (s.all.content_bytes > s.all.stored_bytes)
    text += fmt::format(" for {} of content", human_size(s.all.content_bytes));
  text += fmt::format("; {} compressed\n", grouped(s.compressed.items));
  if (s.rotten > 0) text += fmt::format("{} CHANGED since recorded\n", plural(s.rotten, "item"));
  if (s.gone.items > 0) text += fmt::format("{} gone\n", plural(s.gone.items, "item"));
  if (s.sets > 0) text += fmt::format("{}, {} with a gap\n", plural(s.sets, "set"), grouped(s.incomplete_sets));
  const auto table = [&](const char* title, const std::vector<ShelfCount>& counts, auto name_of) {
    if (counts.empty()) return;
    Table rows({{title}, {"items", Align::right}, {"stored", Align::right}, {"content", Align::right}});
    for (const ShelfCount& c : counts)
      rows.add({name_of(c.name), grouped(c.items), human_size(c.stored_bytes), human_size(c.content_bytes)});
    text += "\n" + rows.text();
  };
  const auto plain = [](const std::string& name) { return name.empty() ? std::string("-") : name; };
  table("platform", s.platforms, [&](const std::string& n) { return n.empty() ? "-" : short_platform_name(n); });
  table("format", s.formats, plain);
  table("verdict", s.verdicts, plain);
  table("known", s.known, known_word);
  table("last check within", s.ages, plain);
  for (const ShelfFolder& f : summary.folders)
    text += fmt::format("\n{} on {}, looked through {}", shown(f.path), shown(f.host), day(f.scanned_at));
  return text + (summary.folders.empty() ? "" : "\n");
}

}  // namespace

LongResult shelf_json(const ShelfTold& told) {
  LongResult result = std::visit(
      [](const auto& what) {
        if constexpr (std::is_same_v<std::decay_t<decltype(what)>, ShelfListed>)
          return to_json(what);
        else
          return LongResult{to_json(what), "", {}};
      },
      told.what);
  result.result["shelf"] = told.shelf;
  return result;
}

std::string shelf_text(const ShelfTold& told) {
  if (const auto* added = std::get_if<ShelfAdded>(&told.what)) return text_of(*added, told.shelf);
  return std::visit(
      [](const auto& what) -> std::string {
        if constexpr (std::is_same_v<std::decay_t<decltype(what)>, ShelfAdded>)
          return {};
        else
          return text_of(what);
      },
      told.what);
}

void shelf_csv(const ShelfListed& listed, const std::function<void(const std::string& rows)>& rows) {
  const auto columns = columns_of(listed);
  std::vector<std::string> titles;
  for (const ShownColumn* c : columns) titles.emplace_back(c->name);
  std::string block = csv_row(titles);
  constexpr std::size_t kBlock = 1 << 16;
  listed.shelf.each(listed.ids, [&](const ShelfItem& item) {
    std::vector<std::string> cells;
    for (const ShownColumn* c : columns) cells.push_back(c->exact ? c->exact(item) : c->text(item));
    block += csv_row(cells);
    if (block.size() < kBlock) return;
    rows(block);
    block.clear();
  });
  rows(block);
}

}  // namespace opifex::report
