/// What an opened image holds: exactly one kind of content.
#pragma once

#include <string_view>
#include <variant>

#include "opifex/core/image/cd_image.hpp"

namespace opifex {

/// A compact disc. Where only the user data are stored (an ISO), the sectors are regenerated from them.
struct CdContent {
  CdImagePtr sectors;
  SourcePtr cooked = {};  ///< the 2048-byte blocks as they are stored; null if the store has raw sectors
};

/// What medium the blocks are those of.
enum class BlockMedium { disc, floppy, memory_card, drive };

/// Bytes in blocks of one size.
struct BlockContent {
  SourcePtr bytes = {};
  BlockMedium medium = BlockMedium::disc;
  std::uint32_t block_bytes = cd::kUserBytes;
  std::uint64_t padding = 0;     ///< zeros at the end of `bytes` that are not in the image: they make a whole block
  std::string_view system = {};  ///< platform, if the format alone tells it
  std::string_view mark = {};    ///< by what, for people

  /// 2048-byte blocks of a DVD, a Blu-ray, a UMD or the data of a CD.
  bool is_disc() const { return medium == BlockMedium::disc && block_bytes == cd::kUserBytes; }
};

/// How sure it is what machine a ROM is for.
enum class Proven { certain, likely, guessed, told };

/// What a cartridge's ROM holds, in the order in which the file has it.
struct RomContent {
  SourcePtr bytes;
  std::string_view system = {};  ///< platform; empty: no header told
  std::string_view mark = {};    ///< by what, for people
  Proven proven = Proven::certain;
};

/// Files that lie on no medium: a package.
struct FileContent {
  std::string_view what;  ///< "package"
};

/// Nothing: no file of the set is there.
using NoContent = std::monostate;

using Content = std::variant<NoContent, CdContent, BlockContent, RomContent, FileContent>;

/// What people call it: "a CD", "a floppy disk of 512-byte blocks", "a package of files".
std::string describe(const Content& content);

/// For std::visit: one function for each kind, so that none is forgotten.
template <typename... Functions>
struct Overloaded : Functions... {
  using Functions::operator()...;
};
template <typename... Functions>
Overloaded(Functions...) -> Overloaded<Functions...>;

}  // namespace opifex
