/// Data sectors examined while others read them: each once, whoever reads it how often.
#pragma once

#include <atomic>
#include <mutex>
#include <vector>

#include "opifex/core/cd/layout.hpp"
#include "opifex/core/cd/sector.hpp"

namespace opifex {

/// Safe from many threads.
class SectorWatch {
 public:
  SectorWatch(cd::Lba first, cd::Lba end);
  /// A raw sector of a data track.
  void look(cd::Lba lba, cd::SectorView sector);
  bool seen(cd::Lba lba) const;
  /// In the order of the disc.
  std::vector<cd::Lba> bad();

 private:
  static constexpr unsigned kBits = 64;
  cd::Lba first_;
  std::vector<std::atomic<std::uint64_t>> seen_;  // a bit for each sector
  std::mutex mutex_;
  std::vector<cd::Lba> bad_;
};

}  // namespace opifex
