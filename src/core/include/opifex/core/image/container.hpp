/// What a compressed container tells of itself, beside the image it holds.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/progress.hpp"

namespace opifex {

struct ContainerFact {
  std::string key, label, value;  ///< "raw_sha1", "Raw SHA-1", "d647..."
};
/// How much of it is stored in which way.
struct ContainerShare {
  std::string codec;
  std::uint64_t hunks = 0, bytes = 0;  ///< bytes in the file
};
struct ContainerTag {
  std::string name;
  unsigned flags = 0;
  std::uint64_t offset = 0, size_bytes = 0;
  std::string text;  ///< printable; empty for binary data
};
struct ContainerProblem {
  std::string code, message;
  std::optional<std::uint64_t> offset = {};  ///< in the file
  std::optional<std::int32_t> lba = {};      ///< first sector hit, on CDs
  std::uint64_t sectors = 0;
};

class Container {
 public:
  virtual ~Container() = default;
  virtual std::vector<ContainerFact> facts() const = 0;
  virtual std::vector<ContainerShare> shares() const = 0;
  virtual std::vector<ContainerTag> tags() const = 0;
  /// Decodes everything and compares it with every checksum there is; lists all that is wrong.
  virtual std::vector<ContainerProblem> verify(Work& work) const = 0;
};

}  // namespace opifex
