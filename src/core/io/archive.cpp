#include "opifex/core/io/archive.hpp"

#include <algorithm>
#include <map>
#include <set>

#include <archive_entry.h>

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/read_budget.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/io/part_names.hpp"

#include "archive_reader.hpp"
#include "archive_stream.hpp"
#include "rar_headers.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;
using namespace std::string_view_literals;

constexpr std::uint64_t kMostMember = std::uint64_t{128} << 30;  // larger than any disc

constexpr std::size_t kTarBlock = 512, kTarSum = 148;

/// The sum over a tar header, its own eight bytes as blanks, stands in it in octal.
bool is_tar(ByteView head) {
  if (head.size() < kTarBlock) return false;
  unsigned sum = 0;
  for (std::size_t i = 0; i < kTarBlock; ++i)
    sum += i >= kTarSum && i < kTarSum + 8 ? ' ' : std::to_integer<unsigned>(head[i]);
  unsigned told = 0, digits = 0;
  for (const char c : as_text(head.subspan(kTarSum, 8))) {
    if (c == ' ' && digits == 0) continue;
    if (c < '0' || c > '7') break;
    told = 8 * told + static_cast<unsigned>(c - '0');
    ++digits;
  }
  return digits > 0 && told == sum && head[0] != std::byte{0};
}

std::string packer_of(std::string_view head) {
  if (head.starts_with("\x1F\x8B\x08"sv)) return "gz";
  if (head.starts_with("\xFD\x37zXZ\0"sv)) return "xz";
  if (head.starts_with("\x28\xB5\x2F\xFD"sv)) return "zst";
  if (head.starts_with("\x04\x22\x4D\x18"sv)) return "lz4";
  if (head.size() >= 10 && head.starts_with("BZh") && head.substr(4, 6) == "1AY&SY"sv) return "bz2";
  // A skippable frame before a zstd one.
  if (head.size() >= 4 && (head[0] & 0xF0) == 0x50 && head.substr(1, 3) == "\x2A\x4D\x18"sv) return "zst";
  return "";
}

/// A tar in a packer, told by its first block.
bool holds_tar(const std::vector<fs::path>& volumes, const std::string& packer) {
  try {
    ArchiveReader reader(volumes, packer);
    Bytes head;
    ByteView block;
    std::uint64_t at = 0;
    if (!reader.next()) return false;
    while (head.size() < kTarBlock && reader.read(block, at)) head.insert(head.end(), block.begin(), block.end());
    return is_tar(head);
  } catch (const Error& e) {
    if (e.details.fault != Fault::refused) throw;
    return false;  // the listing tells what is wrong
  }
}

[[noreturn]] void missing_part(const fs::path& path, std::vector<std::string> names) {
  constexpr std::size_t kMostNamed = 5;
  const std::size_t more = names.size() - std::min(names.size(), kMostNamed);
  const bool one = names.size() == 1;
  names.resize(names.size() - more);
  throw Error({.code = "missing_part",
               .cause = Cause::missing_part,
               .what = one ? "a part of the archive is missing" : "parts of the archive are missing",
               .file = path.string(),
               .found = fmt::format("no {}{}", fmt::join(names, ", "),
                                    more > 0 ? fmt::format(" and {} more", grouped(more)) : ""),
               .expected = "all parts in one folder",
               .hint = "put what is missing beside the others"});
}

[[noreturn]] void cut_off(const fs::path& volume) {
  throw Error({.code = "archive_damaged",
               .cause = Cause::archive,
               .what = "the archive is damaged: its headers do not lead to its end",
               .file = volume.string(),
               .hint = "copy or download it again"});
}

/// Members that a zip's directory promises (APPNOTE 4.3.14, 4.3.16); nothing if it has none.
std::optional<std::uint64_t> promised_by_zip(const ByteSource& source) {
  constexpr std::size_t kRecord = 22, kMostComment = 0xFFFF, kLocator = 20, kRecord64 = 56;
  const std::uint64_t from = source.size() > kRecord + kMostComment ? source.size() - kRecord - kMostComment : 0;
  const Bytes tail = read_up_to(source, from, kRecord + kMostComment);
  const std::size_t at = as_text(tail).rfind("PK\x05\x06"sv);
  if (at == std::string_view::npos || tail.size() - at < kRecord) return std::nullopt;
  const std::uint64_t count = load_le16(tail, at + 10);
  if (count != 0xFFFF || from + at < kLocator) return count;
  const Bytes locator = read_up_to(source, from + at - kLocator, kLocator);
  if (!as_text(locator).starts_with("PK\x06\x07"sv)) return count;
  const Bytes record = read_up_to(source, load_le64(locator, 8), kRecord64);
  if (record.size() < kRecord64 || !as_text(record).starts_with("PK\x06\x06"sv)) return std::nullopt;
  return load_le64(record, 32);
}

[[noreturn]] void encrypted(const fs::path& path) {
  throw Error({.code = "archive_encrypted",
               .cause = Cause::archive,
               .what = "the archive is encrypted",
               .file = path.string(),
               .hint = "unpack it with the program that made it, and give its contents"});
}

/// The volumes of the archive `path` is, or is a part of.
std::vector<fs::path> find_volumes(const fs::path& path) {
  const auto set = part_set_of(path);
  if (!set) return {path};
  if (!set->missing.empty()) missing_part(path, set->missing);
  std::vector<fs::path> volumes;
  for (const std::string& name : set->parts) volumes.push_back(path.parent_path() / name);
  return volumes;
}

std::string without_packer(const fs::path& path) {
  fs::path name = path.filename();
  const std::string extension = fold_case(name.extension().string());
  const bool packer =
      extension == ".gz" || extension == ".xz" || extension == ".zst" || extension == ".bz2" || extension == ".lz4";
  // ".adz" and its kin: a z in place of the last letter.
  if (!packer && extension.ends_with('z')) return name.stem().string() + ".unpacked";
  return packer ? name.stem().string() : name.string() + ".unpacked";
}

class Listed final : public Archive {
 public:
  Listed(const fs::path& path, const fs::path& spool_folder) : volumes_(find_volumes(path)) {
    find_kind(path);
    if (kind_ == "rar4" || kind_ == "rar5") walk_rar(path);
    list();
    const bool any = std::any_of(members_.begin(), members_.end(), [](const ArchiveMember& m) { return !m.folder; });
    if (!any)
      throw Error({.code = "archive_empty",
                   .cause = Cause::archive,
                   .what = "there is no file in this archive",
                   .file = path.string()});
    std::vector<StreamMember> stream;
    std::uint64_t start = 0;
    for (std::size_t i = 0; i < members_.size(); ++i) {
      if (members_[i].folder || !members_[i].refused.empty()) continue;
      in_stream_[i] = stream.size();
      stream.push_back({i, members_[i].name, start, members_[i].size_bytes, crcs_[i]});
      const auto next = checked_add(start, members_[i].size_bytes);
      if (!next)
        throw Error({.code = "archive_damaged",
                     .cause = Cause::archive,
                     .what = "the archive's sizes are absurd",
                     .file = path.string()});
      start = *next;
    }
    stream_ = std::make_shared<const ArchiveStream>(volumes_, kind_, std::move(stream), spool_folder);
  }

  const std::string& kind() const override { return kind_; }
  const std::vector<ArchiveMember>& members() const override { return members_; }
  const std::vector<fs::path>& volumes() const override { return volumes_; }
  SourcePtr open_member(std::size_t index) const override {
    return stream_->open(in_stream_.at(index), (volumes_.front() / members_[index].name).string());
  }

 private:
  void find_kind(const fs::path& path) {
    std::vector<SourcePtr> parts;
    for (const fs::path& v : volumes_) parts.push_back(open_file(v));
    whole_ = concat_source(parts, path.string());
    kind_ = archive_kind(*whole_);
    if (kind_.empty())
      throw Error({.code = "not_an_archive",
                   .what = "this is not an archive that can be read",
                   .file = path.string(),
                   .expected = "zip, 7z, RAR, tar, gz, xz, zst, bz2 or lz4"});
    if (is_packed_file(kind_) && holds_tar(volumes_, kind_)) kind_ = "tar." + kind_;
  }

  /// Checks that the volumes belong together, and collects what the library does not check.
  void walk_rar(const fs::path& path) {
    for (std::size_t v = 0; v < volumes_.size(); ++v) {
      const RarHeaders headers = read_rar_headers(*open_file(volumes_[v]));
      if (headers.headers_encrypted) encrypted(path);
      if (headers.version != 0 && !headers.sound && unsound_.empty()) unsound_ = volumes_[v];
      for (const RarFile& f : headers.files) {
        if (f.encrypted) encrypted(path);
        if (!f.from_before || rar_.empty()) rar_.push_back(f);
        rar_.back().crc = f.crc;  // the last part has that of the whole file
      }
      const bool last = v + 1 == volumes_.size();
      if (headers.version != 0 && headers.sound && last && headers.more_follow) missing_part(path, {next_volume()});
    }
  }

  /// The name after the last volume's, by its own pattern.
  std::string next_volume() const {
    const std::string name = volumes_.back().filename().string();
    const std::size_t part = fold_case(name).rfind(".part");
    if (part == std::string::npos)
      return volumes_.size() == 1 ? volumes_.back().stem().string() + ".r00" : fmt::format("the volume after {}", name);
    const std::size_t digits = part + 5, end = name.find('.', digits);
    return fmt::format("{}{:0{}}{}", name.substr(0, digits), volumes_.size() + 1, end - digits, name.substr(end));
  }

  void list() {
    ArchiveReader reader(volumes_, kind_);
    std::uint64_t size = 0;
    for (const fs::path& volume : volumes_) size += fs::file_size(volume);
    ReadBudget budget(volumes_.front().string(), size);
    while (archive_entry* entry = reader.next()) {
      if (archive_entry_is_data_encrypted(entry) != 0) encrypted(volumes_.front());
      ArchiveMember m;
      const char* name = archive_entry_pathname(entry);
      m.name = is_packed_file(kind_) ? packed_name(name) : name ? name : "";
      budget.entry();
      budget.take(sizeof m + m.name.size());
      const std::string link = archive_entry_symlink(entry)    ? archive_entry_symlink(entry)
                               : archive_entry_hardlink(entry) ? archive_entry_hardlink(entry)
                                                               : "";
      const auto type = archive_entry_filetype(entry);
      m.folder = type == AE_IFDIR;
      const bool special = !m.folder && type != AE_IFREG && type != 0;
      m.refused = member_path_fault(m.name);
      if (m.refused.empty() && !link.empty()) m.refused = "it is a link to " + printable(link);
      if (!link.empty()) links_.insert(fold_case(m.name) + "/");
      if (m.refused.empty() && special) m.refused = "it is no plain file";
      if (m.folder && m.name.ends_with('/')) m.name.pop_back();
      if (m.refused.empty() && below_link(m.name)) m.refused = "its folder is a link";
      if (m.refused.empty() && !m.folder && !seen_.insert(fold_case(m.name)).second)
        m.refused = "another file in the archive has the same name";
      if (archive_entry_mtime_is_set(entry)) m.modified = archive_entry_mtime(entry);
      if (!m.folder && link.empty() && !special)
        m.size_bytes = archive_entry_size_is_set(entry)
                           ? static_cast<std::uint64_t>(std::max<la_int64_t>(0, archive_entry_size(entry)))
                           : measure(reader, m);
      if (m.size_bytes > kMostMember) too_large(m);
      crcs_.push_back(members_.size() < rar_.size() ? rar_[members_.size()].crc : std::nullopt);
      members_.push_back(std::move(m));
    }
    reader.finish();
    compare_count();
  }

  /// The library passes over what it cannot read: all that the headers promise has to be there.
  void compare_count() const {
    if (!unsound_.empty()) cut_off(unsound_);  // the library may have named the member that is hit
    std::optional<std::uint64_t> promised;
    if (kind_ == "rar4" || kind_ == "rar5") promised = rar_.size();
    if (kind_ == "zip") {
      promised = promised_by_zip(*whole_);
      if (!promised) cut_off(volumes_.back());
    }
    if (promised && *promised != members_.size())
      throw Error({.code = "archive_damaged",
                   .cause = Cause::archive,
                   .what = "the archive is damaged: not all of its members are there",
                   .file = volumes_.front().string(),
                   .found = fmt::format("{}", members_.size()),
                   .expected = fmt::format("{}", *promised),
                   .hint = "copy or download it again"});
  }

  /// A file written through a link that the archive brings along: the oldest trick.
  bool below_link(const std::string& name) const {
    const std::string folded = fold_case(name);
    return std::any_of(links_.begin(), links_.end(), [&](const std::string& l) { return folded.starts_with(l); });
  }

  std::string packed_name(const char* name) const {
    const std::string inside = name ? name : "";
    return inside.empty() || inside == "data" || !member_path_fault(inside).empty() ? without_packer(volumes_.front())
                                                                                    : inside;
  }

  /// Nothing but its end tells the size of a member.
  std::uint64_t measure(ArchiveReader& reader, const ArchiveMember& m) const {
    ByteView block;
    std::uint64_t at = 0, size = 0;
    while (reader.read(block, at)) {
      size = std::max(size, at + block.size());
      if (size > kMostMember) too_large(m);
    }
    return size;
  }

  [[noreturn]] void too_large(const ArchiveMember& m) const {
    throw Error({.code = "archive_damaged",
                 .cause = Cause::archive,
                 .what = fmt::format("{} in the archive is larger than any disc", printable(m.name)),
                 .file = volumes_.front().string()});
  }

  std::vector<fs::path> volumes_;
  SourcePtr whole_;  // all volumes one behind the other
  std::string kind_;
  fs::path unsound_;          // a volume whose headers do not lead to its end
  std::vector<RarFile> rar_;  // in the order of the members
  std::vector<ArchiveMember> members_;
  std::vector<std::optional<std::uint32_t>> crcs_;
  std::set<std::string> seen_, links_;
  std::map<std::size_t, std::size_t> in_stream_;
  std::shared_ptr<const ArchiveStream> stream_;
};

/// Members by their paths below the archive's own.
class ArchiveFiles final : public FileSpace {
 public:
  ArchiveFiles(ArchivePtr archive, fs::path root) : archive_(std::move(archive)), root_(std::move(root)) {
    const auto& members = archive_->members();
    for (std::size_t i = 0; i < members.size(); ++i) {
      if (!members[i].refused.empty()) continue;
      fs::path path = (root_ / members[i].name).lexically_normal();
      if (!members[i].folder) files_.emplace(path, i);
      // Folders that only names tell of.
      for (; path != root_ && path.has_relative_path(); path = path.parent_path())
        children_[path.parent_path()].insert(path);
    }
  }
  SourcePtr open(const fs::path& path) const override {
    const auto at = files_.find(path.lexically_normal());
    if (at == files_.end())
      throw Error({.code = "no_such_file", .what = "the archive holds no such file", .file = path.string()});
    return archive_->open_member(at->second);
  }
  bool is_file(const fs::path& path) const override { return files_.contains(path.lexically_normal()); }
  bool is_folder(const fs::path& path) const override { return children_.contains(path.lexically_normal()); }
  std::vector<fs::path> entries(const fs::path& folder) const override {
    const auto at = children_.find(folder.lexically_normal());
    if (at == children_.end()) return {};
    return {at->second.begin(), at->second.end()};
  }
  bool same_file(const fs::path& a, const fs::path& b) const override {
    return a.lexically_normal() == b.lexically_normal();
  }

 private:
  ArchivePtr archive_;
  fs::path root_;
  std::map<fs::path, std::size_t> files_;
  std::map<fs::path, std::set<fs::path>> children_;
};

}  // namespace

std::string archive_kind(const ByteSource& source) {
  constexpr std::size_t kProgram = 1 << 20;
  const Bytes bytes = read_up_to(source, 0, kTarBlock);
  const std::string_view head = as_text(bytes);
  if (head.starts_with("PK\x03\x04"sv) || head.starts_with("PK\x05\x06"sv) || head.starts_with("PK\x07\x08"sv))
    return "zip";
  if (head.starts_with("7z\xBC\xAF\x27\x1C"sv)) return "7z";
  if (head.starts_with("Rar!\x1A\x07\x00"sv)) return "rar4";
  if (head.starts_with("Rar!\x1A\x07\x01\x00"sv)) return "rar5";
  if (const std::string packer = packer_of(head); !packer.empty()) return packer;
  if (is_tar(bytes)) return "tar";
  if (!head.starts_with("MZ") && !head.starts_with("#!")) return "";
  // A program in front that unpacks what follows.
  const Bytes front = read_up_to(source, 0, kProgram);
  const std::string_view text = as_text(front);
  if (text.find("PK\x03\x04"sv) != std::string_view::npos) return "zip";
  if (text.find("Rar!\x1A\x07\x00"sv) != std::string_view::npos) return "rar4";
  return text.find("Rar!\x1A\x07\x01\x00"sv) != std::string_view::npos ? "rar5" : "";
}

ArchivePtr Archive::open(const fs::path& path, const fs::path& spool_folder) {
  return std::make_shared<const Listed>(path, spool_folder);
}

FileSpacePtr archive_files(ArchivePtr archive, const fs::path& root) {
  return std::make_shared<const ArchiveFiles>(std::move(archive), root.lexically_normal());
}

}  // namespace opifex
