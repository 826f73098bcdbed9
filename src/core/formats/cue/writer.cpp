// Cue sheets with one bin or a bin for each track. What no file holds (PREGAP, POSTGAP) stays a length in the sheet.
#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/cue/sheet.hpp"

#include "reader.hpp"

namespace opifex::cue {
namespace {

using cd::Lba;

/// The stem of bins that a sheet can name: it has quotes around names and no way to write one inside.
std::string nameable_stem(const std::filesystem::path& sheet) {
  std::string stem = sheet.stem().string();
  for (char& c : stem)
    if (c == '"')
      c = '\'';
    else if (static_cast<unsigned char>(c) < 0x20 || c == 0x7F)
      c = '_';
  return stem;
}

/// Sectors of one extent that go to one file, in one form.
struct Part {
  SectorRun run;
  std::size_t sector_bytes;
};

struct BinFile {
  std::string name;
  std::vector<Part> parts;
};

/// A sheet has no word for raw sectors with subchannel, except CD+G audio.
bool nameable(const Extent& e, const cd::Track& track) {
  if (e.form == StoredForm::raw_with_q) return false;
  return e.form != StoredForm::raw_with_pw || track.mode.kind == cd::TrackMode::Kind::cdg;
}

cd::TrackMode raw_mode(cd::TrackMode mode) {
  if (mode.kind == cd::TrackMode::Kind::cdg) mode.kind = cd::TrackMode::Kind::audio;
  mode.sector_bytes = cd::kRawBytes;
  return mode;
}

Part part_of(const Extent& e, Lba lba, std::uint32_t sectors, bool as_stored) {
  const SectorForm form = as_stored ? SectorForm::stored : SectorForm::raw;
  return {{lba, sectors, form}, sector_bytes(form, e)};
}

/// Frames are counted in sectors, whatever their size.
PrintedIndex place_of(const std::vector<BinFile>& files, Lba lba, int number) {
  for (std::size_t f = 0; f < files.size(); ++f) {
    std::int64_t frames = 0;
    for (const Part& part : files[f].parts) {
      if (lba >= part.run.lba && lba < part.run.lba + static_cast<Lba>(part.run.sectors))
        return {number, f, frames + (lba - part.run.lba)};
      frames += part.run.sectors;
    }
  }
  throw Error({.code = "bad_layout", .what = fmt::format("index {} at sector {} is in no file", number, lba)});
}

void refuse_incomplete(const Image& image) {
  for (const cd::Track& t : image.cd()->layout().tracks)
    if (t.incomplete)
      throw Error({.code = "missing_file",
                   .what = fmt::format("the file of track {} is missing", t.number),
                   .file = image.path.string()});
}

WritePlan finish(const Image& image, const std::filesystem::path& out, const std::vector<BinFile>& files,
                 const std::vector<bool>& as_stored) {
  WritePlan plan;
  std::vector<std::string> names;
  for (const BinFile& file : files) {
    PlannedOutput output{out.parent_path() / file.name, {}, 0};
    std::uint64_t sectors = 0;
    for (const Part& part : file.parts) {
      output.pieces.emplace_back(part.run);
      output.size_bytes += std::uint64_t{part.run.sectors} * part.sector_bytes;
      sectors += part.run.sectors;
    }
    plan.steps.push_back(
        fmt::format("write {} sectors ({}) to {}", grouped(sectors), human_size(output.size_bytes), file.name));
    names.push_back(file.name);
    plan.outputs.push_back(std::move(output));
  }
  std::vector<PrintedTrack> tracks;
  const auto& layout = image.cd()->layout();
  for (std::size_t i = 0; i < layout.tracks.size(); ++i) {
    const cd::Track& t = layout.tracks[i];
    PrintedTrack printed{&t, as_stored[i] ? t.mode : raw_mode(t.mode), {}};
    for (const auto& [number, lba] : t.indexes) printed.indexes.push_back(place_of(files, lba, number));
    tracks.push_back(std::move(printed));
  }
  Bytes text = to_bytes(print(layout, names, tracks));
  const std::uint64_t size = text.size();
  plan.outputs.push_back({out, {std::move(text)}, size});
  plan.steps.push_back(fmt::format("write the sheet {}", out.filename().string()));
  if (nameable_stem(out) != out.stem().string())
    plan.warnings.push_back({"renamed_bins",
                             "the bins get another name: no sheet can hold a double quote or a control "
                             "character in one"});
  return plan;
}

}  // namespace

WritePlan plan_one_bin(const Image& image, const std::filesystem::path& out, const Settings&) {
  refuse_incomplete(image);
  const CdImage& disc = *image.cd();
  const auto& tracks = disc.layout().tracks;
  // One sector size only in a file of ours: all as they are if they agree, else all raised to 2352.
  const std::size_t size = stored_bytes(disc.extents().front().form);
  const bool as_stored = std::all_of(disc.extents().begin(), disc.extents().end(), [&](const Extent& e) {
    return stored_bytes(e.form) == size && nameable(e, *disc.layout().track(e.track));
  });
  BinFile file{nameable_stem(out) + ".bin", {}};
  for (const Extent& e : disc.extents()) file.parts.push_back(part_of(e, e.lba, e.sectors, as_stored));
  return finish(image, out, {file}, std::vector<bool>(tracks.size(), as_stored));
}

WritePlan plan_bin_per_track(const Image& image, const std::filesystem::path& out, const Settings& settings) {
  refuse_incomplete(image);
  const CdImage& disc = *image.cd();
  const auto& tracks = disc.layout().tracks;
  const auto pregaps = settings.choice<PregapFile>(kGaps);
  const int width = tracks.back().number > 9 ? 2 : 1;
  std::vector<BinFile> files;
  std::vector<bool> as_stored;
  for (const cd::Track& t : tracks) {
    const std::string stem = nameable_stem(out);
    files.push_back(
        {tracks.size() == 1 ? stem + ".bin" : fmt::format("{} (Track {:0{}}).bin", stem, t.number, width), {}});
    as_stored.push_back(std::all_of(disc.extents().begin(), disc.extents().end(),
                                    [&](const Extent& e) { return e.track != t.number || nameable(e, t); }));
  }
  for (const Extent& e : disc.extents()) {
    const auto at = static_cast<std::size_t>(
        std::find_if(tracks.begin(), tracks.end(), [&](const cd::Track& t) { return t.number == e.track; }) -
        tracks.begin());
    const cd::Track& t = tracks[at];
    // The gap may go to the file before only if one file can hold both, and never into another session.
    const bool to_previous = pregaps == PregapFile::previous && at > 0 && e.lba < t.start_lba &&
                             tracks[at - 1].session == t.session && tracks[at - 1].area == t.area &&
                             tracks[at - 1].mode.sector_bytes == t.mode.sector_bytes &&
                             as_stored[at - 1] == as_stored[at];
    const std::uint32_t before = to_previous ? static_cast<std::uint32_t>(std::min(e.end(), t.start_lba) - e.lba) : 0;
    if (before > 0) files[at - 1].parts.push_back(part_of(e, e.lba, before, as_stored[at]));
    if (before < e.sectors)
      files[at].parts.push_back(part_of(e, e.lba + static_cast<Lba>(before), e.sectors - before, as_stored[at]));
  }
  return finish(image, out, files, as_stored);
}

}  // namespace opifex::cue
