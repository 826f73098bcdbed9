#include "opifex/report/dump.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/report/table.hpp"
#include "opifex/report/terminal.hpp"
#include "opifex/report/text.hpp"
#include "opifex/report/words.hpp"

namespace opifex::report {
namespace {

using dump::DumpPlan;
using dump::DumpResult;
using dump::MediumKind;

void add(std::string& text, const char* label, const std::string& value) {
  Facts facts;
  facts.add(label, value);
  text += facts.text();
}

std::string duration(double seconds) {
  if (seconds < 10) return fmt::format("{:.1f} s", seconds);
  const auto whole = static_cast<std::uint64_t>(seconds + 0.5);
  if (whole < 120) return fmt::format("{} s", whole);
  if (whole < 7200) return fmt::format("{} min {} s", whole / 60, whole % 60);
  return fmt::format("{} h {} min", whole / 3600, whole / 60 % 60);
}

std::string disc_line(const DumpPlan& plan) {
  const dump::Medium& m = plan.medium;
  if (m.kind != MediumKind::cd) {
    const std::string layers = m.layer_break > 0 ? fmt::format(", layer break at {}", grouped(m.layer_break)) : "";
    return fmt::format("{}, {} of 2048 bytes{}", m.name, plural(m.blocks, "block"), layers);
  }
  const std::size_t data = plan.layout.data_track_count(), audio = plan.layout.audio_track_count();
  std::string text = m.name;
  if (data > 0) text += ", " + plural(data, "data track");
  if (audio > 0) text += (data > 0 ? " + " : ", ") + plural(audio, "audio track");
  if (plan.layout.sessions.size() > 1) text += fmt::format(", {} sessions", plan.layout.sessions.size());
  return text + fmt::format(", {} long", cd::to_string(cd::msf_of_frames(plan.layout.lead_out)));
}

std::string encryption(const DumpPlan& plan) {
  if (!plan.ps3) return "";
  if (!plan.ps3->has_encrypted()) return "no";
  return plan.decrypts ? "yes; decrypted while reading" : "yes; dumped as it is";
}

/// What is done about the place of the music, where that is known.
std::string offset_text(const DumpPlan& plan) {
  if (plan.layout.audio_track_count() == 0) return "";
  const int corrected = plan.offset.value_or(0);
  const bool confirmed = plan.found_offset == corrected;
  if (!plan.offset && !confirmed) return "";  // a warning speaks of it
  return (corrected == 0 ? "none" : fmt::format("{} samples are corrected", corrected)) +
         (confirmed ? ", as data read as music confirm" : "");
}

std::string medium_text(const DumpPlan& plan) {
  const Identity& id = plan.medium.identity;
  std::string text = printable(plan.source) + "\n";
  add(text, "Drive", plan.medium.reader);
  add(text, "Disc", disc_line(plan));
  if (!id.platform.empty()) add(text, "Platform", platform_name(id.platform));
  add(text, "Serial", id.serial);
  add(text, "Title", id.title);
  add(text, "Region", id.region);
  add(text, "Encrypted", encryption(plan));
  return text;
}

std::string track_table(const DumpPlan& plan) {
  if (plan.medium.kind != MediumKind::cd) return "";
  Table table({{"Track", Align::right},
               {"Kind"},
               {"Session", Align::right},
               {"Start"},
               {"LBA", Align::right},
               {"Pregap"},
               {"Length"},
               {"ISRC"}});
  const bool sessions = plan.layout.sessions.size() > 1;
  for (const cd::Track& t : plan.layout.tracks)
    table.add({fmt::format("{}", t.number), cd::to_string(t.mode), sessions ? fmt::format("{}", t.session) : "",
               cd::to_string(cd::msf_of_lba(t.start_lba)), fmt::format("{}", t.start_lba),
               t.pregap_lba < t.start_lba ? cd::to_string(cd::msf_of_frames(t.start_lba - t.pregap_lba)) : "-",
               cd::to_string(cd::msf_of_frames(t.length())), t.isrc});
  return "\n" + table.text("  ");
}

std::string states_line(const SectorMap& map) {
  std::string text;
  for (const SectorState state :
       {SectorState::good, SectorState::audio_confirmed, SectorState::retried, SectorState::repaired,
        SectorState::combined, SectorState::audio_unsure, SectorState::bad_edc, SectorState::unreadable,
        SectorState::hang, SectorState::untried, SectorState::runout})
    if (const std::uint64_t n = map.count(state); n > 0)
      text += fmt::format("{}{} {}", text.empty() ? "" : ", ", grouped(n), to_string(state));
  return text;
}

/// "damaged: 20 sectors lost": the word before the colon has its colour.
void add_verdict(std::string& text, const std::string& line) {
  const std::size_t colon = line.find(':');
  text += fmt::format("  {:<11} {}{}\n", "Verdict", state_text(line.substr(0, colon)), line.substr(colon));
}

std::string verdict_line(const DumpResult& r) {
  const std::uint64_t lost = r.map.map.count_if(is_lost), unsure = r.map.map.count(SectorState::audio_unsure);
  switch (r.verdict) {
    case dump::DumpVerdict::intact:
      return "intact: every sector was read and proved";
    case dump::DumpVerdict::unsure:
      if (unsure == 0) return "unsure: a part of the subchannel is missing";
      return fmt::format("unsure: {} of music not confirmed by a second reading", plural(unsure, "sector"));
    case dump::DumpVerdict::damaged:
      return fmt::format("damaged: {} lost{}", plural(lost, "sector"),
                         unsure > 0 ? fmt::format(", {} of music unsure", grouped(unsure)) : "");
  }
  return "";
}

/// What makes the rest certain.
std::string proof_line(const DumpPlan& plan, const SectorMap& map) {
  std::uint64_t blocks = 0, data = 0, music = 0;
  for (const StateRange& range : map.ranges()) {
    const auto n = static_cast<std::uint64_t>(range.end - range.first);
    if (range.state == SectorState::audio_confirmed) music += n;
    const bool sound = range.state == SectorState::good || range.state == SectorState::retried ||
                       range.state == SectorState::repaired || range.state == SectorState::combined;
    if (sound) (plan.medium.kind == MediumKind::cd ? data : blocks) += n;
  }
  std::string text;
  const auto say = [&](std::uint64_t n, const char* how) {
    if (n > 0) text += fmt::format("{}{} {}", text.empty() ? "" : "; ", grouped(n), how);
  };
  say(data, "sectors of data by their checksums");
  say(music, "of music by readings that agree, each from the disc");
  say(blocks, plan.medium.kind == MediumKind::blocks ? "blocks read without an error"
                                                     : "blocks by the error correction of the drive");
  return text;
}

bool loses_data(const DumpPlan& plan, const SectorMap& map) {
  const std::vector<StateRange> ranges = map.ranges();
  return std::any_of(ranges.begin(), ranges.end(), [&](const StateRange& range) {
    return is_lost(range.state) &&
           std::any_of(plan.regions.begin(), plan.regions.end(), [&](const dump::Region& region) {
             return region.kind != dump::RegionKind::audio && range.first < region.end && range.end > region.first;
           });
  });
}

std::string hit_line(const DumpPlan& plan, const DumpResult& r) {
  constexpr std::size_t kShown = 8;
  std::vector<std::string> hit(r.hit_files.begin(),
                               r.hit_files.begin() + static_cast<std::ptrdiff_t>(std::min(kShown, r.hit_files.size())));
  if (r.hit_files.size() > kShown) hit.push_back(fmt::format("{} more files", grouped(r.hit_files.size() - kShown)));
  const bool has_files =
      !plan.medium.identity.platform.empty() && !is_kind(plan.medium.identity.platform, PlatformKind::music);
  if (loses_data(plan, r.map.map) && r.files_known && hit.empty())
    hit.push_back("no file: what is lost lies between them");
  if (loses_data(plan, r.map.map) && !r.files_known && has_files)
    hit.push_back(hit.empty() ? "files that cannot be named: the directories are damaged"
                              : "perhaps more: the directories are damaged");
  for (const cd::Track& t : plan.layout.tracks) {
    if (!t.mode.is_audio()) continue;
    const std::vector<StateRange> ranges = r.map.map.ranges();
    const bool is_hit = std::any_of(ranges.begin(), ranges.end(), [&](const StateRange& range) {
      const bool open = is_lost(range.state) || range.state == SectorState::audio_unsure;
      return open && range.first < t.end_lba && range.end > t.pregap_lba;
    });
    if (is_hit) hit.push_back(fmt::format("track {} (music)", t.number));
  }
  return fmt::format("{}", fmt::join(hit, ", "));
}

/// What somebody with this disc in the hand can do.
std::string next_line(const DumpResult& r) {
  if (r.verdict == dump::DumpVerdict::intact) return "";
  const std::uint64_t open = r.map.map.count_if(is_lost) + r.map.map.count(SectorState::audio_unsure);
  if (open > 0 && open == r.stats.lacking)
    return "a drive that reads beyond the edge of the music, or one with another offset";
  return "clean the disc and dump it again, to another name; take another drive; opifex rescue joins the dumps";
}

std::string hashes_table(const DumpPlan& plan, const DumpResult& r) {
  std::string text;
  for (const NamedHash& h : r.hashes) text += fmt::format("  {:<11} {}\n", h.name, h.value);
  if (r.tracks.size() < 2 || r.hashes.empty()) return text;
  std::vector<Table::Column> columns = {
      {"Track", Align::right}, {"Kind"}, {"Sectors", Align::right}, state_column("State")};
  for (const NamedHash& h : r.hashes) columns.push_back({h.name});
  Table table(columns);
  for (const dump::TrackHashes& t : r.tracks) {
    const cd::Track& track = *plan.layout.track(t.number);
    std::uint64_t lost = 0, unsure = 0;
    for (const StateRange& range : r.map.map.ranges()) {
      const cd::Lba from = std::max(range.first, track.pregap_lba), to = std::min(range.end, track.end_lba);
      if (from >= to) continue;
      if (is_lost(range.state)) lost += static_cast<std::uint64_t>(to - from);
      if (range.state == SectorState::audio_unsure) unsure += static_cast<std::uint64_t>(to - from);
    }
    const std::string state = lost > 0     ? fmt::format("{} lost", grouped(lost))
                              : unsure > 0 ? fmt::format("{} unsure", grouped(unsure))
                                           : "proved";
    std::vector<std::string> row = {fmt::format("{}", t.number), cd::to_string(track.mode), grouped(t.sectors), state};
    for (const NamedHash& h : t.hashes) row.push_back(h.value);
    table.add(row);
  }
  return text + "\n" + table.text("  ");
}

}  // namespace

std::string lost_ranges_text(const SectorMap& map, std::size_t most) {
  std::string text;
  std::size_t shown = 0, left = 0;
  for (const StateRange& r : map.ranges()) {
    if (!is_lost(r.state) && r.state != SectorState::audio_unsure) continue;
    if (shown++ >= most) {
      ++left;
      continue;
    }
    const auto n = static_cast<std::uint64_t>(r.end - r.first);
    text +=
        fmt::format("  {:<11} {} from {}: {}\n", is_lost(r.state) ? "lost" : "unsure", plural(n, "sector"),
                    fmt::format("LBA {} ({})", r.first, cd::to_string(cd::msf_of_lba(r.first))), to_string(r.state));
  }
  if (left > 0) text += fmt::format("  ... and {} more ranges: --json lists all\n", grouped(left));
  return text;
}

std::string dump_plan_text(const DumpPlan& plan, DumpTense tense) {
  std::string text = medium_text(plan);
  const std::uint64_t bytes = plan.sectors() * plan.sector_bytes();
  std::string expected = fmt::format("{}, {}", plural(plan.sectors(), "sector"), human_size(bytes));
  if (plan.expected_seconds > 0)
    expected += fmt::format(", about {} if nothing is damaged", duration(plan.expected_seconds));
  add(text, "To read", expected);
  add(text, "Offset", offset_text(plan));
  if (plan.resumes_at)
    add(text, "Goes on",
        fmt::format("an unfinished dump of this disc is there: {:.0f} % are read", *plan.resumes_at * 100));
  text += track_table(plan) + "\n";
  for (const PlannedFile& f : plan.files)
    add(text, tense == DumpTense::now ? "writing" : "would write",
        fmt::format("{}  {}", f.path.string(), bytes_text(f.size_bytes)));
  std::string target = plan.target.file_system;
  if (plan.target.free_bytes != UINT64_MAX) target += fmt::format(", {} free", human_size(plan.target.free_bytes));
  add(text, "target", target);
  return text + loss_lines(plan.losses) + warning_lines(plan.medium.warnings);
}

std::string dump_text(const DumpPlan& plan, const DumpResult& r) {
  const Identity& id = plan.medium.identity;
  std::string text = printable(plan.source) + "\n";
  add(text, "Disc", disc_line(plan));
  add(text, "Title", id.title + (id.serial.empty() ? "" : fmt::format(" ({})", id.serial)));
  add(text, "Encrypted", encryption(plan));
  add(text, "Offset", offset_text(plan));
  std::uint64_t bytes = 0;
  const std::string lead = plan.lead.string();
  std::string shortest;  // a container's header names itself
  for (const WrittenFile& f : r.outputs) {
    bytes += f.size_bytes;
    if (shortest.empty() || f.path.string().size() < shortest.size()) shortest = f.path.string();
  }
  const bool named =
      std::any_of(r.outputs.begin(), r.outputs.end(), [&](const auto& f) { return f.path == plan.lead; });
  add(text, "Saved as",
      fmt::format("{}  {} in {}", named ? lead : shortest, human_size(bytes), plural(r.outputs.size(), "file")));
  const double read = static_cast<double>(plan.sectors() * plan.sector_bytes());
  std::string time = duration(r.seconds);
  if (r.seconds > 0) time += fmt::format(", {:.1f} MB/s on average", read / r.seconds / 1e6);
  if (r.resumed) time += " (with what an earlier run had read)";
  add(text, "Time", time);
  add(text, "Compared", r.proof.compared);
  add_verdict(text, verdict_line(r));
  add(text, "Proved", proof_line(plan, r.map.map));
  add(text, "Sectors", states_line(r.map.map));
  add(text, "Hits", hit_line(plan, r));
  add(text, "Try next", next_line(r));
  if (r.stats.hangs > 0) add(text, "Hangs", plural(r.stats.hangs, "time") + " the drive did not answer");
  text += lost_ranges_text(r.map.map, 20);
  text += hashes_table(plan, r);
  const std::string remarks = loss_lines(plan.losses) + warning_lines(r.warnings);
  return text + (remarks.empty() ? "" : "\n" + remarks);
}

namespace {

Json or_null(const std::string& text) { return text.empty() ? Json() : Json(text); }

Json named(const std::vector<NamedHash>& hashes) {
  Json json = Json::object();
  for (const NamedHash& h : hashes) json[h.name] = h.value;
  return json;
}

const char* kind_word(MediumKind kind) {
  switch (kind) {
    case MediumKind::cd:
      return "cd";
    case MediumKind::dvd:
      return "dvd";
    case MediumKind::bd:
      return "bd";
    case MediumKind::blocks:
      return "blocks";
  }
  return "";
}

Json tracks_json(const DumpPlan& plan, const DumpResult* r) {
  Json tracks = Json::array();
  for (const cd::Track& t : plan.layout.tracks) {
    Json track = {{"number", t.number},
                  {"mode", cd::to_string(t.mode)},
                  {"session", t.session},
                  {"start_lba", t.start_lba},
                  {"pregap_sectors", t.start_lba - t.pregap_lba},
                  {"length_sectors", t.length()},
                  {"isrc", or_null(t.isrc)}};
    if (r)
      for (const dump::TrackHashes& h : r->tracks)
        if (h.number == t.number) track["hashes"] = named(h.hashes);
    tracks.push_back(track);
  }
  return tracks;
}

}  // namespace

Json sector_map_json(const SectorMapFile& file) {
  Json counts = Json::object(), ranges = Json::array();
  for (const StateRange& r : file.map.ranges()) {
    const auto n = static_cast<std::uint64_t>(r.end - r.first);
    const std::string state(to_string(r.state));
    counts[state] = counts.value(state, std::uint64_t{0}) + n;
    ranges.push_back({{"state", state}, {"lba", r.first}, {"count", n}});
  }
  return {{"counts", counts}, {"ranges", ranges}};
}

Json dump_json(const DumpPlan& plan, const DumpResult* r) {
  const Identity& id = plan.medium.identity;
  Json outputs = Json::array();
  if (r) {
    for (const WrittenFile& f : r->outputs)
      outputs.push_back({{"path", f.path.string()}, {"size_bytes", f.size_bytes}});
  } else {
    for (const PlannedFile& f : plan.files)
      outputs.push_back({{"path", f.path.string()}, {"size_bytes", f.size_bytes}});
  }
  Json json = {{"inputs", {plan.source}},
               {"outputs", outputs},
               {"losses", to_json(plan.losses)},
               {"steps",
                {fmt::format("read {} sectors of {} bytes", plan.sectors(), plan.sector_bytes()),
                 fmt::format("write {}", plan.lead.string())}},
               {"planned_only", r == nullptr},
               {"proof_compared", r ? or_null(r->proof.compared) : Json()},
               {"format", plan.format->id},
               {"medium",
                {{"kind", kind_word(plan.medium.kind)},
                 {"name", plan.medium.name},
                 {"drive", or_null(plan.medium.reader)},
                 {"layers", plan.medium.layers},
                 {"layer_break_lba", plan.medium.layer_break > 0 ? Json(plan.medium.layer_break) : Json()},
                 {"platform", or_null(id.platform)},
                 {"serial", or_null(id.serial)},
                 {"title", or_null(id.title)},
                 {"region", or_null(id.region)},
                 {"catalogue", or_null(plan.medium.catalogue)}}},
               {"tracks", tracks_json(plan, r)},
               {"sectors", plan.sectors()},
               {"sector_bytes", plan.sector_bytes()},
               {"expected_seconds", plan.expected_seconds},
               {"resumes_at", plan.resumes_at ? Json(*plan.resumes_at) : Json()},
               {"decrypted", plan.decrypts},
               {"offset", plan.offset ? Json(*plan.offset) : Json()},
               {"found_offset", plan.found_offset ? Json(*plan.found_offset) : Json()},
               {"warnings", to_json(r ? r->warnings : plan.medium.warnings)}};
  if (!r) return json;
  Json readings = Json::object();
  for (const auto& [n, sectors] : r->stats.readings) readings[std::to_string(n)] = sectors;
  Json given_up = Json::object();
  for (const auto& [n, sectors] : r->stats.given_up) given_up[std::to_string(n)] = sectors;
  json["verdict"] = dump::to_string(r->verdict);
  json["hashes"] = named(r->hashes);
  json["map"] = sector_map_json(r->map);
  json["drive_statistics"] = {{"readings", readings},
                              {"given_up", given_up},
                              {"flagged_sectors", r->stats.flagged_sectors},
                              {"hangs", r->stats.hangs},
                              {"drive_seconds", static_cast<double>(r->stats.drive_ms) / 1000},
                              {"unreachable_samples", r->unreachable_samples},
                              {"only_from_buffer", r->stats.in_buffer}};
  json["hit_files"] = r->hit_files;
  json["hit_files_complete"] = r->files_known;
  json["subchannel_missing"] = r->subchannel_missing;
  json["resumed"] = r->resumed;
  json["seconds"] = r->seconds;
  return json;
}

}  // namespace opifex::report
