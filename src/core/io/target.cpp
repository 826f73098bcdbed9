#include "opifex/core/io/target.hpp"

#include <algorithm>
#include <array>
#include <cerrno>
#include <string_view>

#include <sys/statfs.h>
#include <sys/statvfs.h>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/base/error.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

constexpr std::uint64_t kFat32Largest = 0xFFFFFFFF;

struct KnownFileSystem {
  std::uint32_t magic;  // statfs(2), f_type as 32 unsigned bits
  std::string_view name;
};
constexpr std::array kKnown = {
    KnownFileSystem{0x4D44, "fat32"},    KnownFileSystem{0x2011BAB0, "exfat"}, KnownFileSystem{0x5346544E, "ntfs"},
    KnownFileSystem{0x7366746E, "ntfs"}, KnownFileSystem{0xEF53, "ext4"},      KnownFileSystem{0x9123683E, "btrfs"},
    KnownFileSystem{0x58465342, "xfs"},  KnownFileSystem{0x01021994, "tmpfs"}, KnownFileSystem{0x794C7630, "overlay"},
    KnownFileSystem{0xF2F52010, "f2fs"}, KnownFileSystem{0x6969, "nfs"},       KnownFileSystem{0xFE534D42, "smb"},
    KnownFileSystem{0xFF534D42, "smb"},  KnownFileSystem{0x65735546, "fuse"},  KnownFileSystem{0x9660, "iso9660"},
    KnownFileSystem{0x15013346, "udf"},
};

std::filesystem::path nearest_existing(std::filesystem::path folder) {
  std::error_code ignored;
  folder = std::filesystem::absolute(folder, ignored);
  while (!std::filesystem::exists(folder, ignored) && folder.has_relative_path()) folder = folder.parent_path();
  return folder;
}

}  // namespace

TargetFacts target_facts(const std::filesystem::path& folder) {
  TargetFacts facts;
  const std::filesystem::path place = nearest_existing(folder.empty() ? "." : folder);
  struct statfs kind {};
  struct statvfs space {};
  if (::statfs(place.c_str(), &kind) != 0 || ::statvfs(place.c_str(), &space) != 0)
    throw_system_error("cannot examine the target folder", place.string(), errno);
  // f_bavail, not f_bfree: reserved blocks are not for the user.
  facts.free_bytes = static_cast<std::uint64_t>(space.f_bavail) * space.f_frsize;
  facts.read_only = (space.f_flag & ST_RDONLY) != 0;
  const auto magic = static_cast<std::uint32_t>(kind.f_type);
  for (const KnownFileSystem& known : kKnown)
    if (known.magic == magic) facts.file_system = known.name;
  if (facts.file_system == "fat32") facts.largest_file_bytes = kFat32Largest;
  return facts;
}

NameRules TargetFacts::name_rules() const {
  if (file_system == "fatx") return NameRules::fatx;
  const bool drive = file_system == "fat32" || file_system == "exfat" || file_system == "ntfs";
  return drive ? NameRules::drive : NameRules::host;
}

bool TargetFacts::limits_names() const { return name_rules() != NameRules::host; }

const std::vector<std::string>& target_file_systems() {
  static const std::vector<std::string> names = {"fat32", "exfat", "ntfs", "ext4", "fatx"};
  return names;
}

TargetFacts with_file_system(TargetFacts facts, const std::string& name) {
  const auto& known = target_file_systems();
  if (std::find(known.begin(), known.end(), name) == known.end())
    throw Error({.fault = Fault::usage,
                 .code = "unknown_file_system",
                 .what = fmt::format("there is no file system named {} here", name),
                 .hint = fmt::format("one of {}", fmt::join(known, ", "))});
  facts.file_system = name;
  facts.largest_file_bytes = name == "fat32" || name == "fatx" ? kFat32Largest : UINT64_MAX;
  constexpr std::size_t kLongestFatx = 42;
  if (name == "fatx") facts.longest_name = kLongestFatx;
  return facts;
}

void PlannedTotal::add(const PlannedFile& file) {
  const std::string name = file.path.filename().string();
  if (file.size_bytes > facts_.largest_file_bytes)
    throw Error(
        {.fault = Fault::needs_word,
         .code = "file_too_large",
         .what = fmt::format("the file would be too large for {}", facts_.file_system),
         .file = file.path.string(),
         .found = human_size(file.size_bytes),
         .expected = fmt::format("at most {}", human_size(facts_.largest_file_bytes)),
         .hint = "write it in parts with <limit> fat32 (a CD: <job split> <by> tracks), or to exFAT, NTFS or ext4"});
  if (utf16_units(name) > facts_.longest_name || name.size() > 255)
    throw Error({.fault = Fault::needs_word,
                 .code = "name_too_long",
                 .what = "the file name is too long for the target",
                 .file = file.path.string(),
                 .found = fmt::format("{} characters", utf16_units(name)),
                 .expected = fmt::format("at most {}", facts_.longest_name),
                 .hint = "give a shorter name with <out>, or use: <job rename> SET NEW-NAME"});
  if (files_++ == 0) folder_ = file.path.parent_path().string();
  bytes_ = checked_add(bytes_, file.size_bytes).value_or(UINT64_MAX);
}

void PlannedTotal::check() const {
  if (facts_.read_only)
    throw Error({.fault = Fault::needs_word,
                 .code = "read_only",
                 .what = "the target drive is read-only",
                 .file = folder_,
                 .hint = "give another place with <out>"});
  if (bytes_ > facts_.free_bytes)
    throw Error({.fault = Fault::needs_word,
                 .code = "no_space",
                 .cause = Cause::no_space,
                 .what = "there is not enough room on the target drive",
                 .file = folder_.empty() ? "." : folder_,
                 .found = human_size(facts_.free_bytes) + " free",
                 .expected = fmt::format("{} for {}", human_size(bytes_), plural(files_, "file")),
                 .hint = "make room, or give another place with <out>"});
}

void check_fits(const std::vector<PlannedFile>& files, const TargetFacts& facts) {
  PlannedTotal total(facts);
  for (const PlannedFile& file : files) total.add(file);
  total.check();
}

}  // namespace opifex
