/// What files have in a volume beside their bytes, while they are outside.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <string_view>

namespace opifex {

/// What a file system keeps of a file beside its bytes, so that it can go out and come in again.
struct KeptFacts {
  std::optional<std::int64_t> modified = {};     ///< seconds since 1970
  std::uint32_t hundredths = 0;                  ///< of the second
  std::string comment = {};                      ///< UTF-8
  std::optional<std::uint32_t> protection = {};  ///< the bits as they are stored
  std::optional<std::uint32_t> id = {}, type = {};
};

inline constexpr std::string_view kKeptFactsName = "opifex-files.toml";

struct KeptFile {
  std::string name = {};  ///< in the volume, UTF-8; empty: as it lies in the folder
  KeptFacts facts = {};
};
/// By the path in the folder, parts separated by '/'.
using KeptFiles = std::map<std::string, KeptFile>;

}  // namespace opifex
