#include "opifex/core/volumes/wii/hashes.hpp"

#include <algorithm>

namespace opifex {
namespace {

constexpr std::size_t kHash = 20, kBlock = 0x400, kBlocks = 31;
constexpr std::size_t kH0Bytes = kBlocks * kHash, kH1At = 0x280, kH2At = 0x340, kUpperBytes = 8 * kHash;
constexpr std::size_t kDataIvAt = 0x3D0;

bool same(const Sha1Value& value, ByteView table, std::uint64_t entry) {
  const ByteView wanted = table.subspan(static_cast<std::size_t>(entry) * kHash, kHash);
  return std::equal(value.begin(), value.end(), wanted.begin());
}

}  // namespace

ClusterReader::ClusterReader(const WiiPartition& partition)
    : cipher_(partition.title_key, AesCbc::Direction::decrypt), hashes_(kWiiHashBytes), data_(kWiiDataBytes) {}

void ClusterReader::decrypt_data(ByteView raw, std::span<std::byte> data) {
  // The chain begins with bytes of the hashes as they are stored, so data needs no hash decrypted.
  AesIv iv;
  std::copy_n(raw.begin() + kDataIvAt, iv.size(), iv.begin());
  cipher_.run(iv, raw.subspan(kWiiHashBytes, kWiiDataBytes), data.first(kWiiDataBytes));
}

void ClusterReader::decrypt_hashes(ByteView raw) { cipher_.run(AesIv{}, raw.first(kWiiHashBytes), hashes_); }

bool ClusterReader::block_fits(unsigned block) {
  return same(short_sha1(ByteView(data_).subspan(block * kBlock, kBlock)), hashes_, block);
}

bool ClusterReader::key_fits(ByteView raw, std::uint64_t cluster) {
  decrypt_hashes(raw);
  if (same(short_sha1(ByteView(hashes_).first(kH0Bytes)), ByteView(hashes_).subspan(kH1At), cluster % 8)) return true;
  decrypt_data(raw, data_);
  for (unsigned i = 0; i < kBlocks; ++i)
    if (block_fits(i)) return true;
  return false;
}

ClusterFault ClusterReader::verify(ByteView raw, std::uint64_t cluster, ByteView h3) {
  decrypt_hashes(raw);
  decrypt_data(raw, data_);
  ClusterFault fault;
  for (unsigned i = 0; i < kBlocks; ++i)
    if (!block_fits(i)) fault.blocks.push_back(i);
  const ByteView hashes = hashes_, h1 = hashes.subspan(kH1At, kUpperBytes), h2 = hashes.subspan(kH2At, kUpperBytes);
  fault.h1 = !same(short_sha1(hashes.first(kH0Bytes)), h1, cluster % 8);
  fault.h2 = !same(short_sha1(h1), h2, cluster / 8 % 8);
  fault.h3 = !same(short_sha1(h2), h3, cluster / kWiiGroupClusters);
  return fault;
}

Bytes read_h3(const ByteSource& disc, const WiiPartition& partition) {
  Bytes table(kWiiH3Bytes);
  disc.read_at(partition.h3, table);
  return table;
}

bool h3_fits(ByteView h3, const WiiPartition& partition) { return short_sha1(h3) == partition.h4; }

}  // namespace opifex
