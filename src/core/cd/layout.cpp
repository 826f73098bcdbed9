#include "opifex/core/cd/layout.hpp"

#include <algorithm>
#include <array>

#include "opifex/core/base/text.hpp"

namespace opifex::cd {
namespace {

struct ModeWord {
  std::string_view word;
  TrackMode mode;
};
using Kind = TrackMode::Kind;
constexpr std::array kModeWords = {
    ModeWord{"AUDIO", {Kind::audio, 2352}},      ModeWord{"CDG", {Kind::cdg, 2448}},
    ModeWord{"MODE1/2048", {Kind::mode1, 2048}}, ModeWord{"MODE1/2352", {Kind::mode1, 2352}},
    ModeWord{"MODE2/2048", {Kind::mode2, 2048}}, ModeWord{"MODE2/2324", {Kind::mode2, 2324}},
    ModeWord{"MODE2/2336", {Kind::mode2, 2336}}, ModeWord{"MODE2/2352", {Kind::mode2, 2352}},
    ModeWord{"CDI/2336", {Kind::cdi, 2336}},     ModeWord{"CDI/2352", {Kind::cdi, 2352}},
};

}  // namespace

std::string to_string(TrackMode mode) {
  for (const ModeWord& w : kModeWords)
    if (w.mode == mode) return std::string(w.word);
  // Sizes no sheet can name: raw sectors with subchannel behind them.
  const char* kind = mode.kind == Kind::mode1 ? "MODE1/" : mode.kind == Kind::mode2 ? "MODE2/" : "AUDIO/";
  return kind + std::to_string(mode.sector_bytes);
}

std::optional<TrackMode> parse_track_mode(std::string_view word) {
  const std::string upper = to_upper_ascii(word);
  for (const ModeWord& w : kModeWords)
    if (w.word == upper) return w.mode;
  return std::nullopt;
}

std::optional<std::string> find_text(const Texts& texts, std::string_view key) {
  for (const auto& [k, value] : texts)
    if (k == key) return value;
  return std::nullopt;
}

int Track::control() const {
  return (mode.is_audio() ? 0 : 4) | (flags.pre_emphasis ? 1 : 0) | (flags.copy_permitted ? 2 : 0) |
         (flags.four_channels ? 8 : 0);
}

const Track* Layout::track(int number) const {
  for (const Track& t : tracks)
    if (t.number == number) return &t;
  return nullptr;
}

const Track* Layout::track_at(Lba lba) const {
  for (const Track& t : tracks)
    if (lba >= t.pregap_lba && lba < t.end_lba) return &t;
  return nullptr;
}

const Track* Layout::first_data_track() const {
  for (const Track& t : tracks)
    if (!t.mode.is_audio()) return &t;
  return nullptr;
}

std::size_t Layout::audio_track_count() const {
  return static_cast<std::size_t>(
      std::count_if(tracks.begin(), tracks.end(), [](const Track& t) { return t.mode.is_audio(); }));
}

}  // namespace opifex::cd
