/// What dump programs put around a ROM, or did to the order of its bytes, and how that is undone.
#pragma once

#include <string_view>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/formats/rom/systems.hpp"

namespace opifex::rom {

inline constexpr std::size_t kCopierHeader = 512;
inline constexpr std::size_t kInterleaveBlock = 16'384;  ///< odd bytes first, then the even ones

/// Of the bytes in each 32-bit word.
enum class ByteOrder { big, swapped, little };
std::string_view to_string(ByteOrder order);

struct Container {
  std::size_t header_bytes = 0;  ///< in front of the ROM: a copier's header, or the 16 bytes of an NES file
  bool interleaved = false;
  bool more_parts = false;  ///< the copier's header says that another file goes on
  ByteOrder order = ByteOrder::big;

  bool is_plain() const { return header_bytes == 0 && !interleaved && order == ByteOrder::big; }
};

/// By the file's size, its first bytes and what it is for. `machine` may be null: then there is none.
Container container_of(const ByteSource& file, const Machine* machine);

/// The ROM alone, as the machine's bus has it. Of an interleaved file a last block that is cut stays as it is.
Bytes unpacked(ByteView file, const Container& container);
/// The file that unpacked() makes the ROM of; `header` is what stands in front. Error (refused, "odd_size") if the ROM
/// does not fill the blocks or words of this container.
Bytes packed(ByteView rom, const Container& container, ByteView header);

/// A header as copiers wrote it in front of `rom_bytes`: sizes and kind; for interleaved files with their marks.
Bytes copier_header(std::uint64_t rom_bytes, const Container& container, const Machine& machine);

}  // namespace opifex::rom
