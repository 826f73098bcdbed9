#include "comparable.hpp"

#include "opifex/core/image/container.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/platforms/identity.hpp"
#include "opifex/core/platforms/platforms.hpp"

namespace opifex::jobs {

namespace {

/// A container that leaves blocks out does not say whether there was nothing in them.
bool leaves_out(const Image& image) {
  if (!image.container || !image.format->holds.whole_discs) return false;
  const SourcePtr disc = image.stored_blocks();
  for (std::uint64_t at = 0; at < disc->size();) {
    const std::uint64_t data = disc->next_data(at);
    if (data > at) return true;
    at += cd::kUserBytes;
  }
  return false;
}

}  // namespace

std::string why_not_comparable(const Image& image, const Identity* known) {
  if (image.cd() || !image.blocks()) return {};
  const Identity id = known ? *known : identify_platform(image);
  const bool partition = image.format->holds.game_partition && id.state != "full" && id.state != "truncated";
  if (partition) return "trimmed: only the game partition is here";
  if (image.format->holds.game_partition) return {};
  if (id.scrubbed.value_or(false)) return "scrubbed: parts of its partitions were blanked";
  if (id.state == "trimmed") return "trimmed: what lies behind the last file is not here";
  if (leaves_out(image)) return "scrubbed: blocks that no file needs are not here";
  return {};
}

}  // namespace opifex::jobs
