/// What a conversion would drop, told before writing.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace opifex {

/// Content kinds are refused unless the user accepts them by name; filler kinds are only reported.
struct Loss {
  std::string kind;    ///< one of loss_kinds()
  std::string where;   ///< "tracks 2 to 4", "sector 26 and 3 more"
  std::string detail;  ///< one sentence
  bool accepted = false;
};

bool is_content_loss(std::string_view kind);
/// audio, tracks, form2, subchannel, raw-headers, sessions, partitions, files, header (of a ROM)
const std::vector<std::string>& content_loss_kinds();

}  // namespace opifex
