/// Wii discs: the table of partitions, their headers, and their data decrypted with the user's common key. Big-endian.
#pragma once

#include <array>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/cipher.hpp"
#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/io/key_ring.hpp"
#include "opifex/core/volumes/gamecube/volume.hpp"

namespace opifex {

/// A cluster: hashes, then data.
inline constexpr std::size_t kWiiClusterBytes = 0x8000, kWiiHashBytes = 0x400, kWiiDataBytes = 0x7C00;
/// The H3 table: an SHA-1 for each group of 64 clusters.
inline constexpr std::size_t kWiiH3Bytes = 0x18000, kWiiGroupClusters = 64, kWiiMostGroups = 4915;
/// Before it lies what belongs to the disc and to no partition.
inline constexpr std::uint64_t kWiiFirstPartition = 0x50000;

using Sha1Value = std::array<std::byte, 20>;

/// What is known of the key of a partition.
enum class WiiKey {
  missing,   ///< the user gave none
  right,     ///< hashes of the partition fit
  wrong,     ///< they do not, of no cluster that was tried
  unproved,  ///< all its clusters are blank or not there
};
std::string_view to_string(WiiKey key);

struct WiiPartition {
  unsigned group = 0;        ///< table 0 to 3 that lists it
  std::uint64_t offset = 0;  ///< bytes from the start of the disc, as all below
  std::uint32_t type = 0;    ///< 0 data, 1 update, 2 channel; else four letters
  bool listed_only = true;   ///< its header is blank, cut off or contradicts itself: what follows is not known
  bool blank = false;        ///< ... because somebody zeroed it
  std::string title_id, system_version;  ///< 16 hexadecimal digits
  unsigned title_version = 0, key_index = 0;
  std::uint64_t tmd = 0, tmd_bytes = 0, h3 = 0, data = 0, data_bytes = 0;
  Sha1Value h4 = {};  ///< of the whole H3 table
  WiiKey key = WiiKey::missing;
  AesKey title_key = {};  ///< set if the key is right or unproved

  std::string type_name() const;  ///< "data", "update", "channel", else the letters
  std::uint64_t clusters() const { return data_bytes / kWiiClusterBytes; }
  std::uint64_t end() const { return listed_only ? offset : data + data_bytes; }
  bool readable() const { return !listed_only && key == WiiKey::right; }
};

struct WiiDisc {
  std::string id, title;
  std::uint32_t region = 0;                   ///< 0 Japan, 1 North America, 2 Europe, 4 Korea
  bool plain = false;                         ///< a development disc, not encrypted: its partitions are left alone
  std::vector<WiiPartition> partitions = {};  ///< by offset
  std::vector<VolumeProblem> problems = {};
  bool sound = true;          ///< table and headers are there and fit together
  std::uint64_t end() const;  ///< of the last partition
  /// The console's name of the key in a key file, for an index of a ticket.
  static const char* key_name(unsigned index);
};

bool is_wii_disc(const ByteSource& disc);
/// Nothing if the disc has no Wii mark. What is wrong is among the problems. `keys` may be null.
std::optional<WiiDisc> read_wii_disc(const SourcePtr& disc, const KeyRing* keys);

/// All bytes of a cluster are the same, zeros or 0xFF: it was never encrypted.
bool is_blank_cluster(ByteView raw);

/// The data of a partition, decrypted as it is read: 0x7C00 bytes a cluster, as far as the image reaches. Error
/// (refused, "blank_cluster") where somebody blanked it.
SourcePtr decrypted_partition(SourcePtr disc, const WiiPartition& partition);

/// The file system in a partition. Error (refused) if it has none.
ConsoleVolume read_wii_partition(const SourcePtr& disc, const WiiPartition& partition);

/// All partitions that can be read as one volume, each in a folder of its type. Error (refused): no_key, wrong_key,
/// key_unproved if none can.
Volume read_wii_volume(const SourcePtr& disc, const WiiDisc& wii);

}  // namespace opifex
