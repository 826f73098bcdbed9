#include <algorithm>
#include <mutex>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/cd/examine.hpp"
#include "opifex/core/cd/parity.hpp"
#include "opifex/core/convert/plan.hpp"

namespace opifex {
namespace {

using cd::Lba;

constexpr std::uint32_t kBatchSectors = kFlowBlockBytes / cd::kRawBytes;

struct Batch {
  Lba lba = 0;
  std::uint32_t sectors = 0;
};

void note_first(std::optional<Lba>& first, Lba lba) {
  if (!first || lba < *first) first = lba;
}

void scan_sector(cd::SectorView s, Lba lba, UserDataScan& scan) {
  ++scan.sectors;
  if (!cd::has_sync(s)) {
    ++scan.bad;
    ++scan.irregular;
    note_first(scan.first_bad, lba);
    note_first(scan.first_irregular, lba);
    return;
  }
  const cd::SectorKind kind = cd::kind_of(s);
  if (kind == cd::SectorKind::mode2_form2 || kind == cd::SectorKind::mode2_formless) {
    const bool empty = all_zero(s.subspan(cd::kMode2UserAt, cd::kForm2Bytes));
    if (empty)
      ++scan.empty_form2;
    else {
      ++scan.form2;
      note_first(scan.first_form2, lba);
    }
  } else if (kind != cd::SectorKind::mode0 && !cd::is_regenerable(s, lba)) {
    ++scan.irregular;
    note_first(scan.first_irregular, lba);
  } else {
    return;  // regenerable: its EDC is right
  }
  if ((cd::examine(s, {std::nullopt, true}).problems & cd::kProblemEdc) == 0) return;
  ++scan.bad;
  note_first(scan.first_bad, lba);
}

void add(UserDataScan& sum, const UserDataScan& part) {
  sum.sectors += part.sectors;
  sum.form2 += part.form2;
  sum.empty_form2 += part.empty_form2;
  sum.bad += part.bad;
  sum.irregular += part.irregular;
  if (part.first_form2) note_first(sum.first_form2, *part.first_form2);
  if (part.first_irregular) note_first(sum.first_irregular, *part.first_irregular);
  if (part.first_bad) note_first(sum.first_bad, *part.first_bad);
}

}  // namespace

UserDataScan scan_user_data(const CdImage& disc, int track_number, JobContext& context) {
  const cd::Track& track = *disc.layout().track(track_number);
  std::vector<Batch> batches;
  std::uint64_t sectors = 0, cooked = 0;
  for (const Extent& e : disc.extents()) {
    if (e.track != track_number || e.end() <= track.start_lba) continue;
    const Lba from = std::max(e.lba, track.start_lba);
    if (stored_bytes(e.form) == cd::kUserBytes) {  // user data is all there is
      cooked += static_cast<std::uint64_t>(e.end() - from);
      continue;
    }
    for (Lba lba = from; lba < e.end(); lba += static_cast<Lba>(kBatchSectors)) {
      const auto n = std::min(kBatchSectors, static_cast<std::uint32_t>(e.end() - lba));
      batches.push_back({lba, n});
      sectors += n;
    }
  }
  UserDataScan sum;
  std::mutex sum_mutex;
  context.progress.begin("looking for what would be lost", sectors * cd::kRawBytes);
  Flow flow;
  flow.next = [&](FlowBlock& block) { return block.index < batches.size(); };
  flow.work = [&](FlowBlock& block) {
    const Batch batch = batches[block.index];
    block.data.resize(batch.sectors * cd::kRawBytes);
    disc.read(SectorForm::raw, batch.lba, batch.sectors, block.data);
    UserDataScan part;
    for (std::uint32_t i = 0; i < batch.sectors; ++i)
      scan_sector(cd::SectorView(ByteView(block.data).subspan(i * cd::kRawBytes, cd::kRawBytes)),
                  batch.lba + static_cast<Lba>(i), part);
    context.progress.done_bytes += block.data.size();
    const std::lock_guard lock(sum_mutex);
    add(sum, part);
  };
  run_flow(flow, context);
  sum.sectors += cooked;
  return sum;
}

}  // namespace opifex
