#include "opifex/core/check/source_check.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/cd/examine.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {

SourceCheck::SourceCheck(const Image& image, Work& work) : image_(image), work_(work) {
  if (image.container) image.container->watch();
}

std::vector<Finding> SourceCheck::finish() const {
  CheckResult result = check_image(image_, {.hashes = {}, .depth = CheckDepth::beside_a_job}, work_);
  std::erase_if(result.findings, [](const Finding& f) { return f.severity != Severity::error; });
  return std::move(result.findings);
}

std::vector<Finding> bad_sectors_of(const Image& image, const std::vector<const VolumeEntry*>& files,
                                    const Volume& volume, Work& work) {
  std::vector<Finding> findings;
  if (!image.cd || image.blocks) return findings;
  cd::Sector sector;
  for (const VolumeEntry* file : files) {
    std::uint64_t bad = 0;
    std::optional<cd::Lba> first;
    for (const VolumeExtent& x : file->extents) {
      work.progress.check_stop();
      for (std::uint64_t i = 0; i < x.sectors(); ++i) {
        const auto lba = static_cast<cd::Lba>(static_cast<std::int64_t>(x.sector + i) + volume.shift);
        const Extent* e = image.cd->extent_at(lba);
        if (!e || stored_bytes(e->form) < cd::kRawBytes) break;
        image.cd->read_sector(lba, sector);
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
