/// The hash tree of a Wii partition, cluster by cluster: H0 over data, H1 over H0 tables, H2 over H1 tables, H3 over H2
/// tables, H4 over the H3 table. Each cluster carries its own path, so each check stands alone.
#pragma once

#include "opifex/core/base/hash.hpp"
#include "opifex/core/volumes/wii/disc.hpp"

namespace opifex {

/// What does not fit in a cluster.
struct ClusterFault {
  std::vector<unsigned> blocks = {};  ///< of 0x400 bytes whose H0 is wrong, 0 to 30
  bool h1 = false, h2 = false, h3 = false;
  bool any() const { return !blocks.empty() || h1 || h2 || h3; }
};

/// Decrypts and verifies. Keeps the cipher's state between clusters; one for each thread.
class ClusterReader {
 public:
  explicit ClusterReader(const WiiPartition& partition);

  /// `raw` has 0x8000 bytes, `data` gets 0x7C00.
  void decrypt_data(ByteView raw, std::span<std::byte> data);
  /// Something of the cluster fits the key: its H0 table, or any block of its data.
  bool key_fits(ByteView raw, std::uint64_t cluster);
  /// The whole path. `h3`: the table of the partition.
  ClusterFault verify(ByteView raw, std::uint64_t cluster, ByteView h3);

 private:
  void decrypt_hashes(ByteView raw);
  bool block_fits(unsigned block);

  AesCbc cipher_;
  Bytes hashes_, data_;
};

/// The H3 table of a partition; Error (refused) if the image ends before it does.
Bytes read_h3(const ByteSource& disc, const WiiPartition& partition);
/// H4: the table's own hash is the one in the title metadata.
bool h3_fits(ByteView h3, const WiiPartition& partition);

}  // namespace opifex
