#include "track_findings.hpp"

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"

namespace opifex {

using cd::Lba;

namespace {

/// A track whose sectors are nearly all XA is XA: a formless one among them is damage.
void add_lone_formless(SectorFindings& tally) {
  const std::uint64_t xa = tally.kinds["mode2_form1"] + tally.kinds["mode2_form2"];
  constexpr std::uint64_t kFew = 10;
  if (tally.formless.empty() || tally.formless.size() * kFew > xa) return;
  tally.bad.insert(tally.bad.end(), tally.formless.begin(), tally.formless.end());
}

/// Once a pause holds data it holds nothing else up to the track.
void add_wiped_pause(SectorFindings& tally) {
  for (const BadSector& b : tally.pause_without_sync)
    if (tally.pause_begins && b.lba > *tally.pause_begins) tally.bad.push_back(b);
}

Finding describe(const CdImage& disc, const TrackCheck& track, const DamagedRange& r) {
  const Lba last = r.first + static_cast<Lba>(r.sectors) - 1;
  const std::string place =
      r.sectors == 1
          ? fmt::format("sector {} (LBA {})", cd::to_string(cd::msf_of_lba(r.first)), r.first)
          : fmt::format("{} sectors {} to {} (LBA {} to {})", r.sectors, cd::to_string(cd::msf_of_lba(r.first)),
                        cd::to_string(cd::msf_of_lba(last)), r.first, last);
  const char* outlook = r.repairable                          ? "can be repaired"
                        : r.damage == cd::Damage::missing     ? "were never read: the data is lost"
                        : r.damage == cd::Damage::placeholder ? "hold a dumping tool's filler: the data is lost"
                                                              : "cannot be repaired from this image alone";
  Finding finding{
      r.damage == cd::Damage::none ? "sector_fault" : std::string(cd::to_string(r.damage)),
      Severity::error,
      fmt::format("track {}: {}: wrong {}; {}", track.number, place, cd::problem_names(r.problems), outlook),
      {},
      {},
      r.first,
      r.sectors};
  if (const Extent* e = disc.extent_at(r.first)) {
    finding.file = e->source->name();
    finding.offset = e->offset + static_cast<std::uint64_t>(r.first - e->lba) * stored_bytes(e->form);
  }
  return finding;
}

void describe_oddities(const TrackCheck& track, const SectorFindings& tally, std::vector<Finding>& findings) {
  const auto find = [&](const char* code, Severity severity, std::string message, std::uint64_t count) {
    findings.push_back({code, severity, std::move(message), {}, {}, {}, count});
  };
  if (tally.authored > 0)
    find("authored", Severity::note,
         fmt::format("track {}: {} sectors were mastered with a wrong EDC on purpose (a copy protection); they are "
                     "kept as they are",
                     track.number, tally.authored),
         tally.authored);
  if (tally.reserved_used > 0)
    find("reserved_used", Severity::note,
         fmt::format("track {}: {} of Mode 1 use bytes that are reserved; they are kept as they are", track.number,
                     plural(tally.reserved_used, "sector")),
         tally.reserved_used);
  if (tally.data_in_audio > 0)
    find("data_in_audio", Severity::warning,
         fmt::format("track {} is called audio but {} of its sectors are data", track.number, tally.data_in_audio),
         tally.data_in_audio);
  if (tally.q_bad > 0)
    find("subchannel_crc", Severity::note,
         fmt::format("track {}: {} of {} Q blocks have a wrong checksum; a few in a thousand are usual", track.number,
                     tally.q_bad, tally.q_blocks),
         tally.q_bad);
  if (tally.q_elsewhere > 0)
    find("subchannel_position", Severity::warning,
         fmt::format("track {}: {} Q blocks name another place than their sector's", track.number, tally.q_elsewhere),
         tally.q_elsewhere);
  const auto cooked = track.kinds.find("cooked");
  if (cooked != track.kinds.end() && cooked->second > 0)
    find("no_sector_checks", Severity::note,
         fmt::format("track {} is stored without error detection: its size and hashes can be checked, its bytes cannot",
                     track.number),
         cooked->second);
}

}  // namespace

std::vector<Finding> judge_track(const CdImage& disc, SectorFindings& tally, TrackCheck& track) {
  for (const auto& [kind, n] : tally.kinds)
    if (n > 0) track.kinds[std::string(kind)] = n;
  add_lone_formless(tally);
  add_wiped_pause(tally);
  track.ranges = ranges_of(tally.bad);
  track.bad = tally.bad.size();
  track.authored = tally.authored;
  for (const BadSector& b : tally.bad) track.repairable += b.repairable ? 1u : 0u;
  if (track.bad > 0) track.verdict = track.repairable == track.bad ? Verdict::repairable : Verdict::damaged;
  if (disc.layout().track(track.number)->incomplete) track.verdict = Verdict::incomplete;
  std::vector<Finding> findings;
  for (const DamagedRange& r : track.ranges) findings.push_back(describe(disc, track, r));
  describe_oddities(track, tally, findings);
  return findings;
}

}  // namespace opifex
