/// What every file system declares, and the registry that lists them. Adding one: its folder and one line.
#pragma once

#include <optional>
#include <span>
#include <string_view>

#include "opifex/core/image/format.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {

/// Where a file system may begin: a data track, or the image itself.
struct VolumePlace {
  SourcePtr disc = {};            ///< 2048 bytes a sector
  std::uint64_t start = 0;        ///< sector
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
  FolderImage (*plan)(const std::filesystem::path& folder, const std::filesystem::path& out,
                      const Settings& settings) = nullptr;
  /// The bytes of the volume alone, for formats that wrap it; null: it is only made whole.
  SourcePtr (*make)(const std::filesystem::path& folder, std::vector<std::string>& notices) = nullptr;
  std::span<const std::string_view> made_anew = {};  ///< paths of which the image has its own version
};

/// A change of the files of a volume.
struct VolumeEdit {
  enum class Kind { put, drop, rename };
  Kind kind = Kind::put;
  std::string path = {}, new_path = {};
  SourcePtr contents = {};  ///< of `put`
};
/// Bytes of an image that an edit changes.
struct ChangedRange {
  std::uint64_t offset = 0;
  Bytes bytes = {};
};

struct FileSystem {
  std::string_view id;        ///< "udf": how Volume::system begins
  std::string_view title;     ///< for people
  std::string_view short_id;  ///< in the codes of what stands beside another
  Company company = Company::others;
  bool anywhere = false;    ///< it begins in any place; else only at sector 0
  bool tells_size = false;  ///< Volume::blocks is what the image has to have
  bool of_disc = true;      ///< false: it is not looked for on discs, its format opens it
  /// Nothing if there is none of this kind. Error (refused) if there is one that is broken beyond listing.
  std::optional<Volume> (*read)(const VolumePlace& place) = nullptr;
  /// A volume's variant for people ("ISO 9660 with Joliet names"); null: the title.
  std::string (*name_of)(std::string_view system) = nullptr;
  /// One that lost its mark, so that read() finds none; null: nothing would tell.
  std::optional<VolumeProblem> (*lost_mark)(const ByteSource& disc) = nullptr;
  /// Where another one begins behind this one (a second layer); null: there is never one.
  std::optional<std::uint64_t> (*next)(const ByteSource& disc, const Volume& volume) = nullptr;
  /// Bytes that any file or table of it needs; nothing if its tables do not tell. Null: nobody knows.
  std::optional<std::vector<ByteRange>> (*used)(const VolumePlace& place) = nullptr;
  /// Null: nobody makes one of a folder.
  const FolderBuilder* build = nullptr;
  /// What the changes do to the image, in order. Null: it is only read.
  std::vector<ChangedRange> (*edit)(const VolumePlace& place, std::span<const VolumeEdit> edits) = nullptr;
};

/// All file systems, in the order in which a place is asked for them.
std::span<const FileSystem* const> file_systems();
/// The one a volume is of; null for an archive's members.
const FileSystem* file_system_of(const Volume& volume);
/// What people call it.
std::string name_of(const Volume& volume);

}  // namespace opifex
