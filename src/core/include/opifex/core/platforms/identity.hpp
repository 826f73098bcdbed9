/// Whose disc this is, told from its contents.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "opifex/core/image/image.hpp"

namespace opifex {

namespace rom {
struct Examined;
}

struct Identity {
  std::string platform;    ///< "ps1", "saturn", "iso9660", "audio-cd" ..., or empty if nothing fits
  std::string confidence;  ///< "certain", "likely", "guess"
  std::string serial, title, region, version;
  std::string volume;  ///< volume identifier of the file system
  std::string boot_file;
  std::string disc;         ///< of a set: "1 of 2"
  std::string maker, date;  ///< as the header writes them
  std::string video;        ///< "NTSC", "PAL"
  std::string category;     ///< of PARAM.SFO
  /// Sectors that the maker encrypts, first and last: also those of a decrypted image.
  struct Region {
    std::uint32_t first = 0, last = 0;
  };
  std::vector<Region> encrypted_regions;
  /// "encrypted", "decrypted"; else how much of the disc is there by its file system's own size: "full", "split" (full,
  /// in parts), "trimmed", "truncated", "padded" (it goes on behind its end), "unknown" (its tables are broken or
  /// locked). Empty: nothing tells.
  std::string state;
  std::string title_id;                     ///< where the console's own word for its serial is that
  std::string media_id, short_id;           ///< of Xbox games: the pressing; the customary short form of the title id
  std::string medium;                       ///< "GameCube disc", "single layer", "dual layer"
  std::string padding;                      ///< of a full GameCube disc: "blank", "filled", "mixed"
  std::optional<bool> scrubbed;             ///< Wii: parts of the partitions were blanked
  std::optional<std::uint64_t> used_bytes;  ///< that any file or table needs, if all tables could be read
  std::optional<std::uint64_t> files;       ///< inside, of discs without partitions
  struct Partition {
    std::string kind;  ///< "data", "update", "channel" ...
    std::uint64_t offset = 0, size_bytes = 0;
    bool encrypted = true, blank = false;
    std::string key;  ///< "missing", "right", "wrong", "unproved"
    std::string title_id, title;
    std::optional<std::uint64_t> files;  ///< if it can be read
  };
  std::vector<Partition> partitions;
  std::shared_ptr<const rom::Examined> rom;  ///< of cartridges: all that its ROM tells; null: none
  std::vector<Warning> warnings;
  /// What fits too, less specific or less sure.
  struct Also {
    std::string platform, confidence;
  };
  std::vector<Also> also;
  std::vector<std::string> evidence;  ///< what was seen, and where
};

/// "1 of 2"; the number alone where the count cannot be true; nothing for the only disc there is.
std::string disc_text(unsigned disc, unsigned discs);

/// Reads descriptors and a few small files, never a whole image.
Identity identify_platform(const Image& image);

/// "PRXS-00101" from a boot path such as `cdrom:\PRXS_001.01;1`; empty if the name is no serial.
std::string serial_of_boot_path(std::string_view path);

}  // namespace opifex
