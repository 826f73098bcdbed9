/// Leaving out what no file of a GameCube or Wii disc needs: never by itself, only on the user's word.
#pragma once

#include "opifex/core/image/image.hpp"
#include "opifex/core/image/loss.hpp"
#include "opifex/core/volumes/disc_use.hpp"

namespace opifex {

struct ScrubRequest {
  bool unused = false;               ///< zeros for what nothing uses
  WiiKeep keep = WiiKeep::all;       ///< which partitions stay
  std::uint64_t unit_bytes = 0x800;  ///< a unit that holds anything used stays whole; a power of two
};

/// The image with zeros (holes) where something was left out: the rest keeps its place and its bytes.
struct Scrubbed {
  Image image;
  std::vector<Loss> losses;  ///< `scrubbed` and `partitions`: asked for, so accepted
};

/// Error (refused): no_console_disc; for `unused`: no_key, wrong_key, bad_tables if nobody can tell what is used.
Scrubbed scrub(const Image& image, const ScrubRequest& request);

}  // namespace opifex
