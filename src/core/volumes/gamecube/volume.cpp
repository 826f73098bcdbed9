#include "opifex/core/volumes/gamecube/volume.hpp"

#include <algorithm>
#include <set>

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/text.hpp"

#include "../listing_budget.hpp"

namespace opifex {
namespace {

constexpr std::size_t kLoaderHead = 0x20, kDolHead = 0x100, kSections = 18;
constexpr std::uint64_t kEntry = 12, kLargestTable = 64 << 20;

class Reader {
 public:
  Reader(SourcePtr disc, ConsolePlace place) : disc_(std::move(disc)), place_(place) {
    volume_.disc = disc_;
    volume_.system = place_.shift == 0 ? "gamecube" : "wii";
  }

  std::optional<ConsoleVolume> read() {
    const Bytes head = read_up_to(*disc_, 0, kBootHeaderBytes);
    constexpr std::size_t kTitleAt = 0x20, kTitleBytes = 64, kIdBytes = 6;
    if (head.size() < kGameCubeMarkAt + 4) return std::nullopt;
    const bool gamecube = load_be32(head, kGameCubeMarkAt) == kGameCubeMark;
    const bool wii = load_be32(head, kWiiMarkAt) == kWiiMark;
    if (place_.shift == 0 ? !gamecube : !wii) return std::nullopt;
    if (gamecube && wii) damage("both_marks", "the disc has the marks of both consoles");
    volume_.blocks = place_.limit / 2048;
    if (head.size() < kBootHeaderBytes) {
      cut("cut_short", "the image ends within the disc's header");
      return finish();
    }
    out_.id = printable(as_text(ByteView(head).first(kIdBytes)));
    out_.title = volume_.label = text_of(as_text(ByteView(head).subspan(kTitleAt, kTitleBytes)));
    const std::uint64_t table = field(head, 0x424), table_bytes = field(head, 0x428), most = field(head, 0x42C);
    read_table(table, table_bytes);
    if (most < table_bytes)
      problem("small_table_limit", "the table of files is larger than the header says it may be", Weight::note);
    find_shared();
    system_files(head);
    return finish();
  }

 private:
  void problem(const char* code, std::string message, Weight weight) { volume_.tell(code, weight, std::move(message)); }
  void cut(const char* code, std::string message) { volume_.tell(code, Weight::cut, std::move(message)); }
  void damage(const char* code, std::string message) { problem(code, std::move(message), Weight::damage); }
  std::uint64_t field(ByteView head, std::size_t at) const {
    return std::uint64_t{load_be32(head, at)} << place_.shift;
  }

  ConsoleVolume finish() {
    out_.used = joined(std::move(used_));
    out_.volume = std::move(volume_);
    return std::move(out_);
  }

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

  VolumeEntry file_entry(std::string path, std::uint64_t offset, std::uint64_t size) {
    VolumeEntry e;
    e.path = std::move(path);
    e.size_bytes = size;
    e.attributes = fmt::format("at {:#x}", offset);
    e.offset = offset;
    e.sound = size == 0 || (offset <= disc_->size() && size <= disc_->size() - offset);
    if (e.sound) e.source = slice_source(disc_, size == 0 ? 0 : offset, size);
    const bool inside = size == 0 || (offset <= place_.limit && size <= place_.limit - offset);
    if (!inside) damage("outside_disc", fmt::format("{} lies beyond the end of any disc", printable(e.path)));
    if (!e.sound && inside) cut("outside_image", fmt::format("{} lies outside the image", printable(e.path)));
    if (inside && size > 0) used_.push_back({offset, offset + size});
    if (!inside) out_.listed = false;
    return e;
  }

  /// Listed first; behind the table in time, because only then the disc's own names are known.
  void system_files(const Bytes& head) {
    std::set<std::string> roots;
    for (const VolumeEntry& e : volume_.entries) roots.insert(fold_case(e.path.substr(0, e.path.find('/'))));
    std::string folder = "system";
    while (roots.contains(folder)) folder += '~';
    std::vector<VolumeEntry> system(1);
    system[0].path = folder;
    system[0].kind = EntryKind::folder;
    const auto add = [&](const char* name, std::uint64_t offset, std::uint64_t size) {
      system.push_back(file_entry(folder + "/" + name, offset, size));
    };
    add("header.bin", 0, kBootHeaderBytes);
    add("info.bin", kBootHeaderBytes, kBootInfoBytes);
    const Bytes loader = read_up_to(*disc_, kBootLoaderAt, kLoaderHead);
    if (loader.size() == kLoaderHead)
      add("loader.bin", kBootLoaderAt, std::uint64_t{kLoaderHead} + load_be32(loader, 0x14) + load_be32(loader, 0x18));
    const std::uint64_t program = field(head, 0x420);
    const Bytes dol = read_up_to(*disc_, program, kDolHead);
    if (program != 0) add("main.dol", program, dol.size() == kDolHead ? dol_bytes(dol) : kDolHead);
    add("files.fst", field(head, 0x424), field(head, 0x428));
    volume_.entries.insert(volume_.entries.begin(), system.begin(), system.end());
  }

  void read_table(std::uint64_t offset, std::uint64_t size) {
    if (size < kEntry || size > kLargestTable || offset < kBootLoaderAt || offset + size > place_.limit)
      return damage("table_outside", "the table of files lies where there can be none");
    if (offset + size > disc_->size()) return cut("cut_short", "the image ends within the table of files");
    table_.resize(static_cast<std::size_t>(size));
    disc_->read_at(offset, table_);
    const std::uint64_t count = load_be32(table_, 8);
    if (table_[0] != std::byte{1}) return damage("bad_root", "the table of files does not begin with a folder");
    if (count == 0 || count * kEntry > size)
      return damage("bad_count", fmt::format("the table says {} entries, and has room for {}", count, size / kEntry));
    names_at_ = static_cast<std::size_t>(count * kEntry);
    out_.listed = true;
    if (!walk(static_cast<std::uint32_t>(count))) out_.listed = false;
  }

  struct Open {
    std::string path;
    std::uint32_t index = 0, end = 0;  // end: the first entry behind the folder
  };

  /// False if something of the table could not be understood.
  bool walk(std::uint32_t count) {
    std::vector<Open> folders = {{"", 0, count}};
    bool whole = true;
    for (std::uint32_t i = 1; i < count; ++i) {
      while (folders.size() > 1 && i >= folders.back().end) folders.pop_back();
      const std::size_t at = i * static_cast<std::size_t>(kEntry);
      const unsigned kind = std::to_integer<unsigned>(table_[at]);
      const auto name = name_of(i, load_be32(table_, at) & 0xFF'FFFF);
      budget_.take(2 * (name ? name->size() : 0));
      if (kind > 1) damage("bad_kind", fmt::format("entry {} is neither file nor folder", i));
      if (kind > 1 || !name) {
        whole = false;
        continue;
      }
      const std::string path = folders.back().path.empty() ? *name : folders.back().path + "/" + *name;
      const bool safe = is_safe_name(*name);
      if (!safe) damage("illegal_name", fmt::format("entry {} has a name that cannot be one", i));
      budget_.take(sizeof(VolumeEntry) + 2 * path.size());
      if (!names_.insert(fold_case(path)).second)
        problem("same_names", fmt::format("{} is there twice, but for upper and lower case", printable(path)),
                Weight::warning);
      if (kind == 0) {
        const std::uint64_t offset = std::uint64_t{load_be32(table_, at + 4)} << place_.shift;
        volume_.entries.push_back(mark(file_entry(path, offset, load_be32(table_, at + 8)), safe));
        continue;
      }
      const std::uint32_t parent = load_be32(table_, at + 4), next = load_be32(table_, at + 8);
      VolumeEntry folder;
      folder.path = path;
      folder.kind = EntryKind::folder;
      volume_.entries.push_back(mark(std::move(folder), safe));
      if (parent != folders.back().index)
        problem("other_parent", fmt::format("{}: the table names another folder as its parent", printable(path)),
                Weight::note);
      if (next <= i || next > folders.back().end) {
        damage("folder_loop",
               fmt::format("{}: the folder's end lies before it, or behind its parent's", printable(path)));
        return false;
      }
      folders.push_back({path, i, next});
    }
    return whole;
  }

  /// Some discs store one file under two names on purpose.
  void find_shared() {
    std::vector<const VolumeEntry*> files;
    for (const VolumeEntry& e : volume_.entries)
      if (e.kind == EntryKind::file && e.size_bytes > 0 && e.sound) files.push_back(&e);
    std::sort(files.begin(), files.end(),
              [](const VolumeEntry* a, const VolumeEntry* b) { return *a->offset < *b->offset; });
    std::size_t shared = 0;
    const VolumeEntry *first = nullptr, *second = nullptr, *reach = nullptr;
    for (const VolumeEntry* e : files) {
      if (reach && *e->offset < *reach->offset + reach->size_bytes && shared++ == 0) {
        first = reach;
        second = e;
      }
      if (!reach || *e->offset + e->size_bytes > *reach->offset + reach->size_bytes) reach = e;
    }
    if (shared > 0)
      problem("shared_data",
              fmt::format("{} file{} begin{} within another one, first {} within {}", shared, shared == 1 ? "" : "s",
                          shared == 1 ? "s" : "", printable(second->path), printable(first->path)),
              Weight::note);
  }

  static VolumeEntry mark(VolumeEntry e, bool safe) {
    e.safe = safe;
    if (!safe) e.refused = "its name cannot be one";
    return e;
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
  ConsolePlace place_;
  ConsoleVolume out_;
  Volume volume_;
  std::vector<ByteRange> used_;
  std::set<std::string> names_;  // folded paths
  ListingBudget budget_{*disc_};
  Bytes table_;
  std::size_t names_at_ = 0;
};

}  // namespace

std::vector<ByteRange> joined(std::vector<ByteRange> ranges) {
  std::sort(ranges.begin(), ranges.end(), [](const ByteRange& a, const ByteRange& b) { return a.first < b.first; });
  std::vector<ByteRange> out;
  for (const ByteRange& r : ranges) {
    if (r.end <= r.first) continue;
    if (!out.empty() && r.first <= out.back().end)
      out.back().end = std::max(out.back().end, r.end);
    else
      out.push_back(r);
  }
  return out;
}

std::uint64_t dol_bytes(ByteView header) {
  constexpr std::size_t kSizesAt = 0x90;
  std::uint64_t end = kDolHead;
  for (std::size_t i = 0; i < kSections; ++i)
    if (const std::uint64_t size = load_be32(header, kSizesAt + 4 * i); size > 0)
      end = std::max(end, load_be32(header, 4 * i) + size);
  return end;
}

std::optional<ConsoleVolume> read_console_volume(SourcePtr disc, ConsolePlace place) {
  return Reader(std::move(disc), place).read();
}

std::optional<Volume> read_gamecube(SourcePtr disc) {
  auto console = read_console_volume(std::move(disc));
  return console ? std::optional(std::move(console->volume)) : std::nullopt;
}

}  // namespace opifex
