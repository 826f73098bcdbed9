// A bare image of raw sectors, without a sheet.
#include "opifex/core/image/format.hpp"

#include <algorithm>

#include "opifex/core/formats/bin/detect.hpp"
#include "opifex/core/image/shared_settings.hpp"

namespace opifex {

extern const Format kBinFormat;

namespace {

constexpr std::array<std::string_view, 3> kExtensions = {".bin", ".img", ".raw"};

int probe(const ByteSource& source, std::string_view file_name) {
  const bool named =
      std::any_of(kExtensions.begin(), kExtensions.end(), [&](auto e) { return file_name.ends_with(e); });
  try {
    const bin::Detected d = bin::detect(source);
    constexpr int kSyncBits = 96;
    if (d.arrangement == bin::Arrangement::raw && !d.sync_lost) return kSyncBits;
    // Without a sync the name has a say: an ISO of 2048-byte blocks has none either.
    const bool weak = d.arrangement == bin::Arrangement::audio || d.arrangement == bin::Arrangement::cooked;
    return weak && !named ? 2 : 8;
  } catch (const Error& e) {
    if (e.details.fault == Fault::device) throw;
    return named ? 1 : 0;  // then opening it says what is wrong
  }
}

Image open(const std::filesystem::path& path, const OpenOptions& options) {
  Image image;
  image.format = &kBinFormat;
  image.path = path;
  const SourcePtr source = options.space().open(path);
  image.files.push_back({path, "BINARY", source->size(), false, source});
  const auto bytes = options.settings.number(kSectorSize);
  bin::Detected detected =
      bytes ? bin::detect_with_size(*source, static_cast<std::size_t>(*bytes)) : bin::detect(*source);
  if (const auto mode = options.settings.number(kMode)) detected.mode = static_cast<int>(*mode);
  image.content = CdContent{bin::build_disc(source, detected, image.warnings)};
  for (const Warning& w : image.warnings)
    if (is_incomplete(w.cause)) image.complete = false;
  return image;
}

WritePlan plan_write(const Image& image, const std::filesystem::path& out, const Settings&) {
  const CdImage& disc = *image.cd();
  const cd::Lba first = disc.extents().front().lba;
  // Of several sessions or areas the first one: the planner has told what that loses.
  std::vector<cd::Track> tracks;
  for (const cd::Track& t : disc.layout().tracks)
    if (t.session == disc.layout().tracks.front().session && t.area != cd::Area::high_density) tracks.push_back(t);
  refuse_holes(image, tracks);
  const cd::Lba end = tracks.back().end_lba;
  PlannedOutput output{out, {}, 0};
  output.pieces.emplace_back(SectorRun{first, static_cast<std::uint32_t>(end - first), SectorForm::raw});
  output.size_bytes = size_of(output.pieces, image);
  WritePlan plan;
  plan.steps.push_back(fmt::format("write {} raw sectors to {}", end - first, out.filename().string()));
  plan.outputs.push_back(std::move(output));
  return plan;
}

constexpr std::array kReadSettings = {&kSectorSize, &kMode};

bool is_told(const Settings& settings) {
  const auto bytes = settings.number(kSectorSize);
  return bytes && *bytes != cd::kUserBytes;
}

}  // namespace

extern const Format kBinFormat = {.id = "bin",
                                  .title = "bare image of raw sectors",
                                  .extensions = kExtensions,
                                  .probe = &probe,
                                  .open = &open,
                                  .holds = {.audio = true, .form2 = true, .raw_headers = true, .first_pregap = true},
                                  .plan_write = &plan_write,
                                  .stored = Stored::sectors,
                                  .read_settings = kReadSettings,
                                  .is_told = &is_told};

}  // namespace opifex
