#include "opifex/core/volumes/gamecube_volume.hpp"

#include <algorithm>
#include <set>

#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

constexpr std::uint32_t kWiiMagic = 0x5D1C'9EA3, kGameCubeMagic = 0xC233'9F3D;
constexpr std::size_t kHeader = 0x440, kInfoAt = 0x440, kInfoBytes = 0x2000, kLoaderAt = 0x2440, kLoaderHead = 0x20;
constexpr std::size_t kDolHead = 0x100, kSections = 18;
constexpr std::uint64_t kEntry = 12, kLargestTable = 64 << 20;
constexpr std::size_t kMostProblems = 200;

class Reader {
 public:
  explicit Reader(SourcePtr disc) : disc_(std::move(disc)) {
    volume_.disc = disc_;
    volume_.system = "gamecube";
  }

  std::optional<Volume> read() {
    const Bytes head = read_up_to(*disc_, 0, kHeader);
    constexpr std::size_t kWiiAt = 0x18, kGameCubeAt = 0x1C, kTitleAt = 0x20, kTitleBytes = 64;
    if (head.size() < kGameCubeAt + 4 || load_be32(head, kGameCubeAt) != kGameCubeMagic) return std::nullopt;
    if (load_be32(head, kWiiAt) == kWiiMagic) damage("both_marks", "the disc has the marks of both consoles");
    volume_.blocks = kGameCubeDiscBytes / 2048;
    if (head.size() < kHeader) {
      damage("cut_short", "the image ends within the disc's header");
      return std::move(volume_);
    }
    volume_.label = text_of(as_text(ByteView(head).subspan(kTitleAt, kTitleBytes)));
    system_files(head);
    read_table(load_be32(head, 0x424), load_be32(head, 0x428));
    return std::move(volume_);
  }

 private:
  void problem(const char* code, std::string message, Weight weight) {
    if (volume_.problems.size() < kMostProblems) volume_.problems.push_back({code, std::move(message), weight});
  }
  void damage(const char* code, std::string message) { problem(code, std::move(message), Weight::damage); }

  /// Names are ASCII or Shift-JIS; bytes that are neither stay visible as %XX.
  static std::string text_of(std::string_view bytes) {
    bytes = bytes.substr(0, bytes.find('\0'));
    if (auto text = opifex::decode(bytes, "windows-31j")) return *text;
    std::string escaped;
    for (const char c : bytes) {
      const auto byte = static_cast<unsigned char>(c);
      escaped += byte < 0x80 ? std::string(1, c) : fmt::format("%{:02X}", byte);
    }
    return escaped;
  }

  void add_file(std::string path, std::uint64_t offset, std::uint64_t size) {
    VolumeEntry e;
    e.path = std::move(path);
    e.size_bytes = size;
    e.attributes = fmt::format("at {:#x}", offset);
    e.sound = size == 0 || (offset <= disc_->size() && size <= disc_->size() - offset);
    if (e.sound) e.source = slice_source(disc_, size == 0 ? 0 : offset, size);
    if (!e.sound) damage("outside_image", fmt::format("{} lies outside the image", printable(e.path)));
    volume_.entries.push_back(std::move(e));
  }

  void system_files(const Bytes& head) {
    VolumeEntry folder;
    folder.path = "system";
    folder.kind = EntryKind::folder;
    volume_.entries.push_back(folder);
    add_file("system/header.bin", 0, kHeader);
    add_file("system/info.bin", kInfoAt, kInfoBytes);
    const Bytes loader = read_up_to(*disc_, kLoaderAt, kLoaderHead);
    if (loader.size() == kLoaderHead)
      add_file("system/loader.bin", kLoaderAt,
               std::uint64_t{kLoaderHead} + load_be32(loader, 0x14) + load_be32(loader, 0x18));
    const std::uint64_t program = load_be32(head, 0x420);
    const Bytes dol = read_up_to(*disc_, program, kDolHead);
    std::uint64_t end = kDolHead;
    for (std::size_t i = 0; dol.size() == kDolHead && i < kSections; ++i)
      if (const std::uint64_t size = load_be32(dol, 0x90 + 4 * i); size > 0)
        end = std::max(end, std::uint64_t{load_be32(dol, 4 * i)} + size);
    if (program != 0) add_file("system/main.dol", program, end);
    add_file("system/files.fst", load_be32(head, 0x424), load_be32(head, 0x428));
  }

  void read_table(std::uint64_t offset, std::uint64_t size) {
    if (size < kEntry || size > kLargestTable || offset < kLoaderAt || offset + size > kGameCubeDiscBytes)
      return damage("table_outside", "the table of files lies where there can be none");
    if (offset + size > disc_->size()) return damage("cut_short", "the image ends within the table of files");
    table_.resize(static_cast<std::size_t>(size));
    disc_->read_at(offset, table_);
    const std::uint64_t count = load_be32(table_, 8);
    if (table_[0] != std::byte{1}) return damage("bad_root", "the table of files does not begin with a folder");
    if (count == 0 || count * kEntry > size)
      return damage("bad_count", fmt::format("the table says {} entries, and has room for {}", count, size / kEntry));
    names_at_ = static_cast<std::size_t>(count * kEntry);
    walk(static_cast<std::uint32_t>(count));
  }

  struct Open {
    std::string path;
    std::uint32_t end = 0;  // the first entry behind the folder
  };

  void walk(std::uint32_t count) {
    std::vector<Open> folders = {{"", count}};
    for (std::uint32_t i = 1; i < count; ++i) {
      while (folders.size() > 1 && i >= folders.back().end) folders.pop_back();
      const std::size_t at = i * static_cast<std::size_t>(kEntry);
      const unsigned kind = std::to_integer<unsigned>(table_[at]);
      if (kind > 1) {
        damage("bad_kind", fmt::format("entry {} is neither file nor folder", i));
        continue;
      }
      const auto name = name_of(i, load_be32(table_, at) & 0xFF'FFFF);
      if (!name) continue;
      const std::string path = folders.back().path.empty() ? *name : folders.back().path + "/" + *name;
      const bool safe = is_safe_name(*name) && name->find('\\') == std::string::npos;
      if (!safe) damage("illegal_name", fmt::format("entry {} has a name that cannot be one", i));
      if (kind == 1) {
        const std::uint32_t next = load_be32(table_, at + 8);
        VolumeEntry folder;
        folder.path = path;
        folder.kind = EntryKind::folder;
        mark(folder, safe);
        volume_.entries.push_back(std::move(folder));
        if (next <= i || next > folders.back().end)
          return damage("folder_loop",
                        fmt::format("{}: the folder's end lies before it, or behind its parent's", printable(path)));
        folders.push_back({path, next});
      } else {
        add_file(path, load_be32(table_, at + 4), load_be32(table_, at + 8));
        mark(volume_.entries.back(), safe);
      }
    }
  }

  static void mark(VolumeEntry& e, bool safe) {
    e.safe = safe;
    if (!safe) e.refused = "its name cannot be one";
  }

  std::optional<std::string> name_of(std::uint32_t entry, std::uint32_t offset) {
    const std::string_view names = as_text(ByteView(table_).subspan(names_at_));
    const std::size_t end = offset < names.size() ? names.find('\0', offset) : std::string_view::npos;
    if (end == std::string_view::npos) {
      damage("bad_name", fmt::format("entry {} has its name outside the table", entry));
      return std::nullopt;
    }
    return text_of(names.substr(offset, end - offset));
  }

  SourcePtr disc_;
  Volume volume_;
  Bytes table_;
  std::size_t names_at_ = 0;
};

}  // namespace

std::optional<Volume> read_gamecube(SourcePtr disc) { return Reader(std::move(disc)).read(); }

}  // namespace opifex
