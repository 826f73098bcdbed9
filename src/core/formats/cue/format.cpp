#include "reader.hpp"

namespace opifex {
namespace {

constexpr std::array<std::string_view, 1> kExtensions = {".cue"};

constexpr Capabilities kHolds = {.audio = true,
                                 .track_list = true,
                                 .form2 = true,
                                 .raw_headers = true,
                                 .subchannel = true,
                                 .mixed_subchannel = false,
                                 .sessions = true,
                                 .unstored_gaps = true,
                                 .cd_text = true,
                                 .catalogue = true,
                                 .marks = true,
                                 .first_pregap = true};
constexpr Capabilities with_mixed_subchannel(Capabilities c) {
  c.mixed_subchannel = true;
  return c;
}

/// One reader serves both; which of the two a sheet is shows only when it is read.
int never_first(const ByteSource&, std::string_view) { return 0; }

}  // namespace

extern const Format kCueFormat = {.id = "cue",
                                  .title = "cue sheet with one bin",
                                  .extensions = kExtensions,
                                  .probe = &cue::probe,
                                  .open = &cue::open,
                                  .holds = kHolds,
                                  .plan_write = &cue::plan_one_bin,
                                  .shape = Shape::sheet,
                                  .stored = Stored::sectors,
                                  .read_sheet = &cue::read_sheet_text,
                                  .usual_sheet = &cue::usual_shape};
extern const Format kCueTracksFormat = {.id = "cue-tracks",
                                        .title = "cue sheet with a bin for each track",
                                        .extensions = kExtensions,
                                        .probe = &never_first,
                                        .open = &cue::open,
                                        .holds = with_mixed_subchannel(kHolds),
                                        .plan_write = &cue::plan_bin_per_track,
                                        .shape = Shape::sheet,
                                        .stored = Stored::tracks,
                                        .settings = cue::kTrackSettings,
                                        .read_sheet = &cue::read_sheet_text,
                                        .usual_sheet = &cue::usual_shape};

}  // namespace opifex
