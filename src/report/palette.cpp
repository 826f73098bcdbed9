#include "opifex/report/palette.hpp"

#include <algorithm>
#include <array>

namespace opifex::report {
namespace {

constexpr std::array kShades = {
    Shade{Tone::blank, "unknown", 0xFFFFFF},
    Shade{Tone::gap, "gap", 0xD9D9D9},
    Shade{Tone::session, "session", 0xB0D8B0},
    Shade{Tone::unproved, "read, has no checksum", 0xB0D8B0},
    Shade{Tone::data, "data", 0x1F5FBF},
    Shade{Tone::music, "music", 0x6BB8F0},
    Shade{Tone::files, "files", 0x1B9E77},
    Shade{Tone::tables, "tables", 0xF5E84A},
    Shade{Tone::good, "good", 0x1B9E77},
    Shade{Tone::retried, "good after retries", 0xF5E84A},
    Shade{Tone::repairable, "can be repaired", 0xF09C00},
    Shade{Tone::taken, "from some of the dumps", 0xF5E84A},
    Shade{Tone::mended, "repaired", 0xF09C00},
    Shade{Tone::combined, "combined", 0x1F5FBF},
    Shade{Tone::unsure, "unsure", 0xD98CC0},
    Shade{Tone::authored, "made so", 0x6BB8F0},
    Shade{Tone::wrong, "wrong checksum", 0xC8500A},
    Shade{Tone::lost, "lost", 0x7A0014},
    Shade{Tone::other, "missing or different", 0x7A0014},
    Shade{Tone::hang, "drive hung", 0x101010},
    Shade{Tone::untried, "not looked at", 0x5A5A5A},
};

constexpr std::array<std::uint32_t, kSeries> kSeriesRgb = {0x1F5FBF, 0x1B9E77, 0xF09C00, 0x6BB8F0,
                                                           0xD98CC0, 0xF5E84A, 0xC8500A, 0x5A5A5A};

struct Word {
  std::string_view word;
  Tone tone;
};
constexpr std::array kWords = {
    Word{"intact", Tone::good},         Word{"good", Tone::good},           Word{"known", Tone::good},
    Word{"as recorded", Tone::good},    Word{"complete", Tone::good},       Word{"here", Tone::good},
    Word{"written", Tone::good},        Word{"same", Tone::good},           Word{"repairable", Tone::repairable},
    Word{"note", Tone::music},          Word{"warning", Tone::repairable},  Word{"unsure", Tone::unsure},
    Word{"incomplete", Tone::wrong},    Word{"damaged", Tone::lost},        Word{"error", Tone::lost},
    Word{"missing", Tone::lost},        Word{"gone", Tone::lost},           Word{"changed", Tone::lost},
    Word{"different", Tone::lost},      Word{"unreadable", Tone::lost},     Word{"lost", Tone::lost},
    Word{"unsupported", Tone::untried}, Word{"not_known", Tone::untried},   Word{"never", Tone::untried},
    Word{"bad_edc", Tone::wrong},       Word{"hang", Tone::hang},           Word{"untried", Tone::untried},
    Word{"conflict", Tone::wrong},      Word{"absent", Tone::lost},         Word{"bad", Tone::lost},
    Word{"partial", Tone::repairable},  Word{"unverifiable", Tone::unsure}, Word{"combined", Tone::combined},
    Word{"repaired", Tone::mended},     Word{"retried", Tone::retried},     Word{"audio_confirmed", Tone::music},
    Word{"audio_unsure", Tone::unsure},
};

}  // namespace

std::span<const Shade> shades() { return kShades; }

const Shade& shade(Tone tone) { return kShades[static_cast<std::size_t>(tone)]; }

Tone tone_of(SectorState state) {
  switch (state) {
    case SectorState::outside:
      return Tone::blank;
    case SectorState::untried:
      return Tone::untried;
    case SectorState::good:
      return Tone::good;
    case SectorState::retried:
      return Tone::retried;
    case SectorState::repaired:
      return Tone::mended;
    case SectorState::combined:
      return Tone::combined;
    case SectorState::audio_confirmed:
      return Tone::music;
    case SectorState::audio_unsure:
      return Tone::unsure;
    case SectorState::bad_edc:
      return Tone::wrong;
    case SectorState::unreadable:
      return Tone::lost;
    case SectorState::hang:
      return Tone::hang;
    case SectorState::runout:
      return Tone::gap;
  }
  return Tone::blank;
}

Tone tone_of(std::string_view word) {
  const auto at = std::find_if(kWords.begin(), kWords.end(), [&](const Word& w) { return w.word == word; });
  return at == kWords.end() ? Tone::blank : at->tone;
}

std::uint32_t series_rgb(std::size_t number) { return kSeriesRgb[std::min(number, kSeries - 1)]; }

}  // namespace opifex::report
