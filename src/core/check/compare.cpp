#include "opifex/core/check/compare.hpp"

#include <algorithm>
#include <bit>
#include <map>
#include <mutex>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/convert/extract.hpp"
#include "opifex/core/formats/rom/rom.hpp"
#include "opifex/core/volumes/kept_facts.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

/// A file of one side; a null source: it cannot be read.
struct Side {
  std::string path;
  std::uint64_t size_bytes = 0;
  SourcePtr source = {};
  fs::path host = {};
  SourcePtr open() const { return source || host.empty() ? source : open_file(host); }
};
using Files = std::map<std::string, Side>;  // by folded path

/// Whose files have rules of their own for names: floppies and memory cards.
bool is_small(const Image& image) {
  const auto* blocks = std::get_if<BlockContent>(&image.content);
  return blocks && !blocks->is_disc();
}

/// Of a floppy or a card: names that differ at all are different ones there.
Files small_files_of(const Image& image) {
  Files files;
  std::size_t number = 0;
  for (const Volume& v : read_volumes(image)) {
    const std::string card = number++ == 0 ? "" : fmt::format("volume-{}/", number);
    for (const VolumeEntry& e : v.entries)
      if (e.kind == EntryKind::file)
        files.try_emplace(card + e.path, Side{card + e.path, e.size_bytes, e.sound ? v.open(e) : nullptr, {}});
  }
  return files;
}

Files files_of(const Image& image) {
  if (is_small(image)) return small_files_of(image);
  Files files;
  for (const Volume& v : read_volumes(image))
    for (const VolumeEntry& e : v.entries)
      if (e.kind == EntryKind::file)
        files.try_emplace(fold_case(e.path), Side{e.path, e.size_bytes, e.sound ? v.open(e) : nullptr, {}});
  return files;
}

/// As extract writes them.
Files extracted_files_of(const Image& image) {
  if (!is_small(image)) return files_of(image);
  Files files;
  const std::vector<Volume> volumes = read_volumes(image);
  const ExtractPlan plan = plan_extract(image, volumes, {.paths = {}, .into = "/", .even_damaged = true}, {});
  for (const ExtractItem& item : plan.items) {
    if (item.is_folder()) continue;
    const std::string path = item.target.substr(1);
    files.try_emplace(fold_case(path), Side{path, item.size_bytes, item.entry->sound ? plan.open(item) : nullptr, {}});
  }
  return files;
}

Files files_of(const fs::path& folder) {
  Files files;
  for (const auto& entry : fs::recursive_directory_iterator(folder)) {
    if (!entry.is_regular_file() || entry.is_symlink()) continue;
    const std::string path = fs::relative(entry.path(), folder).generic_string();
    if (path == kKeptFactsName) continue;  // it tells of the files, and is none
    files.try_emplace(fold_case(path), Side{path, entry.file_size(), nullptr, entry.path()});
  }
  return files;
}

/// Of two files of one size that fit into memory.
std::uint64_t count_differences(const ByteSource& a, const ByteSource& b) {
  const auto n = static_cast<std::size_t>(a.size());
  const Bytes x = read_up_to(a, 0, n), y = read_up_to(b, 0, n);
  std::uint64_t count = 0;
  for (std::size_t i = 0; i < n; ++i) count += x[i] != y[i] ? 1U : 0U;
  return count;
}
std::uint64_t count_ranges(const ByteSource& a, const ByteSource& b) {
  const auto n = static_cast<std::size_t>(a.size());
  const Bytes x = read_up_to(a, 0, n), y = read_up_to(b, 0, n);
  std::uint64_t count = 0;
  for (std::size_t i = 0; i < n; ++i) count += x[i] != y[i] && (i == 0 || x[i - 1] == y[i - 1]) ? 1U : 0U;
  return count;
}

void compare_one(const Side& here, const Side& there, Comparison& result, JobContext& context) {
  const auto differs = [&](std::string detail) {
    result.differences.push_back({Difference::Kind::different, here.path, std::move(detail)});
  };
  if (here.size_bytes != there.size_bytes)
    return differs(fmt::format("{} bytes here, {} there", grouped(here.size_bytes), grouped(there.size_bytes)));
  const SourcePtr a = here.open(), b = there.open();
  if (!a || !b) return differs(a ? "it cannot be read there" : "it cannot be read here");
  if (const auto at = first_difference(*a, *b, context.progress)) {
    constexpr std::uint64_t kCounted = 1 << 20;
    if (here.size_bytes > kCounted) return differs(fmt::format("from byte {} on", grouped(*at)));
    return differs(fmt::format("{} in {}, from byte {} on", plural(count_differences(*a, *b), "byte"),
                               plural(count_ranges(*a, *b), "range"), grouped(*at)));
  }
  context.progress.done_bytes += here.size_bytes;
  ++result.same_files;
}

void compare_files(const Files& here, const Files& there, Comparison& result, JobContext& context) {
  std::uint64_t total = 0;
  for (const auto& [key, side] : here) total += side.size_bytes;
  context.progress.begin("comparing files", total);
  for (const auto& [key, side] : there)
    if (!here.contains(key)) result.differences.push_back({Difference::Kind::missing, side.path, "only there"});
  for (const auto& [key, side] : here) {
    const auto other = there.find(key);
    if (other == there.end())
      result.differences.push_back({Difference::Kind::extra, side.path, "only here"});
    else
      compare_one(side, other->second, result, context);
  }
}

bool same_tracks(const cd::Layout& a, const cd::Layout& b) {
  return std::ranges::equal(a.tracks, b.tracks, [](const cd::Track& x, const cd::Track& y) {
    return x.start_lba == y.start_lba && x.end_lba == y.end_lba && x.mode.is_audio() == y.mode.is_audio();
  });
}

/// A run of sectors to read from both.
struct SectorRange {
  cd::Lba first = 0;
  std::uint32_t count = 0;
};

std::vector<SectorRange> ranges_of(const Image& a, const Image& b, bool user) {
  std::vector<SectorRange> ranges;
  const auto add = [&](std::int64_t from, std::int64_t to) {
    constexpr std::int64_t kBatch = static_cast<std::int64_t>(kFlowBlockBytes / cd::kRawBytes);
    for (std::int64_t at = from; at < to; at += kBatch)
      ranges.push_back({static_cast<cd::Lba>(at), static_cast<std::uint32_t>(std::min(kBatch, to - at))});
  };
  if (user) {
    add(0, static_cast<std::int64_t>(a.user_data()->size() / cd::kUserBytes));
    return ranges;
  }
  const cd::Lba first = std::max(a.cd()->extents().front().lba, b.cd()->extents().front().lba);
  for (const cd::Track& t : a.cd()->layout().tracks) add(std::max(first, t.pregap_lba), t.end_lba);
  return ranges;
}

/// The first sector whose subchannel `a` has and `b` has not, or another one, unless it tells nothing new.
std::optional<cd::Lba> other_subchannel(const Image& a, const Image& b, JobContext& context) {
  for (const Extent& e : a.cd()->extents())
    for (cd::Lba lba = e.lba; lba < e.end() && e.form == StoredForm::raw_with_pw; ++lba) {
      context.progress.check_stop();
      const auto here = a.cd()->subchannel_at(lba), there = b.cd()->subchannel_at(lba);
      if (there && (!here || *here == *there)) continue;
      if (there) return lba;
      return a.cd()->subchannel_is_regenerable() ? std::nullopt : std::optional(lba);
    }
  return std::nullopt;
}

/// What a disc says beside its sectors.
void compare_marks(const Image& a, const Image& b, Comparison& result, JobContext& context) {
  const cd::Layout &x = a.cd()->layout(), &y = b.cd()->layout();
  const auto differs = [&](bool other, std::string what) {
    if (other) result.other_marks.push_back(std::move(what));
  };
  differs(x.catalogue != y.catalogue, "the catalogue number");
  differs(x.texts != y.texts || x.cd_text_file != y.cd_text_file, "the texts of the disc");
  differs(x.sessions.size() != y.sessions.size(), "the sessions");
  for (std::size_t i = 0; i < x.tracks.size(); ++i) {
    const cd::Track &s = x.tracks[i], &t = y.tracks[i];
    const auto of = [&](const char* what) { return fmt::format("{} of track {}", what, s.number); };
    std::map<int, cd::Lba> here = s.indexes, there = t.indexes;
    here.erase(0);  // the pregap is compared by its start
    there.erase(0);
    differs(here != there || (i > 0 && s.pregap_lba != t.pregap_lba), of("the indexes"));
    differs(s.control() != t.control(), of("the flags"));
    differs(s.isrc != t.isrc, of("the ISRC"));
    differs(s.texts != t.texts, of("the texts"));
    differs(s.session != t.session, of("the session"));
  }
  auto lba = other_subchannel(a, b, context);
  if (!lba) lba = other_subchannel(b, a, context);
  if (lba) differs(true, fmt::format("the subchannel, from sector {} on", *lba));
}

/// What a file has behind the last sector that is used: no sector, but part of what somebody kept.
SourcePtr rest_of(const Image& image) {
  SourcePtr file;
  std::uint64_t end = 0;
  if (image.container || image.files.empty()) return memory_source({}, image.path.string());
  if (image.cd() && !image.cd()->extents().empty()) {
    const Extent& last = image.cd()->extents().back();
    file = last.source;
    end = last.offset + last.size_bytes();
  } else if (image.blocks()) {
    file = image.files.front().source;
    end = std::min(image.blocks()->size(), file->size());
    if (file->size() - end >= cd::kUserBytes) file = nullptr;  // the disc is somewhere within: no rest
  }
  if (!file) return memory_source({}, image.path.string());
  return slice_source(file, end, file->size() - end);
}

void compare_rest(const Image& a, const Image& b, Comparison& result, JobContext& context) {
  const SourcePtr here = rest_of(a), there = rest_of(b);
  if (here->size() != there->size())
    result.other_marks.push_back(fmt::format("what lies behind the last sector: {} here, {} there",
                                             plural(here->size(), "byte"), plural(there->size(), "byte")));
  else if (first_difference(*here, *there, context.progress))
    result.other_marks.push_back("the bytes behind the last sector");
}

/// True if there was something to compare.
void compare_sectors(const Image& a, const Image& b, Comparison& result, JobContext& context) {
  const auto is_disc = [](const Image& i) { return i.cd() || i.blocks(); };
  if (!is_disc(a) || !is_disc(b)) {
    result.remarks.emplace_back("a package has no sectors: its files are compared");
    return;
  }
  const bool user = a.blocks() || b.blocks();
  if (user ? !a.user_data() || !b.user_data() || a.user_data()->size() != b.user_data()->size()
           : !same_tracks(a.cd()->layout(), b.cd()->layout())) {
    const auto music = [](const Image& i) { return i.cd() && !i.blocks() && i.cd()->layout().audio_track_count() > 0; };
    result.other_music = !user && (music(a) || music(b));
    result.remarks.push_back(user ? "the data of the two has not the same length" : "the two have not the same tracks");
    return;
  }
  if (user) result.remarks.push_back("one side holds only the 2048 data bytes of each sector: these were compared");
  const std::vector<SectorRange> ranges = ranges_of(a, b, user);
  const std::size_t each = user ? cd::kUserBytes : cd::kRawBytes;
  const SourcePtr x = user ? a.user_data() : nullptr, y = user ? b.user_data() : nullptr;
  std::uint64_t total = 0;
  for (const SectorRange& r : ranges) total += r.count * each;
  context.progress.begin("comparing sectors", total);
  std::mutex mutex;
  Flow flow;
  flow.next = [&](FlowBlock& block) {
    if (block.index >= ranges.size()) return false;
    block.data.resize(ranges[block.index].count * each);
    return true;
  };
  flow.work = [&](FlowBlock& block) {
    const SectorRange& r = ranges[block.index];
    const std::uint64_t at_byte = static_cast<std::uint64_t>(r.first) * each, end_byte = at_byte + block.data.size();
    if (user && x->next_data(at_byte) >= end_byte && y->next_data(at_byte) >= end_byte) return;  // holes on both sides
    Bytes other(block.data.size());
    if (user) {
      x->read_at(static_cast<std::uint64_t>(r.first) * each, block.data);
      y->read_at(static_cast<std::uint64_t>(r.first) * each, other);
    } else {
      a.cd()->read(SectorForm::raw, r.first, r.count, block.data);
      b.cd()->read(SectorForm::raw, r.first, r.count, other);
    }
    for (std::uint32_t i = 0; i < r.count && block.data != other; ++i) {
      const auto at = static_cast<std::ptrdiff_t>(i * each), end = static_cast<std::ptrdiff_t>((i + 1) * each);
      if (std::equal(block.data.begin() + at, block.data.begin() + end, other.begin() + at)) continue;
      const cd::Lba lba = r.first + static_cast<cd::Lba>(i);
      const std::lock_guard lock(mutex);
      ++result.other_sectors;
      const cd::Track* track = user ? nullptr : a.cd()->layout().track_at(lba);
      result.other_music = result.other_music || (track && track->mode.is_audio());
      result.first_other_sector = std::min(result.first_other_sector.value_or(lba), lba);
    }
  };
  flow.consume.emplace_back([&](const FlowBlock& block) { context.progress.done_bytes += block.data.size(); });
  run_flow(flow, context);
  result.same_sectors = result.other_sectors == 0;
  if (!*result.same_sectors) return;
  compare_rest(a, b, result, context);
  if (!user) compare_marks(a, b, result, context);
  result.compared =
      user ? "2048 bytes of user data" : "2352 bytes, with gaps, indexes, flags, codes, texts and subchannel";
}

void refuse_nothing(const Image& here, const Comparison& result, const Files& files) {
  if (!files.empty() || (result.same_sectors && *result.same_sectors)) return;
  if (result.same_sectors && !result.differences.empty()) return;
  throw Error({.code = "no_file_system",
               .what = "there are no files in this image to compare",
               .file = here.path.string(),
               .hint = result.remarks.empty() ? "" : result.remarks.front()});
}

}  // namespace

std::string_view to_string(Difference::Kind kind) {
  return kind == Difference::Kind::missing ? "missing" : kind == Difference::Kind::extra ? "extra" : "different";
}

bool Comparison::same() const {
  if (same_rom) return *same_rom;
  if (same_sectors && *same_sectors) return other_marks.empty();
  return differences.empty() && same_files > 0 && !other_music && other_marks.empty();
}

namespace {

std::string bits_text(const char* line, std::uint32_t mask) {
  std::string text;
  for (unsigned bit = 0; bit < 16; ++bit)
    if ((mask >> bit & 1) != 0) text += fmt::format("{}{}{}", text.empty() ? "" : ", ", line, bit);
  return text;
}

void compare_roms(const RomContent& here, const RomContent& other, Comparison& result) {
  const auto read = [](const RomContent& content) {
    return rom::read_rom(*content.bytes, rom::container_of(*content.bytes, rom::find_machine(content.system)));
  };
  const std::vector<Bytes> reads = {read(here), read(other)};
  result.same_rom = reads[0] == reads[1];
  if (*result.same_rom) {
    result.compared =
        fmt::format("the {} bytes of the ROM, without what may stand around it", grouped(reads[0].size()));
    return;
  }
  if (reads[0].size() != reads[1].size()) {
    result.other_marks.push_back(
        fmt::format("the length: {} bytes here, {} there", grouped(reads[0].size()), grouped(reads[1].size())));
    return;
  }
  const rom::Repeats found = rom::compare_reads(rom::find_machine(here.system), reads);
  result.rom_differences = RomDifferences{found.differing_bytes, found.bit_mask, found.first_offsets,
                                          found.address_bits_1, found.address_bits_0};
  result.other_marks.push_back(
      fmt::format("{}, the first at {:#x}", plural(found.differing_bytes, "byte"), found.first_offsets.front()));
  constexpr std::uint64_t kEnough = 8;  // fewer have something in common by chance
  if (found.differing_bytes < kEnough) return;
  if (std::has_single_bit(found.bit_mask))
    result.other_marks.push_back(
        fmt::format("only in {}: the contact of that data line flickers", bits_text("D", found.bit_mask)));
  for (const unsigned bit : found.address_bits_1)
    result.other_marks.push_back(
        fmt::format("only where bit {} of the address is 1: the contact of that address line may flicker", bit));
}

}  // namespace

namespace {

/// Of two floppies or two cards, beside their files: every byte, and what a machine runs.
void compare_small(const Image& here, const Image& other, Comparison& result) {
  const auto& a = std::get<BlockContent>(here.content);
  const auto& b = std::get<BlockContent>(other.content);
  constexpr std::size_t kMost = 4 << 20, kBoot = 1024;
  const Bytes x = read_up_to(*a.bytes, 0, kMost), y = read_up_to(*b.bytes, 0, kMost);
  result.same_sectors = x == y;
  if (*result.same_sectors) {
    result.compared = fmt::format("{} bytes", grouped(x.size()));
    return;
  }
  const bool floppies = a.medium == BlockMedium::floppy && b.medium == BlockMedium::floppy;
  if (floppies && (x.size() < kBoot || y.size() < kBoot || !std::equal(x.begin(), x.begin() + kBoot, y.begin())))
    result.other_marks.emplace_back("the boot block");
  result.remarks.emplace_back("other bytes: the files are compared; dates, comments and free blocks may differ");
}

}  // namespace

Comparison compare_images(const Image& here, const Image& other, JobContext& context) {
  Comparison result;
  if (is_small(here) && is_small(other)) {
    compare_small(here, other, result);
    if (*result.same_sectors) return result;
    const Files files = files_of(here);
    compare_files(files, files_of(other), result, context);
    refuse_nothing(here, result, files);
    return result;
  }
  const auto *a = std::get_if<RomContent>(&here.content), *b = std::get_if<RomContent>(&other.content);
  if (a && b) {
    compare_roms(*a, *b, result);
    return result;
  }
  compare_sectors(here, other, result, context);
  if (result.same_sectors && *result.same_sectors) return result;
  const Files files = files_of(here);
  compare_files(files, files_of(other), result, context);
  refuse_nothing(here, result, files);
  return result;
}

Comparison compare_with_folder(const Image& here, const fs::path& folder, JobContext& context) {
  Comparison result;
  const Files files = extracted_files_of(here);
  compare_files(files, files_of(folder), result, context);
  refuse_nothing(here, result, files);
  return result;
}

}  // namespace opifex
