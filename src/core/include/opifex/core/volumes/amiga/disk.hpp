/// AmigaDOS volumes of floppies (OFS and FFS): read whole and checked, and made anew. All numbers on the disk are
/// big-endian; names are Latin-1.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/io/byte_source.hpp"

namespace opifex::amiga {

inline constexpr std::uint32_t kBlockBytes = 512, kOfsPayload = 488;
inline constexpr std::uint32_t kTableSlots = 72;  ///< of a directory's hash table; also pointers of a header
inline constexpr std::size_t kLongestName = 30, kLongestComment = 79;
inline constexpr std::uint64_t kCylinderBytes =
    2 * 11 * std::uint64_t{kBlockBytes};  ///< double density; high has twice
inline constexpr std::uint64_t kMostImageBytes = 84 * 2 * kCylinderBytes;

/// What byte 3 of the boot block says: 0 to 5.
struct Kind {
  unsigned flags = 0;
  bool fast() const { return (flags & 1) != 0; }     ///< FFS: data blocks hold nothing but data
  bool international() const { return flags >= 2; }  ///< accented letters have no case either
  bool cached() const { return flags >= 4; }         ///< directories have lists of what is in them
  std::uint32_t payload() const { return fast() ? kBlockBytes : kOfsPayload; }
  /// "ffs", "ofs-intl", "ffs-dircache" ...
  std::string name() const;
};

/// Days since 1978, minutes of the day, ticks of 1/50 s in the minute: local time without a zone, taken for UTC here.
struct Date {
  std::uint32_t days = 0, minutes = 0, ticks = 0;
  /// Seconds since 1970; nothing if out of range.
  std::optional<std::int64_t> seconds() const;
  static Date of(std::int64_t seconds, std::uint32_t hundredths = 0);
  friend bool operator==(const Date&, const Date&) = default;
};

/// What a header is (its secondary type).
enum class EntryType : std::int32_t { root = 1, folder = 2, soft_link = 3, folder_link = 4, file = -3, file_link = -4 };

struct Entry {
  std::uint32_t block = 0;
  std::size_t parent = 0;  ///< number of the folder in Disk::entries; 0 is the root
  EntryType type = EntryType::file;
  unsigned slot = 0;  ///< of the parent's table: the chain it hangs in
  std::string name = {}, comment = {};
  std::uint32_t size_bytes = 0, protection = 0;
  Date date = {};
  std::vector<std::uint32_t> data = {};  ///< in order; 0: its pointer leads nowhere
  std::vector<std::uint32_t> extensions = {}, caches = {};
  std::uint32_t target = 0;      ///< of a hard link: the header it stands for
  std::string target_path = {};  ///< of a soft link, Latin-1
  bool entered = true;           ///< of a folder: what is in it was looked at; false: it lies too deep
  std::string flaw = {};         ///< why its contents are not to be trusted; empty: they are
  bool is_folder() const { return type == EntryType::folder || type == EntryType::root; }
};

struct Finding {
  const char* code = "";
  std::optional<std::uint32_t> block = {};
  bool error = true;  ///< false: a warning
  std::string message = {};
};

/// A volume with everything that is wrong with it.
struct Disk {
  Kind kind = {};
  std::uint32_t root = 0, blocks = 0;  ///< blocks of the volume, the two boot blocks among them
  std::uint32_t bitmap = 0;            ///< its block; 0: its pointer leads nowhere
  bool bitmap_valid = false;           ///< the flag and the pointer
  bool bootable = false;
  std::string label = {};
  Date changed = {}, created = {};
  std::vector<Entry> entries = {};      ///< the root first, folders before what is in them
  std::vector<std::size_t> owner = {};  ///< of each block: number of the entry + 1; 0: nobody
  std::vector<Finding> findings = {};
  std::uint32_t free_blocks = 0;  ///< as the bitmap says; as nobody uses them, if it is not valid; 0 without one

  bool damaged() const;
  /// Path from the root, Latin-1, parts separated by '/'.
  std::string path_of(std::size_t entry) const;
  /// Blocks that an entry takes: its header, lists, data and caches.
  static std::uint32_t blocks_of(const Entry& entry);
};

/// What an image is before any block of it is read.
enum class ImageKind {
  volume,    ///< a root block is there
  custom,    ///< tracks or a loader of its own
  extended,  ///< tracks as they were read, behind a list of them
  other_size,
  long_names,  ///< flags 6 and 7
  rootless     ///< DOS, no root block and no boot code that would explain it
};
struct ImageFacts {
  ImageKind kind = ImageKind::custom;
  std::uint32_t tracks = 0;       ///< of an extended image
  std::string_view variant = {};  ///< "new" or "old"
  bool bootable = false, dos = false;
  std::uint32_t expected_root = 0;
};
ImageFacts examine_image(ByteView image);
bool is_image_size(std::uint64_t bytes);

/// Reads all of a volume. `image` is of a kind `volume`; anything may be wrong with it.
Disk read_disk(ByteView image);

/// Checksum of a block with its own field taken as 0 (roots, headers, lists, OFS data: at 20; bitmaps: at 0).
std::uint32_t block_sum(ByteView block, std::size_t field);
/// Of the 1024 bytes at the front: end-around carry, inverted.
std::uint32_t boot_sum(ByteView boot);
/// Slot of a directory's table.
unsigned slot_of(std::string_view name, Kind kind);
/// As two names are compared on such a volume.
std::string folded(std::string_view name, Kind kind);
/// Why no entry may be called so; empty: it may.
std::string name_fault(std::string_view name);
/// What a name becomes if it may not stay as it is; Latin-1 of UTF-8, at most 30 bytes.
std::string proposed_name(std::string_view utf8);
/// UTF-8 as Latin-1; nothing if it has other letters.
std::optional<std::string> latin1_of(std::string_view utf8);

/// "----rwed": h s p a shown where set, r w e d where clear.
std::string protection_text(std::uint32_t bits);
/// Of such a text, or of 0x and hexadecimal digits; nothing if it is neither. The higher bits come from `before`.
std::optional<std::uint32_t> parse_protection(std::string_view text, std::uint32_t before = 0);

struct NewDisk {
  Kind kind = {.flags = 1};
  std::string label = "Empty";  ///< Latin-1
  bool high_density = false;
  Date date = {};
};
/// An empty volume, not bootable. Error (usage) if the label cannot be one.
Bytes make_disk(const NewDisk& wanted);

/// Blocks that a file of so many bytes takes.
std::uint64_t cost_of_file(std::uint64_t size_bytes, Kind kind);

}  // namespace opifex::amiga
