/// What there is to see of a job. Nothing is drawn here: ReportFolder does.
#pragma once

#include "opifex/core/jobs/job.hpp"
#include "opifex/report/figure.hpp"

namespace opifex {
struct Identity;
namespace dump {
struct CartridgePlan;
struct CartridgeResult;
struct DumpPlan;
struct DumpResult;
}  // namespace dump
namespace jobs {
struct ShelfListed;
struct ShelfSetsTold;
struct ShelfSummary;
}  // namespace jobs
}  // namespace opifex

namespace opifex::report {

/// The disc as a bar: sessions, tracks with their gaps, areas of files, partitions. Nothing for what is no disc.
Figures layout_figures(const Image& image, const Identity& id);
/// How dense the data is from beginning to end; of a container stored in hunks instead: by which codec each stretch is
/// stored, how small it became, and each codec's share.
Figures density_figures(const Image& image, JobContext& context);

/// The layout with its damage, the states of all sectors, and what each file suffered; the latter two only if there is
/// any damage.
Figures check_figures(const jobs::Checked& checked);

/// The layout, the state of every sector, reading speed over the disc, how often damaged sectors were read, and what
/// each file suffered.
Figures dump_figures(const dump::DumpPlan& plan, const dump::DumpResult& result);

/// Where the readings of a ROM (of a save, if that is all) differed, and what its data lines carried. Reads the output.
Figures cartridge_figures(const dump::CartridgePlan& plan, const dump::CartridgeResult& result);

/// Where each sector of the result came from, and what its files suffer from those that are lost.
Figures rescue_figures(const jobs::Rescued& rescued);

/// Sizes before and after, one pair of bars for each conversion.
struct SizeChange {
  std::string name;
  std::uint64_t before = 0, after = 0;
};
Figures size_figures(const std::vector<SizeChange>& changes);

/// The icons of all saves of a memory card, as large squares with their titles. Nothing if there are none.
Figures icon_figures(const jobs::Listed& listed);

/// What the whole shelf is made of, what compression saves, how old the checks are, how whole its sets are.
Figures shelf_figures(const jobs::ShelfSummary& summary);
/// The same of items that were chosen.
Figures shelf_figures(const jobs::ShelfListed& listed);
Figures shelf_figures(const jobs::ShelfSetsTold& sets);

/// What lists know of a collection; nothing of a single image.
Figures known_figures(const jobs::KnownTold& told);
/// How much of a list is there.
Figures missing_figures(const jobs::MissingTold& told);

}  // namespace opifex::report
