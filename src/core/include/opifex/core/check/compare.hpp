/// Two images, or an image and a folder: is the content the same?
#pragma once

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/image/image.hpp"

namespace opifex {

struct Difference {
  enum class Kind { missing, extra, different };
  Kind kind = Kind::different;
  std::string path;    ///< of the file
  std::string detail;  ///< "8 192 bytes there, 8 190 here", "from byte 4 096 on"
};
std::string_view to_string(Difference::Kind kind);

/// Of two readings of one ROM: what the differences have in common points to the contact that flickers.
struct RomDifferences {
  std::uint64_t bytes = 0;                               ///< positions that differ
  std::uint32_t data_bits = 0;                           ///< of the bus word, every bit that differs anywhere
  std::vector<std::uint64_t> first_offsets;              ///< at most 8
  std::vector<unsigned> address_bits_1, address_bits_0;  ///< so at every place that differs
};

struct Comparison {
  /// All sectors alike, of discs of the same tracks; nothing if one side is a folder or their tracks differ.
  std::optional<bool> same_sectors = {};
  std::optional<cd::Lba> first_other_sector = {};
  std::uint64_t other_sectors = 0;
  bool other_music = false;           ///< sectors of music differ, or could not be held against each other
  std::optional<bool> same_rom = {};  ///< of two cartridges: without what dump programs put around their ROMs
  std::optional<RomDifferences> rom_differences = {};  ///< of ROMs of one length
  std::uint64_t same_files = 0;
  std::vector<Difference> differences = {};  ///< of files: missing here, extra here, different
  std::vector<std::string> remarks = {};
  std::string compared = {};                  ///< of sectors that are the same: what of them was looked at
  std::vector<std::string> other_marks = {};  ///< beside the sectors: subchannel, codes, flags, indexes, texts
  /// Every byte of a ROM, or every sector is the same, and what goes with them; or every file, and the music: order,
  /// dates and empty space do not count.
  bool same() const;
};

/// `here` against the image or folder at `other`. Files are matched by path without case; their bytes count, not their
/// places or dates. Error (refused, "no_file_system") if neither sectors nor files can be compared.
Comparison compare_images(const Image& here, const Image& other, JobContext& context);
Comparison compare_with_folder(const Image& here, const std::filesystem::path& folder, JobContext& context);

}  // namespace opifex
