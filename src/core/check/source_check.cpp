#include "opifex/core/check/source_check.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/cd/examine.hpp"
#include "opifex/core/check/file_map.hpp"
#include "opifex/core/formats/rom/convert.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/volumes/volume.hpp"

#include "rom_judge.hpp"

namespace opifex {

namespace {

/// A finding for each run of sectors.
std::vector<Finding> damage_in_sectors(const Image& image, JobContext& context) {
  std::vector<Finding> findings;
  const std::vector<cd::Lba> bad = image.cd()->watched_damage(context);
  std::optional<FileMap> files;
  for (std::size_t i = 0; i < bad.size();) {
    std::size_t n = 1;
    while (i + n < bad.size() && bad[i + n] == bad[i] + static_cast<cd::Lba>(n)) ++n;
    if (!files) files.emplace(image);
    Finding f{"bad_sectors",
              Severity::error,
              fmt::format("{} with wrong checksums from LBA {}", plural(n, "sector"), bad[i]),
              image.path.string(),
              {},
              bad[i],
              n,
              files->hit_by(bad[i], n)};
    if (!f.files.empty()) f.message += "; " + files_text(f.files);
    findings.push_back(std::move(f));
    i += n;
  }
  return findings;
}

}  // namespace

SourceCheck::SourceCheck(const Image& image, bool sectors, JobContext& context, const std::vector<Volume>* volumes)
    : image_(image), sectors_(sectors && image.cd() && !image.blocks()), context_(context), volumes_(volumes) {
  if (image.container) image.container->watch();
  if (sectors_) image.cd()->watch();
}

std::vector<Finding> SourceCheck::finish() const {
  CheckResult result = check_image(image_, {{}, CheckDepth::beside_a_job, volumes_}, context_);
  std::erase_if(result.findings, [](const Finding& f) { return f.severity != Severity::error; });
  if (sectors_) {
    auto damage = damage_in_sectors(image_, context_);
    std::move(damage.begin(), damage.end(), std::back_inserter(result.findings));
  }
  return std::move(result.findings);
}

std::vector<Finding> damage_that_stays(const RomContent& rom, const Settings& settings) {
  const rom::Converted made = rom::convert(rom, settings);
  RomJudgement judged = judge_rom(rom::examine(made.machine, made.container, made.rom));
  std::erase_if(judged.findings, [](const Finding& f) { return f.severity != Severity::error; });
  return std::move(judged.findings);
}

std::vector<Finding> bad_sectors_of(const Image& image, const std::vector<const VolumeEntry*>& files,
                                    const Volume& volume, JobContext& context) {
  std::vector<Finding> findings;
  if (!image.cd() || image.blocks()) return findings;
  cd::Sector sector;
  for (const VolumeEntry* file : files) {
    std::uint64_t bad = 0;
    std::optional<cd::Lba> first;
    for (const VolumeExtent& x : file->extents) {
      context.progress.check_stop();
      for (std::uint64_t i = 0; i < x.sectors(); ++i) {
        const auto lba = static_cast<cd::Lba>(static_cast<std::int64_t>(x.sector + i) + volume.shift);
        const Extent* e = image.cd()->extent_at(lba);
        if (!e || stored_bytes(e->form) < cd::kRawBytes) break;
        image.cd()->read_sector(lba, sector);
        if (!cd::examine(sector, {.lba = lba, .in_data_track = true}).bad()) continue;
        ++bad;
        first = first.value_or(lba);
      }
    }
    if (bad > 0)
      findings.push_back({"bad_sectors",
                          Severity::error,
                          fmt::format("{}: {} sector{} with wrong checksums, the first at LBA {}",
                                      printable(file->path), grouped(bad), bad == 1 ? "" : "s", *first),
                          image.path.string(),
                          {},
                          first,
                          bad,
                          {file->path}});
  }
  return findings;
}

}  // namespace opifex
