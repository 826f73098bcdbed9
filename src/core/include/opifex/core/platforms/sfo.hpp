/// PARAM.SFO: the facts of PSP, PS3 and PS4 games, little-endian keys and values.
#pragma once

#include <map>
#include <optional>
#include <string>

#include "opifex/core/base/bytes.hpp"

namespace opifex {

struct Sfo {
  std::map<std::string, std::string> texts;
  std::map<std::string, std::uint32_t> numbers;
  std::string text(const std::string& key) const;
};

bool looks_like_sfo(ByteView bytes);
/// Nothing if any bound is broken, or if the entries are more than 4096 or take more than 1 MiB.
std::optional<Sfo> parse_sfo(ByteView bytes);

}  // namespace opifex
