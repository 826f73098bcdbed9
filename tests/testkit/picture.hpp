/// Pictures as tests look at them: by their pixels.
#pragma once

#include <array>
#include <cstdint>
#include <set>

#include "testkit.hpp"

namespace opifex::testkit {

struct Picture {
  unsigned width = 0, height = 0;
  std::string pixels;  ///< red, green, blue, a byte each
  std::uint32_t at(unsigned x, unsigned y) const;
  /// Pixels of exactly this colour.
  std::size_t count(std::uint32_t rgb) const;
  std::size_t colours() const;
};

/// A PNG, decoded by another program than the one that drew it.
Picture open_picture(const fs::path& png);

}  // namespace opifex::testkit
