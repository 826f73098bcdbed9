// Reads the TOML file that describes a simulated drive.
#include <algorithm>

#include "opifex/core/dump/sim.hpp"
#include "opifex/core/io/byte_source.hpp"

#include "toml_table.hpp"

namespace opifex::dump {
namespace {

namespace fs = std::filesystem;

using Table = TomlTable;
constexpr SimulatedKind kDrive = {"drive", "docs/simulated-drive.md"};

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
  Table t(root, "", file, kDrive);
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
  const toml::table root = parse_simulation(file, kDrive);
  return read_all(root, file);
}

}  // namespace opifex::dump
