#include "opifex/core/image/loss.hpp"

#include <algorithm>

namespace opifex {

const std::vector<std::string>& content_loss_kinds() {
  static const std::vector<std::string> kinds = {"audio",    "tracks",     "form2", "subchannel", "raw-headers",
                                                 "sessions", "partitions", "files", "header"};
  return kinds;
}

bool is_content_loss(std::string_view kind) {
  const auto& kinds = content_loss_kinds();
  return std::find(kinds.begin(), kinds.end(), kind) != kinds.end();
}

}  // namespace opifex
