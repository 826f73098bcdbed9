/// A data track as the tests for platforms see it.
#pragma once

#include <optional>
#include <string>

#include "opifex/core/image/image.hpp"
#include "opifex/core/platforms/identity.hpp"
#include "opifex/core/platforms/platforms.hpp"
#include "opifex/core/volumes/iso9660/descriptors.hpp"

namespace opifex {

inline constexpr std::uint64_t kDiscBlock = 2048;

/// A track's user data from its first sector on, with its file system if it has one.
struct DiscView {
  SourcePtr disc = {};  ///< 2048 * LBA
  std::uint64_t start = 0;
  std::optional<Iso9660> iso = {};
  const KeyRing* keys = nullptr;  ///< the user's; may be null

  /// Text or bytes from byte `at` of the track, as many as there are.
  Bytes read(std::uint64_t at, std::size_t size) const { return read_up_to(*disc, start * 2048 + at, size); }
  /// A padded field, blanks joined, control characters escaped.
  std::string field(std::uint64_t at, std::size_t size) const;
  /// A small file by its path; empty if it is not there.
  Bytes file(std::string_view path, std::size_t most = 64 << 10) const;
  bool has(std::string_view path) const { return iso && iso->find(path).has_value(); }
};

/// What the header of a content package says beside the game in it.
Identity of_content_package(const Image& image, Identity id);

/// `confidence`: "certain", "likely" or "guess".
Identity known_as(const char* platform, const char* confidence, std::string evidence);

/// By the third letter of an id of four letters and five digits; empty if it tells nothing.
std::string region_of_serial(std::string_view serial);
/// `PRUS00101` -> `PRUS-00101`; other texts as they are.
std::string with_hyphen(std::string id);

}  // namespace opifex
