/// The structures of a CHD, read and checked; no hunk is decoded.
#pragma once

#include "opifex/core/formats/chd/chd.hpp"

namespace opifex::chd {

struct Opened {
  Header header;
  HunkMap hunks;
  std::vector<Tag> tags;
};
Opened read_container(const ByteSource& file);

/// The SHA-1 a child names this file by, from its first bytes alone; nothing if it is no CHD.
std::optional<Sha1> peek_identity(const ByteSource& file);

}  // namespace opifex::chd
