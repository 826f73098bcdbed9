/// Where the blocks of an AmigaDOS volume have their fields.
#pragma once

#include "opifex/core/volumes/amiga/disk.hpp"

namespace opifex::amiga {

namespace at {
constexpr std::size_t kType = 0, kOwn = 4, kHighSeq = 8, kTableSize = 12, kFirstData = 16, kSum = 20, kTable = 24;
constexpr std::size_t kBitmapFlag = 312, kBitmap = 316;                // of the root
constexpr std::size_t kProtection = 320, kSize = 324, kComment = 328;  // of an entry
constexpr std::size_t kDate = 420, kName = 432, kTarget = 468, kLinks = 472;
constexpr std::size_t kChanged = 472, kCreated = 484;  // of the root
constexpr std::size_t kChain = 496, kParent = 500, kExtension = 504, kKind = 508;
constexpr std::size_t kSequence = 8, kUsed = 12, kNext = 16, kData = 24;  // of a data block
constexpr std::size_t kDirectory = 8, kRecords = 12, kFirstRecord = 24;   // of a cache block
constexpr std::size_t kBits = 4, kBitmapSum = 0;
}  // namespace at

constexpr std::uint32_t kTypeHeader = 2, kTypeData = 8, kTypeList = 16, kTypeCache = 33;
constexpr std::uint32_t kBitmapIsValid = 0xFFFFFFFF, kFirstBlock = 2;
constexpr std::size_t kBootBytes = 1024, kBootSumAt = 4;
constexpr std::size_t kLongestSoftLink = 287;
constexpr std::size_t kDeepest = 200;  // folders in each other: nobody meant more

/// Pointers to data are stored backwards.
constexpr std::size_t pointer_at(std::size_t k) { return 308 - 4 * k; }

inline ByteView block_of(ByteView image, std::uint32_t block) {
  return image.subspan(std::size_t{block} * kBlockBytes, kBlockBytes);
}
inline std::span<std::byte> block_of(std::span<std::byte> image, std::uint32_t block) {
  return image.subspan(std::size_t{block} * kBlockBytes, kBlockBytes);
}
inline std::uint32_t word(ByteView block, std::size_t at) { return load_be32(block, at); }
/// A text behind its length; no longer than `most`, whatever the length says.
inline std::string counted_text(ByteView block, std::size_t at, std::size_t most) {
  return std::string(as_text(block.subspan(at + 1, std::min<std::size_t>(std::to_integer<unsigned>(block[at]), most))));
}
inline Date date_at(ByteView block, std::size_t at) {
  return {word(block, at), word(block, at + 4), word(block, at + 8)};
}
inline bool is_root(ByteView block) {
  const std::uint32_t slots = word(block, at::kTableSize);
  return word(block, at::kType) == kTypeHeader && word(block, at::kKind) == 1 && (slots == kTableSlots || slots == 0);
}
/// The block's bit: set where it is free.
inline std::pair<std::size_t, std::uint32_t> bit_of(std::uint32_t block) {
  const std::uint32_t i = block - kFirstBlock;
  return {at::kBits + i / 32 * 4, std::uint32_t{1} << i % 32};
}
inline bool is_marked_free(ByteView bitmap, std::uint32_t block) {
  const auto [at, mask] = bit_of(block);
  return (word(bitmap, at) & mask) != 0;
}
inline void seal(std::span<std::byte> block, std::size_t field = at::kSum) {
  store_be32(block, field, block_sum(block, field));
}
inline void store_date(std::span<std::byte> block, std::size_t at, const Date& date) {
  store_be32(block, at, date.days);
  store_be32(block, at + 4, date.minutes);
  store_be32(block, at + 8, date.ticks);
}

/// One line of a directory's cache.
Bytes cache_record(const Entry& entry);

}  // namespace opifex::amiga
