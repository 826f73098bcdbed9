/// Random discs, drives, defects and interruptions, and what is true of them.
#pragma once

#include <filesystem>
#include <memory>

#include "opifex/core/dump/sim.hpp"

#include "testkit.hpp"

namespace opifex::campaign {

using testkit::Random;

/// A disc in a drive, and what happens while it is read.
struct Scenario {
  dump::SimDescription description;
  int offset = 0;  ///< that the user gives: the drive's own, or none
  bool offset_told = true;
  bool subchannel = false;
  unsigned passes = 4;
  bool is_cd() const { return description.drive.kind == dump::SimKind::cd; }
};

/// `folder` takes the files of the disc.
Scenario random_scenario(Random& random, const std::filesystem::path& folder);
/// The same disc in another drive, with other defects.
Scenario another_drive(const Scenario& scenario, Random& random);
/// A disc with the same table of contents and other sectors.
dump::SimDisc other_disc(const dump::SimDisc& disc, Random& random, const std::filesystem::path& folder);

/// What a dump of the disc must hold.
class Oracle {
 public:
  /// `shift`: samples by which this drive's music comes late after all corrections.
  Oracle(const dump::SimDescription& description, int shift);
  ~Oracle();
  Oracle(const Oracle&) = delete;
  Oracle& operator=(const Oracle&) = delete;
  /// 2352 bytes of a CD, 2048 of other discs.
  Bytes sector(cd::Lba lba) const;
  const cd::Layout& layout() const;
  /// Of the disc as it is, whatever its table of contents says.
  cd::Lba end() const;

 private:
  struct Disc;
  std::unique_ptr<Disc> disc_;
  int shift_;
};

/// One line for each thing that matters, for whoever looks into a failure.
std::string describe(const Scenario& scenario);

/// True if no defect of the drive can reach the sector.
bool is_clean(const dump::SimDescription& description, cd::Lba lba);

}  // namespace opifex::campaign
