#include "opifex/report/save.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/report/table.hpp"
#include "opifex/report/words.hpp"

namespace opifex::report {
namespace {

using jobs::SaveAction;
using jobs::SaveTold;
using jobs::SaveVersion;

constexpr std::size_t kShownRanges = 20;

std::string_view action_name(SaveAction action) {
  constexpr std::array kNames = {"check", "compare", "store", "history", "restore", "convert", "write"};
  return kNames[static_cast<std::size_t>(action)];
}

Json version_json(const SaveVersion& v) {
  return {{"path", v.file.string()}, {"stored", v.stored},         {"sha1", v.sha1},
          {"origin", v.origin},      {"size_bytes", v.size_bytes}, {"sound", v.sound}};
}

/// As many bytes as a line has room for, as digits and as text.
std::string bytes_line(ByteView bytes, const rom::SaveRange& range) {
  constexpr std::uint64_t kMost = 16;
  if (range.at >= bytes.size()) return "(none)";
  const ByteView part =
      bytes.subspan(static_cast<std::size_t>(range.at),
                    static_cast<std::size_t>(std::min({range.bytes, kMost, bytes.size() - range.at})));
  std::string digits, text;
  for (const std::byte b : part) {
    const auto c = std::to_integer<unsigned>(b);
    digits += fmt::format("{:02x} ", c);
    text += c >= 0x20 && c < 0x7F ? static_cast<char>(c) : '.';
  }
  return fmt::format("{:<48} {}", digits, text);
}

std::string ranges_text(const SaveTold& save, const char* here, const char* there) {
  std::uint64_t bytes = 0;
  for (const rom::SaveRange& r : save.ranges) bytes += r.bytes;
  std::string text = fmt::format("  differs   {} in {}\n", plural(bytes, "byte"), plural(save.ranges.size(), "range"));
  for (std::size_t i = 0; i < std::min(kShownRanges, save.ranges.size()); ++i) {
    const rom::SaveRange& r = save.ranges[i];
    text += fmt::format("  {:#06x}  {:<5} {}\n          {:<5} {}\n", r.at, here, bytes_line(save.here, r), there,
                        bytes_line(save.there, r));
  }
  if (save.ranges.size() > kShownRanges)
    text += fmt::format("  ... and {} more ranges (--json lists all)\n", grouped(save.ranges.size() - kShownRanges));
  return text;
}

std::string check_text(const SaveTold& save) {
  const rom::SaveFacts& f = *save.facts;
  Facts facts;
  facts.add("Size", bytes_text(f.size_bytes) +
                        (f.clock_bytes > 0 ? fmt::format(", {} of them a clock's registers", f.clock_bytes) : ""));
  if (f.lane != rom::SaveLane::alone)
    facts.add("Lane", fmt::format("its {} are in the {} bytes of each word", bytes_text(f.memory_bytes),
                                  rom::to_string(f.lane)));
  facts.add("Game", save.game.empty() ? "none is known: --game ROM tells what it keeps" : save.game.string());
  if (f.wanted_bytes) facts.add("It keeps", bytes_text(*f.wanted_bytes));
  facts.add("SHA-1", save.sha1);
  std::string text = fmt::format("{}: {}\n", printable(save.path.string()),
                                 f.problems.empty() ? "nothing speaks against it" : "look at this:");
  text += facts.text();
  for (const rom::Problem& p : f.problems) text += fmt::format("  problem     {} [{}]\n", printable(p.message), p.code);
  return text;
}

std::string kept_text(const SaveTold& save) {
  if (!save.stored) return "";
  return fmt::format("  kept      {}\n            {}, sha1 {}\n", printable(save.stored->file.string()),
                     printable(save.stored->origin), save.stored->sha1);
}

std::string history_text(const SaveTold& save) {
  if (save.versions.empty()) return fmt::format("{}: no version is kept\n", printable(save.path.string()));
  Table table({{"No.", Align::right},
               state_column("Kept"),
               {"Bytes", Align::right},
               {"SHA-1"},
               {"From"},
               state_column("State")});
  for (std::size_t i = 0; i < save.versions.size(); ++i) {
    const SaveVersion& v = save.versions[i];
    table.add({std::to_string(i + 1), v.stored, grouped(v.size_bytes), v.sha1.substr(0, 12), v.origin,
               v.sound ? "" : "DAMAGED or gone"});
  }
  return fmt::format("{}: {} kept\n\n{}", printable(save.path.string()), plural(save.versions.size(), "version"),
                     table.text("  "));
}

std::string write_text(const SaveTold& save) {
  const std::string into =
      printable(fmt::format("{} -> {} in {}", save.path.string(), save.cartridge, save.other.string()));
  if (save.state == "unchanged") return into + "\n  the cartridge holds exactly this already: nothing is written\n";
  std::string text = into + "\n" + ranges_text(save, "now", "new") + kept_text(save);
  if (save.state == "written") text += "  WRITTEN, read back twice, and the same\n";
  if (save.state == "failed")
    text += fmt::format("  FAILED    the cartridge holds {} ({})\n", save.holds, printable(save.trouble));
  return text;
}

}  // namespace

Json save_json(const SaveTold& save) {
  Json ranges = Json::array(), versions = Json::array(), problems = Json::array();
  for (const rom::SaveRange& r : save.ranges) ranges.push_back({{"offset", r.at}, {"size_bytes", r.bytes}});
  for (const SaveVersion& v : save.versions) versions.push_back(version_json(v));
  Json facts;
  if (save.facts) {
    for (const rom::Problem& p : save.facts->problems) problems.push_back({{"code", p.code}, {"message", p.message}});
    facts = {{"size_bytes", save.facts->size_bytes},
             {"clock_bytes", save.facts->clock_bytes},
             {"lane", rom::to_string(save.facts->lane)},
             {"wanted_bytes", save.facts->wanted_bytes ? Json(*save.facts->wanted_bytes) : Json()},
             {"blank", save.facts->blank},
             {"own_bytes", save.facts->reduced_bytes}};
  }
  return {{"action", action_name(save.action)},
          {"path", save.path.string()},
          {"other", save.other.empty() ? Json() : Json(save.other.string())},
          {"game", save.game.empty() ? Json() : Json(save.game.string())},
          {"save", facts},
          {"problems", problems},
          {"ranges", ranges},
          {"versions", versions},
          {"stored", save.stored ? version_json(*save.stored) : Json()},
          {"sha1", save.sha1.empty() ? Json() : Json(save.sha1)},
          {"state", save.state.empty() ? Json() : Json(save.state)},
          {"trouble", save.trouble.empty() ? Json() : Json(save.trouble)},
          {"holds", save.holds.empty() ? Json() : Json(save.holds)},
          {"cartridge_title", save.cartridge.empty() ? Json() : Json(save.cartridge)},
          {"warnings", to_json(save.warnings)}};
}

std::string save_text(const SaveTold& save) {
  const std::string path = printable(save.path.string()), other = printable(save.other.string());
  switch (save.action) {
    case SaveAction::check:
      return check_text(save);
    case SaveAction::compare:
      return save.ranges.empty()
                 ? fmt::format("{}: the same as {}\n", path, other)
                 : fmt::format("{}: not the same as {}\n", path, other) + ranges_text(save, "here", "there");
    case SaveAction::store:
      return path + "\n" + kept_text(save);
    case SaveAction::history:
      return history_text(save);
    case SaveAction::restore:
      return fmt::format("{} {} {}\n", path, save.state == "planned" ? "would become" : "is again", other) +
             (save.ranges.empty() ? "" : ranges_text(save, "was", "is")) + kept_text(save);
    case SaveAction::convert:
      return fmt::format("{} {}  {}  sha1 {}\n", save.state == "planned" ? "would write" : "wrote", other,
                         bytes_text(save.there.size()), save.sha1);
    case SaveAction::write:
      break;
  }
  return write_text(save);
}

}  // namespace opifex::report
