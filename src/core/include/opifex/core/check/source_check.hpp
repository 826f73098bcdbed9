/// What can be told of a source while another job reads it: damage must not be washed away by a conversion.
#pragma once

#include <vector>

#include "opifex/core/check/check.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {

/// Begins to watch when it is made; the image has to outlive it.
class SourceCheck {
 public:
  /// `sectors`: those of a CD have checksums, too; false if somebody has looked at them already.
  /// `volumes`: the image's file systems, if they are read already.
  SourceCheck(const Image& image, bool sectors, JobContext& context, const std::vector<Volume>* volumes = nullptr);
  /// After everything was read: what the source's own checksums, hash trees and tables say is wrong, with the files
  /// that are hit. Hash trees that were not on the way are verified now.
  std::vector<Finding> finish() const;

 private:
  const Image& image_;
  bool sectors_;
  JobContext& context_;
  const std::vector<Volume>* volumes_;
};

/// What is wrong with a ROM and still will be when it is written with these settings: those that trim, pad or put
/// checksums right answer some of it.
std::vector<Finding> damage_that_stays(const RomContent& rom, const Settings& settings);

/// Sectors of these files whose checksums are wrong, a finding for each file that is hit. Only CDs have any.
std::vector<Finding> bad_sectors_of(const Image& image, const std::vector<const VolumeEntry*>& files,
                                    const Volume& volume, JobContext& context);

}  // namespace opifex
