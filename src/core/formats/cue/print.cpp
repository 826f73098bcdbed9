#include <algorithm>

#include <fmt/format.h>

#include "opifex/core/formats/cue/sheet.hpp"

namespace opifex::cue {
namespace {

std::string quoted(std::string value) {
  std::replace(value.begin(), value.end(), '"', '\'');
  return '"' + value + '"';
}

std::string time(std::int64_t frames) { return cd::to_string(cd::msf_of_frames(frames)); }

class Printer {
 public:
  template <typename... Args>
  void line(fmt::format_string<Args...> format, Args&&... args) {
    out += fmt::format(format, std::forward<Args>(args)...) + "\r\n";
  }
  std::string out;
};

void print_head(Printer& p, const cd::Layout& layout) {
  for (const std::string& remark : layout.remarks) p.line("REM {}", remark);
  if (!layout.catalogue.empty()) p.line("CATALOG {}", layout.catalogue);
  if (!layout.cd_text_file.empty()) p.line("CDTEXTFILE {}", quoted(layout.cd_text_file));
  for (const auto& [command, value] : layout.texts) p.line("{} {}", command, quoted(value));
}

/// Lengths, never positions: a reader needs no guess to understand them.
void print_session_start(Printer& p, const cd::Layout& layout, const cd::Track& track) {
  if (layout.sessions.size() < 2) return;
  for (std::size_t i = 0; i < layout.sessions.size(); ++i) {
    const cd::Session& session = layout.sessions[i];
    if (session.first_track != track.number) continue;
    if (i > 0) p.line("REM LEAD-OUT {}", time(layout.sessions[i - 1].lead_out_sectors));
    p.line("REM SESSION {:02}", session.number);
    if (i == 0) continue;
    p.line("REM LEAD-IN {}", time(layout.sessions[i - 1].lead_in_sectors));
    p.line("REM PREGAP {}", time(layout.sessions[i - 1].pregap_sectors));
  }
}

void print_area_start(Printer& p, const cd::Track& track, cd::Area before) {
  if (track.area == before) return;
  if (track.area == cd::Area::single_density) p.line("REM SINGLE-DENSITY AREA");
  if (track.area == cd::Area::high_density) p.line("REM HIGH-DENSITY AREA");
}

void print_track_head(Printer& p, const PrintedTrack& t) {
  const cd::Track& track = *t.track;
  p.line("  TRACK {:02} {}", track.number, cd::to_string(t.mode));
  for (const std::string& remark : track.remarks) p.line("    REM {}", remark);
  for (const auto& [command, value] : track.texts) p.line("    {} {}", command, quoted(value));
  if (!track.isrc.empty()) p.line("    ISRC {}", track.isrc);
  if (track.flags.any())
    p.line("    FLAGS{}{}{}{}", track.flags.copy_permitted ? " DCP" : "", track.flags.four_channels ? " 4CH" : "",
           track.flags.pre_emphasis ? " PRE" : "", track.flags.serial_copy ? " SCMS" : "");
  if (track.pregap_unstored > 0) p.line("    PREGAP {}", time(track.pregap_unstored));
}

}  // namespace

std::string print(const cd::Layout& layout, const std::vector<std::string>& file_names,
                  const std::vector<PrintedTrack>& tracks) {
  Printer p;
  print_head(p, layout);
  std::size_t next_file = 0;  // FILE lines printed so far
  cd::Area area = cd::Area::none;
  const auto open_file = [&](std::size_t file) {
    for (; next_file <= file; ++next_file) p.line("FILE {} BINARY", quoted(file_names[next_file]));
  };
  for (const PrintedTrack& t : tracks) {
    print_session_start(p, layout, *t.track);
    print_area_start(p, *t.track, area);
    area = t.track->area;
    if (!t.indexes.empty()) open_file(t.indexes.front().file);
    print_track_head(p, t);
    for (const PrintedIndex& index : t.indexes) {
      open_file(index.file);
      p.line("    INDEX {:02} {}", index.number, time(index.frames));
    }
    if (t.track->postgap_unstored > 0) p.line("    POSTGAP {}", time(t.track->postgap_unstored));
  }
  return std::move(p.out);
}

}  // namespace opifex::cue
