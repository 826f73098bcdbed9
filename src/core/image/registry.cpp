// The list of formats, in order of precedence at equal proof: one line each.
#include "opifex/core/image/format.hpp"

#define OPIFEX_FORMATS(FORMAT)                     \
  FORMAT(kCueFormat)       /* formats/cue */       \
  FORMAT(kCueTracksFormat) /* formats/cue */       \
  FORMAT(kGdiFormat)       /* formats/gdi */       \
  FORMAT(kVcdFormat)       /* formats/vcd */       \
  FORMAT(kChdFormat)       /* formats/chd */       \
  FORMAT(kWbfsFormat)      /* formats/wbfs */      \
  FORMAT(kIsoFormat)       /* formats/iso */       \
  FORMAT(kXisoFormat)      /* formats/xiso */      \
  FORMAT(kGodFormat)       /* formats/god */       \
  FORMAT(kStfsFormat)      /* formats/stfs */      \
  FORMAT(kRomFormat)       /* formats/rom */       \
  FORMAT(kAdfFormat)       /* formats/adf */       \
  FORMAT(kPs1CardFormat)   /* formats/ps1-card */  \
  FORMAT(kPs1SingleFormat) /* formats/ps1-card */  \
  FORMAT(kPs1BareFormat)   /* formats/ps1-card */  \
  FORMAT(kNvramFormat)     /* formats/3do-nvram */ \
  FORMAT(kBinFormat)       /* formats/bin */

namespace opifex {

#define OPIFEX_DECLARE(name) extern const Format name;
OPIFEX_FORMATS(OPIFEX_DECLARE)
#undef OPIFEX_DECLARE

std::span<const Format* const> formats() {
#define OPIFEX_ADDRESS(name) &name,
  static constexpr std::array kFormats = {OPIFEX_FORMATS(OPIFEX_ADDRESS)};
#undef OPIFEX_ADDRESS
  return kFormats;
}

}  // namespace opifex
