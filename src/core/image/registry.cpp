// The list of formats: one line each.
#include "opifex/core/image/format.hpp"

namespace opifex {

extern const Format kVcdFormat;
extern const Format kCueFormat;
extern const Format kCueTracksFormat;
extern const Format kBinFormat;
extern const Format kIsoFormat;

std::span<const Format* const> formats() {
  static constexpr std::array kFormats = {
      &kCueFormat,        // formats/cue
      &kCueTracksFormat,  // formats/cue
      &kVcdFormat,        // formats/vcd
      &kIsoFormat,        // formats/iso
      &kBinFormat,        // formats/bin
  };
  return kFormats;
}

}  // namespace opifex
