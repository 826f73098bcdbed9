// The user data of one data track, or of a DVD: blocks of 2048 bytes.
#include "opifex/core/image/format.hpp"

#include <algorithm>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/formats/bin/detect.hpp"
#include "opifex/core/image/shared_settings.hpp"

namespace opifex {

extern const Format kIsoFormat;

namespace {

constexpr std::array<std::string_view, 1> kExtensions = {".iso"};

bool has_game_partition(const ByteSource& source) {
  return as_text(read_up_to(source, kXdvdfsMarkAt, kXdvdfsMark.size())) == kXdvdfsMark;
}

/// Discs of consoles that are no CDs, and are often cut behind their last file. Their file systems: src/core/volumes.
bool is_console_dvd(const ByteSource& source) {
  if (has_game_partition(source)) return true;
  const Bytes head = read_up_to(source, 0, 0x20);
  return head.size() == 0x20 &&
         (load_be32(head, kWiiMarkAt) == kWiiMark || load_be32(head, kGameCubeMarkAt) == kGameCubeMark);
}

int probe(const ByteSource& source, std::string_view file_name) {
  const std::string name(as_text(read_up_to(source, kIsoMarkAt, kIsoMark.size())));
  if (name == kIsoMark || name == kCdiMark) return 40;
  if (is_console_dvd(source)) return 40;
  return file_name.ends_with(".iso") && source.size() >= cd::kUserBytes && source.size() % cd::kUserBytes == 0 ? 4 : 0;
}

Image open(const std::filesystem::path& path, const OpenOptions& options) {
  Image image;
  image.format = &kIsoFormat;
  image.path = path;
  const SourcePtr source = options.space().open(path);
  image.files.push_back({path, "iso", source->size(), false, source});
  if (is_console_dvd(*source)) {
    image.take_blocks(source);
    // Images of the other consoles end behind their last file, wherever that is.
    if (has_game_partition(*source) && source->size() % cd::kUserBytes != 0) image.warn_of_partial_sector();
    return image;
  }
  const std::uint64_t whole = round_down(source->size(), cd::kUserBytes);
  const SourcePtr blocks = slice_source(source, 0, whole);
  image.content = BlockContent{.bytes = blocks};
  if (whole / cd::kUserBytes <= static_cast<std::uint64_t>(cd::kMaxDiscSectors)) {
    bin::Detected detected{.arrangement = bin::Arrangement::cooked, .sector_bytes = cd::kUserBytes};
    if (const auto mode = options.settings.number(kMode)) detected.mode = static_cast<int>(*mode);
    image.content = CdContent{bin::build_disc(source, detected, image.warnings), blocks};
  } else if (whole != source->size()) {
    image.warn_of_partial_sector();
  }
  for (const Warning& w : image.warnings)
    if (is_incomplete(w.cause)) image.complete = false;
  return image;
}

WritePlan plan_write(const Image& image, const std::filesystem::path& out, const Settings& settings) {
  PlannedOutput output{out, {}, 0};
  if (!image.cd()) {
    const SourcePtr blocks = image.stored_blocks();
    output.pieces.emplace_back(SourceRun{blocks, 0, blocks->size()});
  } else {
    const auto wanted = settings.number(kTrack);
    const int number = wanted ? static_cast<int>(*wanted) : image.main_data_track();
    const cd::Track* track = image.cd()->layout().track(number);
    if (!track || track->mode.is_audio())
      throw Error(
          {.code = "no_data_track",
           .what = wanted ? fmt::format("track {} is no data track", number) : "there is no data track on this disc",
           .file = image.path.string(),
           .found = fmt::format("{} audio tracks", image.cd()->layout().audio_track_count()),
           .expected = "a data track",
           .hint = "an ISO holds data only; a music disc stays cue/bin"});
    // From index 01: what lies before it is pause, and every later sector keeps its place.
    for (const Extent& e : image.cd()->extents()) {
      const cd::Lba from = std::max(e.lba, track->start_lba);
      if (e.track == number && from < e.end())
        output.pieces.emplace_back(SectorRun{from, static_cast<std::uint32_t>(e.end() - from), SectorForm::user});
    }
  }
  output.size_bytes = size_of(output.pieces, image);
  WritePlan plan;
  plan.steps.push_back(
      fmt::format("write {} blocks of 2048 bytes to {}", output.size_bytes / cd::kUserBytes, out.filename().string()));
  plan.outputs.push_back(std::move(output));
  return plan;
}

constexpr std::array kSettings = {&kTrack};
constexpr std::array kReadSettings = {&kSectorSize, &kMode};

bool is_told(const Settings& settings) { return settings.number(kSectorSize) == cd::kUserBytes; }

/// NAME.part0.iso, NAME.part1.iso ..
std::string part_name(std::string_view stem, std::string_view extension, std::size_t part) {
  return fmt::format("{}.part{}{}", stem, part, extension);
}
constexpr PartNaming kPartNames = {.name = &part_name};

}  // namespace

extern const Format kIsoFormat = {.id = "iso",
                                  .title = "2048-byte blocks of a data disc",
                                  .extensions = kExtensions,
                                  .probe = &probe,
                                  .open = &open,
                                  .holds = {.blocks = true},
                                  .plan_write = &plan_write,
                                  .stored = Stored::blocks,
                                  .settings = kSettings,
                                  .read_settings = kReadSettings,
                                  .is_told = &is_told,
                                  .part_names = &kPartNames};

}  // namespace opifex
