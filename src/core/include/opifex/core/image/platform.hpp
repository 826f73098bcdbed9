/// Who a disc, a cartridge or a floppy is for.
#pragma once

#include <string_view>

namespace opifex {

enum class PlatformKind {
  machine,     ///< a console, a handheld, a computer
  video,       ///< discs for players
  music,       ///< audio CDs
  plain_data,  ///< a file system, and nothing that says more
  container    ///< a drive or a file of something that is no image of a game
};

struct Platform {
  std::string_view id;     ///< lower case
  std::string_view title;  ///< for people
  PlatformKind kind = PlatformKind::machine;
};

}  // namespace opifex
