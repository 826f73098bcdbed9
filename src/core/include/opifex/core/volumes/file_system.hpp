/// What every file system declares, and the registry that lists them. Adding one: its folder and one line.
#pragma once

#include <optional>
#include <span>
#include <string_view>

#include "opifex/core/image/format.hpp"
#include "opifex/core/volumes/kept_files.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {

/// What a file system lies on.
enum class VolumeHost { disc, package, floppy, memory_card };

/// Where a file system may begin: a data track, or the image itself.
struct VolumePlace {
  SourcePtr disc = {};            ///< of a disc: 2048 bytes a sector; else the image as it is
  std::uint64_t start = 0;        ///< sector; of an image with several cards: the number of the card, from 0
  const KeyRing* keys = nullptr;  ///< the user's; may be null
};

/// What else is looked for in a place where it was found.
enum class Company {
  none,    ///< nothing: discs of its console may hold a small one for other players, which nobody asks for
  others,  ///< others of this kind, which may describe the same files
  last     ///< it is only looked for where nothing else was found
};

/// An image of a folder, planned.
struct FolderImage {
  WritePlan plan = {};
  std::vector<std::string> notices = {};  ///< what was left out, and why
};

/// Makes an image of a folder. Reads names and sizes; writes nothing.
struct FolderBuilder {
  std::span<const Setting* const> settings = {};
  /// `now`: seconds since 1970, for file systems that tell when they were made.
  FolderImage (*plan)(const std::filesystem::path& folder, const std::filesystem::path& out, const Settings& settings,
                      std::int64_t now) = nullptr;
  /// The bytes of the volume alone, for formats that wrap it; null: it is only made whole.
  SourcePtr (*make)(const std::filesystem::path& folder, std::vector<std::string>& notices) = nullptr;
  std::span<const std::string_view> made_anew = {};  ///< paths of which the image has its own version
  bool blank = false;          ///< `plan` takes an empty path as well: an image with nothing on it
  bool proves_itself = false;  ///< `plan` has compared what it made with the folder
};

/// One change of a volume. Paths are UTF-8, from the root.
struct VolumeEdit {
  enum class Kind { put, drop, make_folder, move, relabel, comment, protect, undelete, boot, bytes };
  Kind kind = Kind::put;
  std::string path = {};     ///< what is changed; of undelete: its name, or its number
  std::string text = {};     ///< the new path, label, comment, bits; of boot: "none", "standard", or whose code it is
  SourcePtr contents = {};   ///< of put, and of boot where it is the user's
  KeptFacts kept = {};       ///< of put and make_folder
  bool named = false;        ///< of put: the path is the user's word, whatever the file itself says it is called
  bool replace = false;      ///< of put: a file of that name goes first
  bool with_all = false;     ///< of drop: a folder goes with what is in it
  std::uint64_t offset = 0;  ///< of bytes: in the file
  Bytes old_bytes = {}, new_bytes = {};  ///< of bytes: of one length
};
std::string_view to_string(VolumeEdit::Kind kind);

/// Bytes of an image that an edit changes.
struct ChangedRange {
  std::uint64_t offset = 0;
  Bytes bytes = {};
};
/// What one change comes to.
struct EditStep {
  VolumeEdit::Kind kind = VolumeEdit::Kind::put;
  std::string path = {}, text = {};
  std::uint64_t size_bytes = 0;  ///< of the file
  std::int64_t blocks = 0;       ///< taken; below 0: given back
};
struct EditPlan {
  std::vector<ChangedRange> ranges = {};  ///< in order, apart from each other: nothing else is written
  std::vector<EditStep> steps = {};       ///< one for each edit; the path of a save that is put is its own name
};
void apply_ranges(Bytes& image, std::span<const ChangedRange> ranges);

/// What can be mended without a guess.
struct VolumeRepair {
  std::vector<ChangedRange> ranges = {};
  std::vector<std::string> done = {};  ///< for people; empty: nothing could be
};

struct FileSystem {
  std::string_view id;        ///< "udf": how Volume::system begins
  std::string_view title;     ///< for people
  std::string_view short_id;  ///< in the codes of what stands beside another
  Company company = Company::others;
  bool anywhere = false;               ///< it begins in any place; else only at sector 0
  bool tells_size = false;             ///< Volume::blocks is what the image has to have
  bool often_trimmed = false;          ///< its discs are customarily kept without what no file needs, or laid out anew
  VolumeHost host = VolumeHost::disc;  ///< what it is looked for on
  bool of_disc() const { return host == VolumeHost::disc; }
  /// Nothing if there is none of this kind. Error (refused) if there is one that is broken beyond listing.
  std::optional<Volume> (*read)(const VolumePlace& place) = nullptr;
  /// A volume's variant for people ("ISO 9660 with Joliet names"); null: the title.
  std::string (*name_of)(std::string_view system) = nullptr;
  /// One that lost its mark, so that read() finds none; null: nothing would tell.
  std::optional<VolumeProblem> (*lost_mark)(const ByteSource& disc) = nullptr;
  /// A path as two of them are compared; null: without case.
  std::string (*fold)(const Volume& volume, std::string_view path) = nullptr;
  /// For check, of a sound one: which of its bytes its own checksums prove; null: none does.
  std::string (*proves)(const Volume& volume) = nullptr;
  /// Where another one begins behind this one (a second layer, the next card); null: there is never one.
  std::optional<std::uint64_t> (*next)(const ByteSource& disc, const Volume& volume) = nullptr;
  /// Bytes that any file or table of it needs; nothing if its tables do not tell. Null: nobody knows.
  std::optional<std::vector<ByteRange>> (*used)(const VolumePlace& place) = nullptr;
  /// Null: nobody makes one of a folder.
  const FolderBuilder* build = nullptr;
  /// What the changes do to the image, in their order and all or none. Null: it is only read. Error: "damaged"
  /// (refused; one with damage is never changed), "bad_name" (with a name that could be taken), "exists" (needs_word),
  /// "full" (needs_word; for all that is put, before anything is), "no_such_path", "not_empty", "has_links". `now`:
  /// seconds since 1970.
  EditPlan (*edit)(const VolumePlace& place, std::span<const VolumeEdit> edits, std::int64_t now) = nullptr;
  /// Of a damaged one: its tables, never the bytes of a file. Null: nothing can be mended.
  VolumeRepair (*repair)(const VolumePlace& place, std::int64_t now) = nullptr;
};

/// All file systems, in the order in which a place is asked for them.
std::span<const FileSystem* const> file_systems();
/// The one a volume is of; null for an archive's members.
const FileSystem* file_system_of(const Volume& volume);
/// What people call it.
std::string name_of(const Volume& volume);

}  // namespace opifex
