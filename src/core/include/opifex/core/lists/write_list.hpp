/// Writes a known list as an XML datafile: the same content gives the same bytes, whatever order it was found in.
#pragma once

#include <string>
#include <vector>

#include "opifex/core/base/hash.hpp"

namespace opifex {

struct MadeEntry {
  std::string name;  ///< with '/' between folders
  std::uint64_t size_bytes = 0;
  std::vector<NamedHash> hashes = {};  ///< crc32, md5, sha1, sha256: others are left out
};

struct MadeSet {
  std::string name;
  std::vector<MadeEntry> entries = {};  ///< in the order of the disc, the sheet first
};

/// UTF-8, sets by their names, no date. The version is made of the content. What XML cannot hold (control characters,
/// bytes that are no UTF-8) becomes U+FFFD.
std::string list_text(const std::string& name, std::vector<MadeSet> sets);

}  // namespace opifex
