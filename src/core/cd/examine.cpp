#include "opifex/core/cd/examine.hpp"

#include <algorithm>

#include "opifex/core/cd/parity.hpp"

namespace opifex::cd {
namespace {

struct ProblemName {
  Problem bit;
  std::string_view name;
};
constexpr std::array kProblemNames = {ProblemName{kProblemSync, "sync"},
                                      ProblemName{kProblemHeader, "header"},
                                      ProblemName{kProblemAddress, "address"},
                                      ProblemName{kProblemMode, "mode"},
                                      ProblemName{kProblemSubheader, "subheader"},
                                      ProblemName{kProblemReserved, "reserved"},
                                      ProblemName{kProblemEdc, "edc"},
                                      ProblemName{kProblemEcc, "ecc"},
                                      ProblemName{kProblemMode0NotZero, "mode0_not_zero"}};

bool form1_edc_fits(SectorView s) {
  return load_le32(s, kForm1EdcAt) == edc(s.subspan(kSubheaderAt, kForm1EdcAt - kSubheaderAt));
}
bool form2_edc_fits(SectorView s) {
  return load_le32(s, kForm2EdcAt) == edc(s.subspan(kSubheaderAt, kForm2EdcAt - kSubheaderAt));
}
bool mode1_edc_fits(SectorView s) { return load_le32(s, kMode1EdcAt) == edc(s.first(kMode1EdcAt)); }

int bad_p_words(SectorView s, EccHeader header) {
  int bad = 0;
  for (int p = 0; p < kPWords; ++p) bad += p_syndrome(s, p, header).clean() ? 0 : 1;
  return bad;
}

SectorKind mode2_kind(SectorView s) {
  if (subheaders_agree(s))
    return (std::byte{subheader(s).submode} & kSubmodeForm2) != std::byte{0} ? SectorKind::mode2_form2
                                                                             : SectorKind::mode2_form1;
  if (form1_edc_fits(s)) return SectorKind::mode2_form1;
  if (form2_edc_fits(s)) return SectorKind::mode2_form2;
  return bad_p_words(s, EccHeader::zero) < kPWords / 2 ? SectorKind::mode2_form1 : SectorKind::mode2_formless;
}

/// With the mode byte lost, what the rest says.
SectorKind kind_without_mode(SectorView s) {
  if (mode1_edc_fits(s)) return SectorKind::mode1;
  if (form1_edc_fits(s) || form2_edc_fits(s)) return mode2_kind(s);
  return bad_p_words(s, EccHeader::zero) < bad_p_words(s, EccHeader::counts) ? mode2_kind(s) : SectorKind::mode1;
}

int sync_bytes_right(SectorView s) {
  int right = 0;
  for (std::size_t i = 0; i < kSyncBytes; ++i) right += s[i] == kSync.at(i) ? 1 : 0;
  return right;
}

bool is_data_with_damaged_sync(SectorView s, const SectorPlace& place) {
  constexpr int kEnough = 9;
  const auto lba = header_lba(s);
  return sync_bytes_right(s) >= kEnough && lba && header_mode(s) && (!place.lba || *lba == *place.lba);
}

bool one_repeated_byte(ByteView v) {
  return std::all_of(v.begin(), v.end(), [&](std::byte b) { return b == v[0]; });
}

/// EDC and ECC of Mode 1 and Form 1, with the meaning of what is wrong (why a disc may be so: see the format notes).
void judge_parity(SectorView s, SectorReport& r) {
  const bool mode1 = r.kind == SectorKind::mode1;
  const EccHeader header = mode1 ? EccHeader::counts : EccHeader::zero;
  const bool edc_right = mode1 ? mode1_edc_fits(s) : form1_edc_fits(s);
  const bool ecc_right = ecc_is_right(s, header);
  if (mode1 && !all_zero(s.subspan(kReservedAt, kReservedBytes))) r.problems |= kProblemReserved;
  if (!edc_right) r.problems |= kProblemEdc;
  if (!ecc_right) r.problems |= kProblemEcc;
  if (edc_right && ecc_right) return;
  if (!edc_right && ecc_right) {
    r.damage = Damage::authored;
  } else if (!edc_right) {
    const ByteView user = s.subspan(mode1 ? kMode1UserAt : kMode2UserAt, kUserBytes);
    r.damage = one_repeated_byte(user) ? Damage::placeholder : Damage::damaged;
  } else {
    r.damage = all_zero(s.subspan(kEccAt)) ? Damage::no_ecc : Damage::parity_only;
    r.ecc_over_header = !mode1 && ecc_is_right(s, EccHeader::counts);
  }
}

void judge_form2(SectorView s, SectorReport& r) {
  const std::uint32_t stored = load_le32(s, kForm2EdcAt);
  r.edc_absent = stored == 0;
  if (stored == 0 || form2_edc_fits(s)) return;
  r.problems |= kProblemEdc;
  r.damage = Damage::damaged;
}

/// EDC and ECC of Mode 1 and Form 1.
bool is_sound(SectorView s, SectorKind kind, const SectorPlace& place) {
  // Whoever made the parity took the header by the mode byte alone; a kind guessed otherwise has another parity.
  const bool mode1 = kind == SectorKind::mode1;
  if (!place.parity_made || mode1 == (s[15] == std::byte{2})) return parity_is_right(s, kind);
  return mode1 ? mode1_edc_fits(s) && all_zero(s.subspan(kReservedAt, kReservedBytes)) : form1_edc_fits(s);
}

SectorReport examine_without_sync(SectorView s, const SectorPlace& place) {
  SectorReport r;
  if (!place.in_data_track) return r;
  r.sync_lost = true;
  r.problems = kProblemSync;
  r.damage = all_zero(s) ? Damage::missing : Damage::damaged;
  return r;
}

}  // namespace

std::vector<std::string_view> problem_list(unsigned problems) {
  std::vector<std::string_view> names;
  for (const ProblemName& p : kProblemNames)
    if (problems & p.bit) names.push_back(p.name);
  return names;
}

std::string problem_names(unsigned problems) { return fmt::format("{}", fmt::join(problem_list(problems), ", ")); }

std::string_view to_string(Damage damage) {
  switch (damage) {
    case Damage::none:
      return "none";
    case Damage::authored:
      return "authored";
    case Damage::placeholder:
      return "placeholder";
    case Damage::missing:
      return "missing";
    case Damage::no_ecc:
      return "no_ecc";
    case Damage::parity_only:
      return "parity_only";
    case Damage::damaged:
      return "damaged";
  }
  return "";
}

bool SectorReport::bad() const {
  if (damage == Damage::authored) return false;
  const unsigned harmless = kProblemReserved | (damage == Damage::none ? kProblemSubheader : 0u);
  return (problems & ~harmless) != 0;
}

SectorKind kind_of(SectorView s) {
  if (!has_sync(s)) return SectorKind::audio;
  const auto mode = header_mode(s);
  if (!mode) return kind_without_mode(s);
  if (*mode == 0) return SectorKind::mode0;
  return *mode == 1 ? SectorKind::mode1 : mode2_kind(s);
}

SectorReport examine(SectorView s, const SectorPlace& place) {
  SectorReport r;
  if (!has_sync(s)) {
    if (!is_data_with_damaged_sync(s, place)) return examine_without_sync(s, place);
    // Judge the rest as if the sync stood: Mode 1's EDC covers it.
    Sector mended;
    std::copy(s.begin(), s.end(), mended.begin());
    std::copy(kSync.begin(), kSync.end(), mended.begin());
    r = examine(mended, place);
    r.problems |= kProblemSync;
    return r;
  }
  const auto mode = header_mode(s);
  r.lba = header_lba(s);
  r.kind = kind_of(s);
  r.block_indicator = mode ? std::to_integer<int>(s[15]) >> 5 : 0;
  if (!mode) r.problems |= kProblemMode;
  if (!r.lba) r.problems |= kProblemHeader;
  if (r.lba && place.lba && *r.lba != *place.lba) r.problems |= kProblemAddress;
  if (r.kind == SectorKind::mode0) {
    if (!all_zero(s.subspan(16))) r.problems |= kProblemMode0NotZero;
    return r;
  }
  const bool mode2 = r.kind == SectorKind::mode2_form1 || r.kind == SectorKind::mode2_form2;
  if (mode2 && !subheaders_agree(s)) r.problems |= kProblemSubheader;
  if (r.kind == SectorKind::mode2_form2) {
    judge_form2(s, r);
  } else if (r.kind != SectorKind::mode2_formless && !is_sound(s, r.kind, place)) {
    judge_parity(s, r);
  }
  return r;
}

bool is_regenerable(SectorView s, Lba lba) {
  const SectorKind kind = kind_of(s);
  if (header_lba(s) != std::optional(lba)) return false;
  const std::byte mode_byte = s[15];
  if (kind == SectorKind::mode1) return mode_byte == std::byte{1} && parity_is_right(s, kind);
  if (kind == SectorKind::mode2_form1) {
    constexpr std::array<std::uint8_t, 5> kOrdinary = {0x00, 0x08, 0x09, 0x88, 0x89};
    const Subheader h = subheader(s);
    const bool ordinary = h.file == 0 && h.channel == 0 && h.coding == 0 &&
                          std::find(kOrdinary.begin(), kOrdinary.end(), h.submode) != kOrdinary.end();
    return ordinary && subheaders_agree(s) && mode_byte == std::byte{2} && parity_is_right(s, kind);
  }
  return kind == SectorKind::mode2_form2;
}

}  // namespace opifex::cd
