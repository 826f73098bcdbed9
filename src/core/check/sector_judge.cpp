#include "sector_judge.hpp"

#include <algorithm>

#include "opifex/core/cd/subchannel.hpp"

namespace opifex {

using cd::Lba;

namespace {

/// Beyond this many damaged sectors nobody repairs one by one: the image has to be dumped again.
constexpr std::uint64_t kMaxRepairTries = 20'000;

/// False if more than three bytes of a sync are wrong, whatever the order of the bytes: nobody takes it for data then.
bool may_have_sync(ByteView stored) {
  constexpr std::ptrdiff_t kSyncOnes = 10, kMostWrong = 3;
  const auto head = stored.first(cd::kSyncBytes);
  return std::count(head.begin(), head.end(), std::byte{0xFF}) >= kSyncOnes - kMostWrong;
}

void add(SectorFindings& sum, SectorFindings&& part) {
  for (const auto& [kind, n] : part.kinds) sum.kinds[kind] += n;
  sum.bad.insert(sum.bad.end(), part.bad.begin(), part.bad.end());
  sum.formless.insert(sum.formless.end(), part.formless.begin(), part.formless.end());
  sum.pause_without_sync.insert(sum.pause_without_sync.end(), part.pause_without_sync.begin(),
                                part.pause_without_sync.end());
  if (part.pause_begins) sum.pause_begins = std::min(*part.pause_begins, sum.pause_begins.value_or(*part.pause_begins));
  sum.authored += part.authored;
  sum.reserved_used += part.reserved_used;
  sum.data_in_audio += part.data_in_audio;
  sum.q_blocks += part.q_blocks;
  sum.q_bad += part.q_bad;
  sum.q_elsewhere += part.q_elsewhere;
}

}  // namespace

void SectorJudge::judge(const DecodedRun& run) {
  const cd::Track& track = *disc_.layout().track(run.extent->track);
  SectorFindings part;
  for (std::size_t i = 0; i < run.places.size() / run.place_bytes; ++i) judge_one(run, track, i, part);
  const std::lock_guard lock(mutex_);
  add(tallies_[run.extent->track], std::move(part));
}

void SectorJudge::judge_one(const DecodedRun& run, const cd::Track& track, std::size_t i, SectorFindings& part) {
  const Extent& e = *run.extent;
  const Lba lba = run.lba + static_cast<Lba>(i);
  ByteView stored = run.places.subspan(i * run.place_bytes, stored_bytes(e.form));
  if (e.form == StoredForm::mode1_user || e.form == StoredForm::form1_user || e.form == StoredForm::form2_user) {
    ++part.kinds["cooked"];
    return;
  }
  if (e.form == StoredForm::raw_with_pw || e.form == StoredForm::raw_with_q) judge_q(e, lba, stored, part);
  cd::Sector raised;
  if (e.form == StoredForm::mode2) {
    cd::put_header(raised, lba, 2);
    std::copy(stored.begin(), stored.end(), raised.begin() + cd::kSubheaderAt);
    stored = raised;
  } else if (run.swapped) {
    // Hardly any music has to be turned around to be seen as such.
    if (track.mode.is_audio() && !may_have_sync(stored)) {
      ++part.kinds[cd::to_string(cd::SectorKind::audio)];
      return;
    }
    std::copy_n(stored.begin(), raised.size(), raised.begin());
    cd::swap_words(raised);
    stored = raised;
  } else if (e.swapped || e.scrambled) {
    disc_.read_sector(lba, raised);
    stored = raised;
  }
  const auto sector = cd::SectorView(stored.first(cd::kRawBytes));
  // A data track's pause may begin with sectors of the track before it.
  const bool data = !track.mode.is_audio();
  const bool in_pause = data && lba < track.start_lba, no_sync = in_pause && !cd::has_sync(sector);
  const bool judged = data && !no_sync;
  if (in_pause && !no_sync) part.pause_begins = std::min(lba, part.pause_begins.value_or(lba));
  if (no_sync) {
    const cd::SectorReport pause = cd::examine(sector, {lba, true, false});
    part.pause_without_sync.push_back({lba, pause.damage, pause.problems, false});
  }
  const bool parity_made = !run.parity_made.empty() && run.parity_made[i] != std::byte{0};
  const cd::SectorReport report = cd::examine(sector, {lba, judged, parity_made});
  ++part.kinds[report.sync_lost ? std::string_view("no_sync") : cd::to_string(report.kind)];
  if (report.damage == cd::Damage::authored) ++part.authored;
  if (!data) {
    if (report.kind != cd::SectorKind::audio && report.lba == lba) ++part.data_in_audio;
    return;
  }
  if (!judged) return;
  if (report.kind == cd::SectorKind::mode2_formless && !report.bad())
    part.formless.push_back({lba, cd::Damage::damaged, cd::kProblemSubheader, false});
  if (!report.bad()) {
    if ((report.problems & cd::kProblemReserved) != 0) ++part.reserved_used;
    return;
  }
  cd::Sector copy;
  std::copy(sector.begin(), sector.end(), copy.begin());
  const bool repairable = tries_++ < kMaxRepairTries && cd::repair(copy, {lba, true});
  part.bad.push_back({lba, report.damage, report.problems, repairable});
}

void SectorJudge::judge_q(const Extent& e, Lba lba, ByteView stored, SectorFindings& part) const {
  cd::QBytes q{};
  if (e.form == StoredForm::raw_with_q) {
    std::copy_n(stored.begin() + cd::kRawBytes, q.size(), q.begin());
    if (q[10] == std::byte{0} && q[11] == std::byte{0}) return;  // this form may leave the checksum out
  } else {
    const auto block = stored.subspan(cd::kRawBytes).first<cd::kSubchannelBytes>();
    if (all_zero(block)) return;
    q = cd::q_of(block, disc_.subchannel().value_or(cd::SubchannelForm::packed));
  }
  ++part.q_blocks;
  const cd::Q read = cd::parse_q(q);
  if (!read.crc_fits)
    ++part.q_bad;
  else if (read.adr == 1 && read.area == cd::QArea::program && read.absolute && cd::lba_of(*read.absolute) != lba)
    ++part.q_elsewhere;
}

std::vector<DamagedRange> ranges_of(std::vector<BadSector>& bad) {
  std::sort(bad.begin(), bad.end(), [](const BadSector& a, const BadSector& b) { return a.lba < b.lba; });
  std::vector<DamagedRange> ranges;
  for (const BadSector& b : bad) {
    DamagedRange* last = ranges.empty() ? nullptr : &ranges.back();
    if (last && last->first + static_cast<Lba>(last->sectors) == b.lba && last->damage == b.damage &&
        last->problems == b.problems && last->repairable == b.repairable)
      ++last->sectors;
    else
      ranges.push_back({b.lba, 1, b.damage, b.problems, b.repairable});
  }
  return ranges;
}

}  // namespace opifex
