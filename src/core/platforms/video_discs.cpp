// Video CDs and DVDs: files that only they have.
#include <array>

#include "opifex/core/base/text.hpp"

#include "disc_view.hpp"

namespace opifex {

namespace {

std::optional<Identity> identify_video(const DiscView& view) {
  struct Mark {
    const char *platform, *path, *magic;
  };
  constexpr std::array kFirstFiles = {
      Mark{"video-cd", "VCD/INFO.VCD", "VIDEO_CD"}, Mark{"super-video-cd", "SVCD/INFO.SVD", "SUPERVCD"},
      Mark{"super-video-cd", "SVCD/INFO.SVD", "HQ-VCD"}, Mark{"dvd-video", "VIDEO_TS/VIDEO_TS.IFO", "DVDVIDEO-VMG"}};
  for (const Mark& m : kFirstFiles) {
    if (!as_text(view.file(m.path, 16)).starts_with(m.magic)) continue;
    Identity id = known_as(m.platform, "certain", std::string(m.path) + " says so");
    id.volume = printable(view.iso->volume_id);
    const Bytes info = view.file(m.path, 32);
    // The album's name in INFO.VCD.
    if (std::string_view(m.platform) == "video-cd" && info.size() >= 26)
      id.title = printable(trim(as_text(info).substr(10, 16)));
    if (id.title.empty()) id.title = id.volume;
    return id;
  }
  return std::nullopt;
}

constexpr std::array kVideoPlatforms = {Platform{"video-cd", "Video CD"}, Platform{"super-video-cd", "Super Video CD"},
                                        Platform{"dvd-video", "DVD-Video"}};

}  // namespace

extern const Detector kVideoDiscs = {kVideoPlatforms, &identify_video};

}  // namespace opifex
