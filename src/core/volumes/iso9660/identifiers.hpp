/// From names of the host to identifiers of ISO 9660 and Joliet, without two of a folder becoming the same.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex {

enum class NameRule { level1, level2, relaxed, joliet };

struct HostName {
  std::string name;  ///< UTF-8
  bool folder = false;
};

/// A name in two parts, in code points of its character set.
struct IsoIdentifier {
  std::u16string name, extension;
  bool folder = false, dotted = false;  ///< dotted: there is an extension, maybe an empty one
  /// As it stands in a record: with version, Joliet as UCS-2.
  Bytes bytes(bool joliet) const;
  std::string name_text() const;
};

/// One for each name, in their order; nothing if more than 1000 come together. `names` are sorted by their bytes.
std::optional<std::vector<IsoIdentifier>> map_names(const std::vector<HostName>& names, NameRule rule);

/// ECMA-119, 9.3: names padded with blanks, then extensions.
bool comes_before(const IsoIdentifier& a, const IsoIdentifier& b);

/// A field of a descriptor, padded with blanks.
Bytes padded_field(const std::string& text, std::size_t size);
Bytes ucs2_field(const std::string& text, std::size_t size);

}  // namespace opifex
