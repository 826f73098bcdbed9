/// The files inside an image, whatever file system they are in.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "opifex/core/image/image.hpp"
#include "opifex/core/io/archive.hpp"

namespace opifex {

/// Bytes from `first` up to `end`.
struct ByteRange {
  std::uint64_t first = 0, end = 0;
  friend bool operator==(const ByteRange&, const ByteRange&) = default;
};
/// In order, those that touch or overlap made one, empty ones left out.
std::vector<ByteRange> joined(std::vector<ByteRange> ranges);

enum class EntryKind { file, folder, link, audio };  ///< audio: a track of the disc that a directory names
std::string_view to_string(EntryKind kind);

/// A run of whole 2048-byte sectors that holds bytes of a file.
struct VolumeExtent {
  std::uint64_t sector = 0;  ///< as the file system counts
  std::uint64_t size_bytes = 0;
  std::uint32_t unit = 0, gap = 0;  ///< interleaved: `unit` sectors of the file, `gap` of others; 0: not
  bool recorded = true;             ///< false: reads as zeros
  friend bool operator==(const VolumeExtent&, const VolumeExtent&) = default;
  /// Sectors from the first to the last.
  std::uint64_t sectors() const;
};

/// What only some file systems tell of a file.
struct EntryFacts {
  std::uint64_t place = 0;       ///< where it is described: a block, a frame of a card, an offset
  std::uint64_t blocks = 0;      ///< that it takes, with what describes it
  std::uint32_t hundredths = 0;  ///< of the second it was modified in
  std::string host_name = {};    ///< what a file of this computer is called after it; empty: as it is here
  std::string comment = {};
  std::optional<std::uint32_t> protection = {};  ///< as stored
  std::string protection_text = {};              ///< as people read it
  std::optional<std::uint32_t> id = {}, type = {};
  // Of a console's save:
  std::string title = {}, plain_title = {};        ///< as stored; with full-width letters as usual ones
  std::string code = {}, region = {};              ///< of the game that wrote it
  std::vector<std::uint64_t> chain = {};           ///< its blocks in order
  std::vector<Bytes> icons = {};                   ///< 16 x 16 pixels of red, green, blue and opacity
  Bytes header = {};                               ///< what stands before its blocks in a file of its own
  std::string_view ending = {}, bare_ending = {};  ///< of such a file, and of one of the blocks alone
  bool restorable = false;                         ///< of a deleted one: it is whole
};

struct VolumeEntry {
  std::string path;  ///< from the root, parts separated by '/', UTF-8; as the disc has it, so not always a safe name
  EntryKind kind = EntryKind::file;
  std::uint64_t size_bytes = 0;
  std::optional<std::int64_t> modified = {};  ///< seconds since 1970, UTC
  std::vector<VolumeExtent> extents = {};
  std::optional<Bytes> inside = {};              ///< the contents, where the directory itself holds them
  SourcePtr source = {};                         ///< the contents, where they are no sectors: a member of an archive
  std::optional<std::uint64_t> offset = {};      ///< bytes from the start of the volume, where files begin anywhere
  unsigned stored_attributes = 0;                ///< as an XDVDFS table has them, without the mark of a folder
  std::string attributes = {};                   ///< comma-separated: hidden, associated, form2, interleaved, cd-da ...
  std::string link = {};                         ///< target of a symbolic link
  bool sound = true;                             ///< it can be read whole: every extent lies inside the image
  std::string flaw = {};                         ///< why it is not sound, where that is something else
  std::shared_ptr<const EntryFacts> facts = {};  ///< null: there are none
  bool safe = true;                              ///< each part of the path can be a file's name
  std::string refused = {};  ///< why it is never written: a member of an archive that leads elsewhere
  bool form2 = false;        ///< its sectors hold 2324 bytes (or both kinds): whole only as raw sectors
};

enum class Weight {
  note,
  warning,
  doubt,  ///< a warning for whoever lists; no verdict of intact: which of two values is true nobody knows
  damage,
  cut  ///< damage: the image ends before what its tables point to
};
constexpr bool is_damage(Weight weight) { return weight == Weight::damage || weight == Weight::cut; }
std::string_view to_string(Weight weight);

/// What was found odd or wrong in a file system.
struct VolumeProblem {
  std::string code, message;
  Weight weight = Weight::warning;
  std::optional<std::uint64_t> place = {};  ///< a block, a frame of a card, an offset: as its file system counts
};

/// What room is left.
struct VolumeSpace {
  std::uint64_t blocks = 0, free_blocks = 0, block_bytes = 0;  ///< bytes of a file that a block holds
  std::uint64_t free_bytes = 0, largest_free_bytes = 0;        ///< the largest: of one file
};

/// A file system, read whole but for the contents of its files.
struct Volume {
  std::string system;                     ///< "iso9660", "iso9660+joliet", "udf-1.02", "opera"
  std::string label;                      ///< volume identifier
  std::uint64_t blocks = 0;               ///< that the volume says it has
  std::int64_t shift = 0;                 ///< sector n of the file system is sector n + shift of `disc`
  std::uint64_t created = 0;              ///< of XDVDFS: 100 ns since 1601, as stored
  SourcePtr disc = {};                    ///< 2048 bytes a sector
  std::vector<VolumeEntry> entries = {};  ///< folders before what is in them
  std::vector<VolumeEntry> deleted = {};  ///< what may come back
  std::vector<VolumeProblem> problems = {};
  std::optional<VolumeSpace> space = {};  ///< nothing: it cannot be written to, or does not tell
  std::string unlisted = {};              ///< why there is nothing to list: it has no file system of a known kind
  bool bootable = false;

  /// Adds to the problems, as far as they are worth telling.
  void tell(const char* code, Weight weight, std::string message, std::optional<std::uint64_t> place = {});
  bool damaged() const;
  std::uint64_t total_bytes() const;
  /// By path without case; null if there is none.
  const VolumeEntry* find(std::string_view path) const;
  /// The bytes of a file. Error if it is not sound.
  SourcePtr open(const VolumeEntry& entry) const;
};

/// All volumes of an image: of each data track, of each layer. Empty if it holds no file system that can be read. Error
/// (refused) if it holds one that is broken beyond listing.
std::vector<Volume> read_volumes(const Image& image);

/// The members of an archive, as if they were a file system.
Volume archive_volume(const Archive& archive);

}  // namespace opifex
