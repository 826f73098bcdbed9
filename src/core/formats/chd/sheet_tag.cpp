#include "sheet_tag.hpp"

#include <algorithm>
#include <charconv>

#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/cue/build.hpp"
#include "opifex/core/image/format.hpp"

#include "decoder.hpp"

namespace opifex::chd {
namespace {

constexpr std::string_view kFirstLine = "OPIFEX-SHEET 1";
constexpr std::size_t kSha1Digits = 40, kMostFiles = 99;
constexpr std::size_t kSubcodeSector = 2448;  // of a CD+G track's file

bool plain_name(std::string_view name) {
  return !name.empty() && name != "." && name != ".." && name.find('/') == std::string_view::npos &&
         name.find('\\') == std::string_view::npos && is_utf8(name);
}

std::string without_cr(std::string_view text) {
  std::string out(text);
  std::erase(out, '\r');
  return out;
}

/// "FILE <bytes> <sha1> <name>"
std::optional<SheetTag::File> parse_file(std::string_view line) {
  constexpr std::string_view kWord = "FILE ";
  if (!line.starts_with(kWord)) return std::nullopt;
  line.remove_prefix(kWord.size());
  SheetTag::File file;
  const auto [end, error] = std::from_chars(line.data(), line.data() + line.size(), file.size_bytes);
  line.remove_prefix(static_cast<std::size_t>(end - line.data()));
  if (error != std::errc() || line.size() < kSha1Digits + 3 || line[0] != ' ' || line[kSha1Digits + 1] != ' ')
    return std::nullopt;
  file.sha1 = line.substr(1, kSha1Digits);
  file.name = line.substr(kSha1Digits + 2);
  return plain_name(file.name) ? std::optional(file) : std::nullopt;
}

}  // namespace

SheetTag make_sheet_tag(const Image& image) {
  const auto& extents = image.cd()->extents();
  const std::size_t size = stored_bytes(extents.front().form);
  const bool alike =
      std::all_of(extents.begin(), extents.end(), [&](const Extent& e) { return stored_bytes(e.form) == size; });
  // The name is the same for every disc: the bytes of a CHD depend on the disc alone.
  const WritePlan plan = sheet_format(alike ? Stored::sectors : Stored::tracks).plan_write(image, "disc.cue", {});
  SheetTag tag;
  for (const PlannedOutput& o : plan.outputs) {
    if (const auto* text = std::get_if<Bytes>(&o.pieces.front()))
      tag.sheet = without_cr(as_text(*text));
    else
      tag.files.push_back({o.path.filename().string(), std::string(kSha1Digits, '0'), o.size_bytes});
  }
  return tag;
}

Bytes print_sheet_tag(const SheetTag& tag) {
  std::string text = fmt::format("{}\n", kFirstLine);
  for (const SheetTag::File& f : tag.files) text += fmt::format("FILE {} {} {}\n", f.size_bytes, f.sha1, f.name);
  return to_bytes(text + "\n" + tag.sheet);
}

std::optional<SheetTag> parse_sheet_tag(ByteView data) {
  std::string_view text = as_text(data);
  if (text.size() > cue::kMaxSheetBytes) return std::nullopt;
  const auto next_line = [&]() -> std::optional<std::string_view> {
    const std::size_t end = text.find('\n');
    if (end == std::string_view::npos) return std::nullopt;
    const std::string_view line = text.substr(0, end);
    text.remove_prefix(end + 1);
    return line;
  };
  if (next_line() != kFirstLine) return std::nullopt;
  SheetTag tag;
  for (;;) {
    const auto line = next_line();
    if (!line) return std::nullopt;
    if (line->empty()) break;
    const auto file = parse_file(*line);
    if (!file || tag.files.size() == kMostFiles) return std::nullopt;
    tag.files.push_back(*file);
  }
  tag.sheet = text;
  return tag.files.empty() ? std::nullopt : std::optional(tag);
}

SheetHasher::SheetHasher(const SheetTag& tag, std::vector<FrameRun> runs) : runs_(std::move(runs)) {
  for (const SheetTag::File& f : tag.files) left_.push_back(f.size_bytes);
}

void SheetHasher::add(ByteView bytes) {
  while (!bytes.empty()) {
    if (sums_.size() == left_.size()) {
      too_many_ = true;
      return;
    }
    std::uint64_t& left = left_[sums_.size()];
    const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(left, bytes.size()));
    digest_.update(bytes.first(n));
    bytes = bytes.subspan(n);
    left -= n;
    if (left > 0) continue;
    sums_.push_back(digest_.finish());
    digest_ = Digest("sha1");
  }
}

void SheetHasher::update(std::uint64_t first, ByteView frames) {
  const std::uint64_t end = first + frames.size() / kFrameBytes;
  Bytes sectors;
  for (const FrameRun& run : runs_) {
    const std::uint64_t from = std::max(first, run.first_frame), to = std::min(end, run.first_frame + run.frames);
    const std::size_t each = run.sector_bytes + (run.subcode ? kFrameSubcode : 0);
    sectors.clear();
    for (std::uint64_t f = from; f < to; ++f) {
      const ByteView frame = frames.subspan(static_cast<std::size_t>(f - first) * kFrameBytes, each);
      sectors.insert(sectors.end(), frame.begin(), frame.end());
      if (run.swapped) cd::swap_words(std::span(sectors).last(each).first(run.sector_bytes));
    }
    add(sectors);
  }
}

std::vector<std::string> SheetHasher::finish() {
  return too_many_ || sums_.size() != left_.size() ? std::vector<std::string>{} : sums_;
}

std::optional<SheetLayout> layout_by_sheet(const SheetTag& tag, const Contents& contents,
                                           const std::function<SourcePtr(std::size_t, bool)>& bytes_of) {
  try {
    const auto encodings = cue::candidate_encodings(tag.sheet, kSheetTag);
    const cue::Sheet sheet = cue::parse(tag.sheet, encodings.front(), kSheetTag);
    const auto& tracks = contents.tracks;
    if (sheet.tracks.size() != tracks.size() || sheet.files.size() != tag.files.size()) return std::nullopt;
    std::vector<SourcePtr> sectors;
    for (std::size_t i = 0; i < tracks.size(); ++i)
      sectors.push_back(bytes_of(i, sheet.tracks[i].mode.sector_bytes == kSubcodeSector));
    const SourcePtr all = concat_source(std::move(sectors), kSheetTag);
    std::vector<cue::TrackFile> files;
    std::uint64_t at = 0;
    for (const SheetTag::File& f : tag.files) {
      files.push_back({slice_source(all, at, f.size_bytes), false});
      at += f.size_bytes;
    }
    if (at != all->size()) return std::nullopt;
    std::vector<Warning> ignored;
    const CdImagePtr disc = cue::build_disc(sheet, files, kSheetTag, ignored);
    SheetLayout result{disc->layout(), {}};
    cd::Lba reached = 0;  // where the track before ends, with the place it carries the address on by
    for (std::size_t i = 0; i < tracks.size(); ++i) {
      const cd::Track& track = result.layout.tracks[i];
      std::optional<cd::Lba> first, end;
      for (const Extent& e : disc->extents()) {
        if (e.track != track.number) continue;
        if (!first) first = e.lba;
        if (end && *end != e.lba) return std::nullopt;  // torn in two
        end = e.end();
      }
      const std::int64_t frames = tracks[i].frames - tracks[i].pad;
      const std::int64_t gap = tracks[i].pregap_stored ? tracks[i].pregap : 0;
      const bool same = first && *end - *first == frames && track.start_lba - *first == gap &&
                        track.mode.is_audio() == tracks[i].mode.is_audio();
      if (!same || (i > 0 && *first < reached)) return std::nullopt;
      reached = *end + static_cast<cd::Lba>(tracks[i].pad);
      result.first_lba.push_back(*first);
    }
    return result;
  } catch (const Error& e) {
    if (e.details.fault != Fault::refused) throw;  // a device that failed says nothing of the sheet
    return std::nullopt;                           // not a sheet of these tracks: the list alone is enough
  }
}

}  // namespace opifex::chd
