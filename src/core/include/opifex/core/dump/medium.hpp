/// What lies in the drive: kind, tracks or layers, size, and what the disc says it is. Everything known before reading.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "opifex/core/dump/drive.hpp"
#include "opifex/core/dump/toc.hpp"
#include "opifex/core/platforms/identity.hpp"

namespace opifex::dump {

enum class MediumKind { cd, dvd, bd, blocks };

struct Medium {
  MediumKind kind = MediumKind::blocks;
  std::string name = {};    ///< "CD-ROM", "DVD-ROM, dual layer", "image or block device"
  std::string reader = {};  ///< drive strings, or the path
  bool recordable = false;
  Toc toc = {};                                      ///< CDs
  SubchannelPart subchannel = SubchannelPart::none;  ///< what the drive returns of it
  std::uint64_t blocks = 0;                          ///< 2048-byte blocks of other media
  int layers = 1;
  std::uint32_t layer_break = 0;  ///< LBA of layer 1's first block; 0: one layer, or not told
  std::string catalogue = {};
  std::map<int, std::string> isrcs = {};
  std::map<int, cd::Texts> texts = {};
  Identity identity = {};
  std::vector<Warning> warnings = {};
  std::vector<std::pair<cd::Lba, Bytes>> seen = {};  ///< sectors read so far that tell which disc this is
  std::string fingerprint = {};  ///< hash of profile, capacity and TOC: the same disc, or at least the same pressing

  std::uint64_t sectors() const;  ///< to read: without the gaps between sessions
};

/// Asks the drive everything but the sectors themselves. Error if there is no disc, or none that can be dumped. A CD is
/// not identified yet: that takes its layout.
Medium examine_medium(Drive& drive);
/// Which disc a CD is, by the file systems of its data tracks in all sessions.
void identify_cd(Drive& drive, Medium& medium, const cd::Layout& layout);
/// TOC and capacity hashed, for telling that a disc was changed.
std::string fingerprint_of(Drive& drive);

/// User data of 2048 bytes at 2048 * LBA, read by the drive when asked for. For one thread; errors are Errors.
SourcePtr drive_blocks(Drive& drive, std::uint64_t blocks);

}  // namespace opifex::dump
