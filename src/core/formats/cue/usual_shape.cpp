// The shape in which known lists have their sheets: whoever's program wrote one, the same discs give the same text.
#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/cue/sheet.hpp"

#include "reader.hpp"

namespace opifex::cue {
namespace {

std::string time(std::int32_t frames) { return cd::to_string(cd::msf_of_frames(frames)); }

std::string flags_text(const cd::TrackFlags& flags) {
  return fmt::format("{}{}{}{}", flags.copy_permitted ? " DCP" : "", flags.four_channels ? " 4CH" : "",
                     flags.pre_emphasis ? " PRE" : "", flags.serial_copy ? " SCMS" : "");
}

}  // namespace

std::optional<std::string> usual_shape(const std::string& text, const std::vector<std::string>& names, LineEnd end) {
  const std::string file = "sheet";
  const auto encodings = candidate_encodings(text, file);
  if (encodings.empty()) return std::nullopt;
  const Sheet sheet = parse(text, encodings.front(), file);
  if (sheet.files.size() != names.size()) return std::nullopt;
  std::string out;
  const auto line = [&](const std::string& words) { out += words + (end == LineEnd::crlf ? "\r\n" : "\n"); };
  std::size_t next_file = 0;
  const auto open_file = [&](std::size_t wanted) {
    for (; next_file <= wanted && next_file < names.size(); ++next_file)
      line(fmt::format("FILE \"{}\" BINARY", names[next_file]));
  };
  for (const SheetTrack& track : sheet.tracks) {
    if (!track.indexes.empty()) open_file(track.indexes.front().file);
    line(fmt::format("  TRACK {:02} {}", track.number, cd::to_string(track.mode)));
    if (track.flags.any()) line("    FLAGS" + flags_text(track.flags));
    if (!track.isrc.empty()) line("    ISRC " + track.isrc);
    if (track.pregap) line("    PREGAP " + time(*track.pregap));
    for (const SheetIndex& index : track.indexes) {
      open_file(index.file);
      line(fmt::format("    INDEX {:02} {}", index.number, time(index.frames)));
    }
    if (track.postgap) line("    POSTGAP " + time(*track.postgap));
  }
  return out;
}

}  // namespace opifex::cue
