// The track list of a GD-ROM dump: one file a track, each at its address.
#include "opifex/core/image/format.hpp"

#include <algorithm>
#include <charconv>

#include "opifex/core/base/text.hpp"

namespace opifex {

extern const Format kGdiFormat;

namespace {

namespace fs = std::filesystem;
using cd::Lba;

constexpr std::array<std::string_view, 1> kExtensions = {".gdi"};
constexpr std::size_t kMostBytes = 64 << 10, kMostTracks = 99;
constexpr Lba kLongestPregap = 300;

struct Line {
  std::uint32_t line = 0;  // of the file, from 1
  int number = 0;
  Lba lba = 0;
  bool audio = false;
  std::size_t sector_bytes = 0;
  std::string file;
  std::uint64_t offset = 0;
};

struct List {
  std::size_t told = 0;
  std::vector<Line> tracks;
};

template <typename T>
std::optional<T> number(std::string_view word) {
  T value{};
  const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), value);
  return error == std::errc{} && end == word.data() + word.size() ? std::optional(value) : std::nullopt;
}

/// Words apart by blanks; one in double quotes may hold some. Nothing if a quote stays open.
std::optional<std::vector<std::string>> words_of(std::string_view line) {
  std::vector<std::string> words;
  for (std::size_t at = 0; at < line.size();) {
    if (line[at] == ' ' || line[at] == '\t') {
      ++at;
      continue;
    }
    const bool quoted = line[at] == '"';
    const std::size_t start = at + (quoted ? 1 : 0);
    const std::size_t end = quoted ? line.find('"', start) : std::min(line.find_first_of(" \t", start), line.size());
    if (end == std::string_view::npos) return std::nullopt;
    words.emplace_back(line.substr(start, end - start));
    at = end + (quoted ? 1 : 0);
  }
  return words;
}

std::optional<Line> parse_line(std::string_view text) {
  const auto words = words_of(text);
  constexpr std::size_t kFields = 6;
  if (!words || words->size() != kFields) return std::nullopt;
  const auto n = number<int>((*words)[0]);
  const auto lba = number<Lba>((*words)[1]);
  const auto type = number<int>((*words)[2]);
  const auto bytes = number<std::size_t>((*words)[3]);
  const auto offset = number<std::uint64_t>((*words)[5]);
  constexpr int kData = 4;
  const bool sizes = bytes && (*bytes == cd::kRawBytes || *bytes == cd::kUserBytes);
  if (!n || !lba || !type || !sizes || !offset || (*type != 0 && *type != kData) || *lba < 0 ||
      *lba > cd::kMaxGdRomSectors || (*words)[4].empty() || (*type == 0 && *bytes != cd::kRawBytes))
    return std::nullopt;
  return Line{0, *n, *lba, *type == 0, *bytes, (*words)[4], *offset};
}

/// Nothing if the text is no track list at all; `bad_line` is the first line that cannot be read.
std::optional<List> parse(std::string_view text, std::optional<std::uint32_t>& bad_line) {
  List list;
  std::uint32_t line = 0;
  bool counted = false;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find('\n'), text.size());
    const std::string_view words = trim(text.substr(0, end));
    text.remove_prefix(std::min(end + 1, text.size()));
    ++line;
    if (words.empty()) continue;
    if (!counted) {
      const auto count = number<std::size_t>(words);
      if (!count || *count == 0 || *count > kMostTracks) return std::nullopt;
      list.told = *count;
      counted = true;
      continue;
    }
    auto track = parse_line(words);
    if (!track) {
      if (!bad_line) bad_line = line;
      continue;
    }
    track->line = line;
    list.tracks.push_back(std::move(*track));
  }
  return counted && !list.tracks.empty() ? std::optional(std::move(list)) : std::nullopt;
}

int probe(const ByteSource& source, std::string_view file_name) {
  if (source.size() == 0 || source.size() > kMostBytes) return 0;
  const Bytes bytes = read_up_to(source, 0, kMostBytes);
  std::optional<std::uint32_t> bad;
  if (parse(as_text(bytes), bad) && !bad) return 40;
  return file_name.ends_with(".gdi") ? 1 : 0;
}

[[noreturn]] void refuse(const fs::path& path, const char* code, std::string what, std::uint32_t line,
                         std::string found, std::string expected) {
  throw Error({.code = code,
               .what = std::move(what),
               .file = path.string(),
               .line = line,
               .found = std::move(found),
               .expected = std::move(expected)});
}

List read(const fs::path& path, const FileSpace& files) {
  const Bytes bytes = read_up_to(*files.open(path), 0, kMostBytes);
  std::optional<std::uint32_t> bad;
  auto list = parse(as_text(bytes), bad);
  const auto cut = [](std::string_view text) {
    return printable(trim(text.substr(0, std::min<std::size_t>(40, text.find('\n')))));
  };
  if (bad)
    refuse(path, "gdi_line", "a line of the track list cannot be read", *bad, "something else",
           "number, LBA, type, sector size, file, offset");
  if (!list) refuse(path, "gdi_header", "this is no track list", 1, cut(as_text(bytes)), "the number of tracks");
  if (list->told != list->tracks.size())
    refuse(path, "gdi_header", "the list has another number of tracks than it says", 1,
           fmt::format("{} tracks", list->tracks.size()), fmt::format("{}", list->told));
  return std::move(*list);
}

/// Exact, else without case; empty if it is missing.
fs::path find_beside(const fs::path& list, const std::string& name, const FileSpace& files) {
  const fs::path exact = list.parent_path() / name;
  if (files.is_file(exact)) return exact;
  for (const fs::path& entry : files.entries(list.parent_path()))
    if (fold_case(entry.filename().string()) == fold_case(name) && files.is_file(entry)) return entry;
  return {};
}

class Builder {
 public:
  Builder(const fs::path& path, const OpenOptions& options) : path_(path), options_(options) {
    image_.format = &kGdiFormat;
    image_.path = path;
  }

  Image build() {
    const List list = read(path_, options_.space());
    cd::Layout layout;
    std::vector<Extent> extents;
    for (std::size_t i = 0; i < list.tracks.size(); ++i) {
      const Line& line = list.tracks[i];
      const Lba after = i == 0 ? 0 : layout.tracks.back().end_lba;
      if (line.number != static_cast<int>(i) + 1 || line.lba < after)
        fail("gdi_order", "a track of the list is out of order", line.line,
             fmt::format("track {} at {}", line.number, line.lba), fmt::format("track {} from {}", i + 1, after));
      layout.tracks.push_back(add(line, after, extents));
    }
    const bool high = layout.tracks.size() > 2 && layout.tracks[2].start_lba == cd::kHighDensityStart;
    for (std::size_t i = 0; high && i < layout.tracks.size(); ++i)
      layout.tracks[i].area = i < 2 ? cd::Area::single_density : cd::Area::high_density;
    if (!high) image_.warnings.push_back({"gd_rom_without_area", "track 3 of this GD-ROM does not begin at 45000"});
    layout.lead_out = layout.tracks.back().end_lba;
    layout.sessions.push_back(
        {.number = 1, .first_track = 1, .last_track = layout.tracks.back().number, .lead_out = layout.lead_out});
    image_.content = CdContent{std::make_shared<CdImage>(std::move(layout), std::move(extents))};
    return std::move(image_);
  }

 private:
  cd::Track add(const Line& line, Lba after, std::vector<Extent>& extents) {
    cd::Track track;
    track.number = line.number;
    track.start_lba = track.pregap_lba = line.lba;
    const Lba gap = line.lba - after;
    if (line.number > 1 && gap > 0 && gap <= kLongestPregap) {
      track.pregap_lba = after;
      track.pregap_unstored = static_cast<std::uint32_t>(gap);
    }
    track.indexes[1] = line.lba;
    const SourcePtr source = open_file_of(line);
    const std::uint64_t there = source && source->size() > line.offset ? source->size() - line.offset : 0;
    const std::uint64_t sectors = there / line.sector_bytes;
    track.incomplete = !source;
    if (source && sectors > static_cast<std::uint64_t>(cd::kMaxGdRomSectors - line.lba))
      fail("track_too_long", "a track reaches behind the end of the disc", line.line,
           fmt::format("{} sectors from LBA {} in {}", sectors, line.lba, printable(line.file)),
           fmt::format("an end at LBA {} at most", cd::kMaxGdRomSectors));
    if (source && (there % line.sector_bytes != 0 || sectors == 0))
      fail("partial_sector", "the file of a track is no whole number of sectors", line.line,
           fmt::format("{} bytes in {}", there, printable(line.file)),
           fmt::format("a multiple of {}", line.sector_bytes));
    track.end_lba = line.lba + static_cast<Lba>(sectors);
    track.mode = mode_of(line, source);
    if (source)
      extents.push_back({.track = line.number,
                         .lba = line.lba,
                         .sectors = static_cast<std::uint32_t>(sectors),
                         .form = line.sector_bytes == cd::kRawBytes ? StoredForm::raw : StoredForm::mode1_user,
                         .source = source,
                         .file = image_.files.size() - 1,
                         .offset = line.offset});
    return track;
  }

  SourcePtr open_file_of(const Line& line) {
    if (line.file.find_first_of("/\\") != std::string::npos || line.file == "..")
      fail("gdi_line", "a track's file is in another folder", line.line, printable(line.file),
           "a file beside the list");
    const fs::path path = find_beside(path_, line.file, options_.space());
    if (path.empty()) {
      if (!options_.allow_missing)
        fail("missing_file", fmt::format("the file of track {} is missing", line.number), line.line,
             "no " + printable(line.file), "it beside the list");
      image_.complete = false;
      image_.warnings.push_back({"missing_file", printable(line.file) + " is missing", {}, Cause::incomplete});
      image_.files.push_back({line.file, "gdi", 0, true});
      return nullptr;
    }
    const SourcePtr source = options_.space().open(path);
    image_.files.push_back({path, "gdi", source->size(), false, source});
    return source;
  }

  static cd::TrackMode mode_of(const Line& line, const SourcePtr& source) {
    constexpr std::size_t kModeAt = 15;
    cd::TrackMode mode;
    mode.kind = line.audio ? cd::TrackMode::Kind::audio : cd::TrackMode::Kind::mode1;
    mode.sector_bytes = static_cast<std::uint16_t>(line.sector_bytes);
    if (line.audio || line.sector_bytes != cd::kRawBytes || !source) return mode;
    const Bytes head = read_up_to(*source, line.offset, kModeAt + 1);
    if (head.size() > kModeAt && head[kModeAt] == std::byte{2}) mode.kind = cd::TrackMode::Kind::mode2;
    return mode;
  }

  [[noreturn]] void fail(const char* code, std::string what, std::uint32_t line, std::string found,
                         std::string expected) const {
    refuse(path_, code, std::move(what), line, std::move(found), std::move(expected));
  }

  const fs::path& path_;
  const OpenOptions& options_;
  Image image_;
};

Image open(const fs::path& path, const OpenOptions& options) { return Builder(path, options).build(); }

/// The list with `names` in place of its files; fields and line ends stay.
std::string with_names(std::string_view text, const List& list, const std::vector<std::string>& names) {
  std::string out;
  std::uint32_t line = 0;
  for (std::size_t at = 0, track = 0; at < text.size();) {
    const std::size_t next = std::min(text.find('\n', at), text.size() - 1) + 1;
    const std::string_view whole = text.substr(at, next - at), old = trim(whole);
    ++line;
    if (track < list.tracks.size() && list.tracks[track].line == line) {
      const auto words = *words_of(old);
      const std::string& name = names[track++];
      out += fmt::format("{} {} {} {} {} {}", words[0], words[1], words[2], words[3],
                         name.find_first_of(" \t") == std::string::npos ? name : '"' + name + '"', words[5]);
      out += whole.substr(std::min(whole.find_last_not_of("\r\n") + 1, whole.size()));
    } else {
      out += whole;
    }
    at = next;
  }
  return out;
}

SheetText read_sheet(const fs::path& path) {
  const List list = read(path, *host_files());
  SheetText sheet;
  for (const Line& line : list.tracks) {
    const fs::path found = find_beside(path, fs::path(line.file).filename().string(), *host_files());
    sheet.files.push_back({found.empty() ? std::nullopt : std::optional(found), line.line, line.file});
  }
  const std::string text(as_text(read_up_to(*open_file(path), 0, kMostBytes)));
  sheet.with_names = [text, list](const std::vector<std::string>& names) { return with_names(text, list, names); };
  return sheet;
}

}  // namespace

extern const Format kGdiFormat = {
    .id = "gdi",
    .title = "GD-ROM track list, a file for each track",
    .extensions = kExtensions,
    .probe = &probe,
    .open = &open,
    .holds =
        {.audio = true, .track_list = true, .form2 = true, .raw_headers = true, .areas = true, .unstored_gaps = true},
    .plan_write = nullptr,
    .shape = Shape::sheet,
    .stored = Stored::tracks,
    .read_sheet = &read_sheet};

}  // namespace opifex
