/// What a raw sector is, what is wrong with it, and mending it (ECMA-130, 14 and Annex A; CD-ROM XA).
#pragma once

#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "opifex/core/cd/sector.hpp"

namespace opifex::cd {

/// What a check can find; one bit each.
enum Problem : unsigned {
  kProblemSync = 1,        ///< sync damaged or lost
  kProblemHeader = 2,      ///< header is no BCD time
  kProblemAddress = 4,     ///< header differs from the sector's place
  kProblemMode = 8,        ///< mode byte invalid
  kProblemSubheader = 16,  ///< the two copies differ
  kProblemEdc = 32,
  kProblemEcc = 64,
  kProblemReserved = 128,  ///< Mode 1's 8 zero bytes are used; no damage if EDC and ECC fit
  kProblemMode0NotZero = 256,
};
/// "sync, edc, ecc"
std::string problem_names(unsigned problems);
std::vector<std::string_view> problem_list(unsigned problems);

enum class Damage {
  none,
  authored,     ///< EDC wrong but every P and Q word right: mastered so, never to be "repaired"
  placeholder,  ///< one repeated byte where data should be: a dumping tool's filler, data is lost
  missing,      ///< 2352 zeros between data sectors: never read
  no_ecc,       ///< EDC right, parity all zero: a writer without ECC
  parity_only,  ///< EDC right, parity wrong
  damaged
};
std::string_view to_string(Damage damage);

struct SectorReport {
  SectorKind kind = SectorKind::audio;
  bool sync_lost = false;  ///< in a data track, and no data sector can be recognised
  unsigned problems = 0;
  Damage damage = Damage::none;
  std::optional<Lba> lba = {};   ///< from the header
  bool edc_absent = false;       ///< Form 2 without EDC, which is legal
  bool ecc_over_header = false;  ///< Form 1 whose ECC was made with the header: a known writer fault
  int block_indicator = 0;       ///< of recordable discs, 0 in user data
  /// True if a check should call the sector bad. Authored sectors and used reserved bytes are not.
  bool bad() const;
};

/// Where the sector stands.
struct SectorPlace {
  std::optional<Lba> lba = {};  ///< its place on the disc, if known
  bool in_data_track = false;
  /// P and Q were computed of these very bytes, with a Mode 2 header as zeros: they are not computed again.
  bool parity_made = false;
};

/// Full diagnosis. Sound sectors cost one parity check; others are looked at word by word.
SectorReport examine(SectorView s, const SectorPlace& place);

/// The kind by sync, mode byte and subheader alone, the EDC asked only if the subheader copies differ; audio if there
/// is no sync. For sectors that are going to be decoded rather than judged.
SectorKind kind_of(SectorView s);

/// A range of bytes known to be bad, for example where two dumps differ: offsets in the sector, both inclusive.
struct Erasure {
  std::size_t first, last;
};

/// Writes the mended sector into `s` and returns true if at the end the EDC fits and all P words are clean; otherwise
/// returns false and `s` stays as it was. Authored sectors, placeholders and Form 2 data are never touched.
bool repair(SectorSpan s, const SectorPlace& place, std::span<const Erasure> known_bad = {});

/// True if the sector is byte for byte what its user data, the given address and (Mode 2) its subheader regenerate, and
/// the subheader is an ordinary one (file 0, channel 0, coding 0, submode 00, 08, 09, 88, 89). Form 2: address only.
bool is_regenerable(SectorView s, Lba lba);

}  // namespace opifex::cd
