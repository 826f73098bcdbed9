#include "reader.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/cue/build.hpp"
#include "opifex/core/formats/cue/files.hpp"

namespace opifex::cue {
namespace {

struct Reading {
  Sheet sheet;
  std::vector<FoundFile> found;
  bool all() const {
    return std::all_of(found.begin(), found.end(), [](const FoundFile& f) { return f.path.has_value(); });
  }
};

/// A sheet in an unknown code page is read in the first one under which its files are found.
Reading read_sheet(const std::filesystem::path& path, const FileSpace& files) {
  const SourcePtr source = files.open(path);
  const Bytes bytes = read_up_to(*source, 0, kMaxSheetBytes + 1);
  const auto encodings = candidate_encodings(as_text(bytes), path.string());
  std::optional<Reading> first;
  for (const std::string& encoding : encodings) {
    Reading reading;
    reading.sheet = parse(as_text(bytes), encoding, path.string());
    reading.found = find_files(reading.sheet, path, files);
    if (encodings.size() == 1 || reading.all()) return reading;
    if (!first) first = std::move(reading);
  }
  return std::move(*first);
}

[[noreturn]] void missing(const Sheet& sheet, std::size_t i, const std::filesystem::path& path,
                          const std::string& hint) {
  int track = 0;
  for (const SheetTrack& t : sheet.tracks)
    if (track == 0 && std::any_of(t.indexes.begin(), t.indexes.end(), [&](const SheetIndex& x) { return x.file == i; }))
      track = t.number;
  throw Error({.code = "missing_file",
               .what = fmt::format("the file of track {} is missing", track),
               .file = path.string(),
               .line = sheet.files[i].line,
               .found = "no " + printable(sheet.files[i].name),
               .expected = "it beside the sheet",
               .hint = hint});
}

TrackFile open_track_file(const SheetFile& file, const SourcePtr& source, const std::filesystem::path& path,
                          std::vector<Warning>& warnings) {
  if (source->size() == 0)
    throw Error({.code = "empty_file",
                 .cause = Cause::empty_file,
                 .what = "a file of the set is empty",
                 .file = path.string(),
                 .line = file.line,
                 .found = fmt::format("0 bytes in {}", source->name()),
                 .expected = "the sectors of its tracks",
                 .hint = "copy it again from where it came"});
  if (file.type == FileType::binary || file.type == FileType::motorola)
    return {source, file.type == FileType::motorola};
  const AudioFile audio = file.type == FileType::wave ? open_wave(source) : open_aiff(source);
  if (audio.padded)
    warnings.push_back(
        {"padded_sector", fmt::format("{} does not end with a whole sector; the rest of it is taken as silence",
                                      path.filename().string())});
  return {audio.samples, audio.big_endian};
}

}  // namespace

Image open(const std::filesystem::path& path, const OpenOptions& options) {
  Reading reading = read_sheet(path, options.space());
  Image image;
  image.path = path;
  image.format = reading.sheet.files.size() > 1 ? &kCueTracksFormat : &kCueFormat;
  image.warnings = reading.sheet.warnings;
  std::vector<TrackFile> tracks;
  for (std::size_t i = 0; i < reading.found.size(); ++i) {
    const SheetFile& file = reading.sheet.files[i];
    FoundFile& found = reading.found[i];
    const bool used = std::any_of(reading.sheet.tracks.begin(), reading.sheet.tracks.end(), [&](const SheetTrack& t) {
      return std::any_of(t.indexes.begin(), t.indexes.end(), [&](const SheetIndex& x) { return x.file == i; });
    });
    if (found.warning) image.warnings.push_back(*found.warning);
    if (!found.path) {
      if (used && !options.allow_missing) missing(reading.sheet, i, path, found.hint);
      image.complete = image.complete && !used;
      if (used)
        image.warnings.push_back({"missing_file",
                                  fmt::format("{} is missing; {}", printable(file.name), found.hint),
                                  {},
                                  Cause::incomplete});
      image.files.push_back({file.name, std::string(to_string(file.type)), 0, true});
      tracks.push_back({});
      continue;
    }
    const SourcePtr source = options.space().open(*found.path);
    image.files.push_back({*found.path, std::string(to_string(file.type)), source->size(), false, source});
    tracks.push_back(used ? open_track_file(file, source, *found.path, image.warnings) : TrackFile{source});
  }
  image.content = CdContent{build_disc(reading.sheet, tracks, path.string(), image.warnings,
                                       options.allow_missing ? Absent::allow : Absent::refuse)};
  for (const cd::Track& t : image.cd()->layout().tracks) image.complete = image.complete && !t.incomplete;
  for (const Warning& w : image.warnings)
    if (w.cause == Cause::incomplete) image.complete = false;
  return image;
}

int probe(const ByteSource& source, std::string_view file_name) {
  if (source.size() > kMaxSheetBytes) return file_name.ends_with(".cue") ? 1 : 0;
  const Bytes head = read_up_to(source, 0, 4096);
  if (looks_like_sheet(as_text(head))) return 40;
  // A broken sheet is still best explained by the sheet's reader.
  return file_name.ends_with(".cue") ? 1 : 0;
}

}  // namespace opifex::cue
