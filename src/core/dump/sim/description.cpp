// Reads the TOML file that describes a simulated drive.
#include <algorithm>
#include <set>

#include <toml++/toml.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/dump/sim.hpp"
#include "opifex/core/io/byte_source.hpp"

namespace opifex::dump {
namespace {

namespace fs = std::filesystem;

/// A table of the file: every key is asked for once, what is left over is a mistake of the writer.
class Table {
 public:
  Table(const toml::table& table, std::string where, const fs::path& file)
      : table_(table), where_(std::move(where)), file_(file) {}

  [[noreturn]] void fail(const std::string& key, std::string found, std::string expected) const {
    const toml::node* node = table_.get(key);
    const auto& source = node ? node->source() : table_.source();
    Error error({.code = "bad_simulation",
                 .what = fmt::format("the simulated drive's file cannot be used: {}{}", where_, printable(key)),
                 .file = file_.string(),
                 .line = source.begin.line,
                 .found = std::move(found),
                 .expected = std::move(expected),
                 .hint = "docs/simulated-drive.md lists all keys"});
    throw error;
  }

  template <typename T>
  void get(const char* key, T& out) {
    asked_.insert(key);
    const toml::node* node = table_.get(key);
    if (!node) return;
    const auto value = node->value<T>();
    if (!value) fail(key, "a value of another kind", kind_name<T>());
    out = *value;
  }
  template <typename T>
  void number(const char* key, T& out, std::int64_t low, std::int64_t high) {
    std::int64_t value = static_cast<std::int64_t>(out);
    get(key, value);
    if (value < low || value > high) fail(key, fmt::format("{}", value), fmt::format("{} to {}", low, high));
    out = static_cast<T>(value);
  }
  void share(const char* key, double& out) {
    get(key, out);
    if (!(out >= 0 && out <= 1)) fail(key, fmt::format("{}", out), "0 to 1");
  }
  void path(const char* key, fs::path& out) {
    std::string text;
    get(key, text);
    if (!text.empty()) out = file_.parent_path() / text;
  }
  const toml::array* array(const char* key) {
    asked_.insert(key);
    const toml::node* node = table_.get(key);
    if (!node) return nullptr;
    if (!node->is_array()) fail(key, "a value of another kind", "a list");
    return node->as_array();
  }
  template <typename Each>
  void tables(const char* key, Each each) {
    const toml::array* list = array(key);
    if (!list) return;
    for (std::size_t i = 0; i < list->size(); ++i) {
      const toml::table* t = list->get(i)->as_table();
      if (!t) fail(key, "a list of values", "a list of tables");
      Table item(*t, fmt::format("{}{}[{}].", where_, key, i + 1), file_);
      each(item);
      item.finish();
    }
  }
  template <typename Each>
  void table(const char* key, Each each) {
    asked_.insert(key);
    const toml::node* node = table_.get(key);
    if (!node) return;
    if (!node->is_table()) fail(key, "a value of another kind", "a table");
    Table item(*node->as_table(), where_ + key + ".", file_);
    each(item);
    item.finish();
  }
  std::string word(const char* key, const std::string& usual, const std::vector<std::string>& known) {
    std::string text = usual;
    get(key, text);
    if (std::find(known.begin(), known.end(), text) == known.end())
      fail(key, printable(text), fmt::format("one of {}", fmt::join(known, ", ")));
    return text;
  }
  /// "03/11/05", or three numbers.
  std::uint32_t sense_of(const char* key, const toml::node& node) const {
    const toml::array* list = node.as_array();
    if (!list || list->size() != 3) fail(key, "another value", "[key, asc, ascq]");
    std::uint32_t sense = 0;
    for (const toml::node& part : *list) {
      const auto value = part.value<std::int64_t>().value_or(-1);
      if (value < 0 || value > 255) fail(key, "a part outside 0 to 255", "[key, asc, ascq]");
      sense = sense << 8 | static_cast<std::uint32_t>(value);
    }
    return sense;
  }
  void sense(const char* key, std::uint32_t& out) {
    asked_.insert(key);
    if (const toml::node* node = table_.get(key)) out = sense_of(key, *node);
  }
  void finish() const {
    for (const auto& [key, value] : table_)
      if (!asked_.contains(std::string(key.str())))
        fail(std::string(key.str()), "a key that means nothing", "a known key");
  }

 private:
  template <typename T>
  static const char* kind_name() {
    if constexpr (std::is_same_v<T, bool>) return "true or false";
    if constexpr (std::is_same_v<T, std::string>) return "text";
    return "a number";
  }
  const toml::table& table_;
  std::string where_;
  const fs::path& file_;
  std::set<std::string> asked_;
};

constexpr std::int64_t kMostMs = 3'600'000, kMostSectors = 0x7FFFFFFF;

void read_drive(Table& t, SimFeatures& d) {
  t.get("vendor", d.vendor);
  t.get("product", d.product);
  t.get("revision", d.revision);
  const std::string kind = t.word("kind", "cd", {"cd", "dvd", "bd"});
  d.kind = kind == "cd" ? SimKind::cd : kind == "dvd" ? SimKind::dvd : SimKind::bd;
  if (d.kind == SimKind::dvd) d.speeds = {1385, 2770, 5540, 11080};
  if (d.kind == SimKind::bd) d.speeds = {4496, 8992, 17984};
  if (d.kind != SimKind::cd) d.max_blocks = 32;
  if (const toml::array* list = t.array("speeds")) {
    d.speeds.clear();
    for (const toml::node& n : *list) {
      const auto kbs = n.value<std::int64_t>().value_or(0);
      if (kbs < 1 || kbs > 0xFFFE || (!d.speeds.empty() && kbs <= d.speeds.back()))
        t.fail("speeds", fmt::format("{}", kbs), "ascending kB/s from 1 to 65534");
      d.speeds.push_back(static_cast<unsigned>(kbs));
    }
    if (d.speeds.empty()) t.fail("speeds", "an empty list", "at least one");
  }
  t.number("cache_kib", d.cache_kib, 0, 65536);
  unsigned told = d.cache_kib;
  t.number("cache_told_kib", told, 0, 65536);
  d.cache_told_kib = told;
  t.number("readahead", d.readahead, 0, 4096);
  t.get("fua", d.fua);
  t.get("c2", d.c2);
  t.share("c2_reports", d.c2_reports);
  const std::string sub = t.word("sub", "raw", {"raw", "q", "none"});
  d.subchannel = sub == "raw" ? SimSubchannel::raw : sub == "q" ? SimSubchannel::q : SimSubchannel::none;
  t.number("sub_lag", d.subchannel_lag, -2, 2);
  t.get("accurate_stream", d.accurate_stream);
  t.get("cdda_on_data", d.cdda_on_data);
  t.get("strict_type", d.strict_type);
  t.get("overread", d.overread);
  t.number("read_offset", d.read_offset, -5000, 5000);
  t.number("max_blocks", d.max_blocks, 1, 1024);
  t.get("sense_lba", d.sense_lba);
  t.get("get_configuration", d.get_configuration);
  t.get("full_toc", d.full_toc);
}

void read_track(Table& t, std::vector<SimTrack>& session) {
  SimTrack track;
  t.number("number", track.number, 1, 99);
  const std::string mode = t.word("mode", "MODE1", {"MODE1", "MODE2", "AUDIO"});
  track.mode = mode == "AUDIO"   ? cd::TrackMode::Kind::audio
               : mode == "MODE1" ? cd::TrackMode::Kind::mode1
                                 : cd::TrackMode::Kind::mode2;
  track.control = mode == "AUDIO" ? 0 : 4;
  t.number("control", track.control, 0, 15);
  t.path("file", track.file);
  t.number("sectors", track.sectors, 0, cd::kMaxDiscSectors);
  t.number("pregap", track.pregap, 0, cd::kMaxDiscSectors);
  t.get("isrc", track.isrc);
  if (track.file.empty() == (track.sectors == 0)) t.fail("sectors", "neither or both", "either file or sectors");
  session.push_back(std::move(track));
}

void read_disc(Table& t, SimDisc& disc) {
  t.number("profile", disc.profile, 0, 0xFFFF);
  t.get("mcn", disc.mcn);
  t.path("cdtext", disc.cdtext);
  t.number("write_offset", disc.write_offset, -5000, 5000);
  t.path("image", disc.image);
  t.number("layer0_sectors", disc.layer0_sectors, 0, kMostSectors);
  t.number("toc_excess", disc.toc_excess, 0, cd::kMaxDiscSectors);
  t.tables("sessions", [&](Table& session) {
    disc.sessions.emplace_back();
    session.tables("tracks", [&](Table& track) { read_track(track, disc.sessions.back()); });
    if (disc.sessions.back().empty()) session.fail("tracks", "none", "at least one");
  });
  if (disc.image.empty() == disc.sessions.empty()) t.fail("image", "neither or both", "either image or sessions");
}

const std::vector<std::string> kDefectNames = {"unreadable", "weak",  "after",   "slow_only", "c2",         "silent",
                                               "jitter",     "slow",  "hang",    "dead",      "eject",      "swap",
                                               "edge",       "q_bad", "q_fixed", "short",     "retry_sense"};

void read_defect(Table& t, std::vector<SimDefect>& defects) {
  SimDefect d;
  const std::string kind = t.word("kind", "", kDefectNames);
  d.kind = static_cast<DefectKind>(std::find(kDefectNames.begin(), kDefectNames.end(), kind) - kDefectNames.begin());
  if (const toml::array* lba = t.array("lba")) {
    const auto at = [&](std::size_t i) { return lba->size() > i ? lba->get(i)->value<std::int64_t>() : std::nullopt; };
    const auto first = at(0), last = at(1);
    if (!first || !last || *first < -150 || *last < *first || *last > kMostSectors)
      t.fail("lba", "another value", "[first, last]");
    d.first = static_cast<cd::Lba>(*first);
    d.last = static_cast<cd::Lba>(*last);
  } else {
    t.fail("lba", "nothing", "[first, last]");
  }
  t.sense("sense", d.sense);
  t.share("p", d.p);
  t.get("halving", d.halving);
  t.get("fixed", d.fixed);
  t.number("n", d.n, 1, 1'000'000);
  t.number("kbs", d.kbs, 0, 0xFFFF);
  t.number("bytes", d.bytes, 1, static_cast<std::int64_t>(2352));
  t.number("max", d.max, 0, 5000);
  t.number("ms", d.ms, 0, kMostMs);
  t.number("count", d.count, 0, 1'000'000);
  if (const toml::array* frames = t.array("frames"))
    for (const toml::node& n : *frames) {
      const std::string text = n.value<std::string>().value_or("");
      Bytes q;
      for (std::size_t i = 0; i + 1 < text.size(); i += 2) {
        unsigned byte = 0;
        for (char c : text.substr(i, 2)) {
          const std::size_t digit = std::string_view("0123456789abcdef").find(static_cast<char>(c | 0x20));
          if (digit == std::string_view::npos) t.fail("frames", printable(text), "24 hexadecimal digits");
          byte = byte << 4 | static_cast<unsigned>(digit);
        }
        q.push_back(static_cast<std::byte>(byte));
      }
      if (q.size() != 12) t.fail("frames", printable(text), "24 hexadecimal digits");
      d.frames.push_back(std::move(q));
    }
  defects.push_back(std::move(d));
}

SimDescription read_all(const toml::table& root, const fs::path& file) {
  SimDescription d;
  Table t(root, "", file);
  t.number("seed", d.seed, 0, INT64_MAX);
  t.path("log", d.log);
  t.table("drive", [&](Table& x) { read_drive(x, d.drive); });
  t.table("start", [&](Table& x) {
    if (const toml::array* list = x.array("unit_attention"))
      for (const toml::node& n : *list) d.unit_attention.push_back(x.sense_of("unit_attention", n));
    x.number("becoming_ready_ms", d.becoming_ready_ms, 0, kMostMs);
    x.get("medium", d.medium);
  });
  t.table("timing", [&](Table& x) {
    x.number("command_ms", d.timing.command_ms, 0, kMostMs);
    x.number("seek_ms", d.timing.seek_ms, 0, kMostMs);
    x.number("spinup_ms", d.timing.spinup_ms, 0, kMostMs);
    x.number("error_ms", d.timing.error_ms, 0, kMostMs);
    x.get("pace", d.timing.pace);
    if (!(d.timing.pace >= 0 && d.timing.pace <= 100)) x.fail("pace", "another value", "0 to 100");
  });
  d.discs.emplace_back();
  bool first = false;
  t.table("disc", [&](Table& x) {
    read_disc(x, d.discs.front());
    first = true;
  });
  if (!first) t.fail("disc", "nothing", "the disc in the drive");
  t.tables("next_discs", [&](Table& x) {
    d.discs.emplace_back();
    read_disc(x, d.discs.back());
  });
  t.tables("defects", [&](Table& x) { read_defect(x, d.defects); });
  t.finish();
  return d;
}

}  // namespace

SimDescription load_simulation(const fs::path& file) {
  constexpr std::size_t kMostBytes = 1 << 20;
  const SourcePtr source = open_file(file);
  if (source->size() > kMostBytes)
    throw Error(
        {.code = "bad_simulation", .what = "this is no description of a simulated drive", .file = file.string()});
  const Bytes text = read_up_to(*source, 0, kMostBytes);
  try {
    return read_all(toml::parse(as_text(text), file.string()), file);
  } catch (const toml::parse_error& e) {
    throw Error({.code = "bad_simulation",
                 .what = "the simulated drive's file is no TOML: " + printable(e.description()),
                 .file = file.string(),
                 .line = e.source().begin.line});
  }
}

}  // namespace opifex::dump
