#include "opifex/core/formats/xiso/losses.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/shared_settings.hpp"
#include "opifex/core/volumes/xdvdfs/volume.hpp"

namespace opifex {

std::vector<Loss> game_partition_losses(const Image& image, const Settings& settings) {
  const bool rebuild = settings.flag(kRebuild);
  std::vector<Loss> losses;
  const auto place = image.blocks() ? find_game_partition(*image.blocks()) : std::nullopt;
  if (place && *place != 0)
    losses.push_back({"partitions", fmt::format("the first {}, and what follows the game", human_size(*place)),
                      "the part of the disc for video players"});
  const auto volume = place ? read_xdvdfs(image.blocks()) : std::nullopt;
  const std::uint64_t end = place ? *place + volume->blocks * cd::kUserBytes : 0;
  // What only rounds an image up is no loss.
  constexpr std::uint64_t kRounding = 1 << 20;
  const std::uint64_t rest = place ? image.blocks()->size() - std::min(end, image.blocks()->size()) : 0;
  const bool filler = rest > kRounding || (rest > 0 && !all_zero(read_up_to(*image.blocks(), end, kRounding)));
  if (place && *place == 0 && !rebuild && filler)
    losses.push_back({"padding", human_size(image.blocks()->size() - end), "what follows the last file is left out"});
  if (rebuild)
    losses.push_back({"padding", "gaps between files", "what no file uses is left out; sectors get other numbers"});
  return losses;
}

}  // namespace opifex
