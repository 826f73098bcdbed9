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

extern const Format kCueFormat = {"cue",  "cue sheet with one bin", kExtensions, &cue::probe, &cue::open,
                                  kHolds, &cue::plan_one_bin};
extern const Format kCueTracksFormat = {"cue-tracks",
                                        "cue sheet with a bin for each track",
                                        kExtensions,
                                        &never_first,
                                        &cue::open,
                                        with_mixed_subchannel(kHolds),
                                        &cue::plan_bin_per_track};

}  // namespace opifex
