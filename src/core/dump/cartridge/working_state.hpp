// What an unfinished dump of a cartridge has: the bytes lie beside it, one after the other.
#pragma once

#include "opifex/core/dump/cartridge.hpp"

namespace opifex::dump {

struct WorkingState {
  std::string machine;
  Bytes header;
  std::uint64_t rom_bytes = 0, character_bytes = 0, done = 0;
  UnstablePlaces unstable = {};
  std::uint64_t places_1 = UINT64_MAX;  ///< of the addresses that differed: the bits that are 1 in all of them

  /// Nothing if there is none, or it is not understood.
  static std::optional<WorkingState> load(const std::filesystem::path& file);
  void save(const std::filesystem::path& file) const;
  /// It is of the cartridge that the plan is about.
  bool fits(const CartridgePlan& plan) const;
};

}  // namespace opifex::dump
