/// The stand-in: a simulated drive that answers the command blocks of a real one, from a disc image and a list of
/// defects. Everything random follows from a seed, the sector and the number of the reading, never from the order of
/// calls. docs/simulated-drive.md describes the file.
#pragma once

#include <filesystem>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/cd/layout.hpp"
#include "opifex/core/dump/transport.hpp"

namespace opifex::dump {

enum class SimKind { cd, dvd, bd };
enum class SimSubchannel { raw, q, none };

struct SimFeatures {
  std::string vendor = "LANTERN", product = "STANDIN", revision = "0.01";
  SimKind kind = SimKind::cd;
  std::vector<unsigned> speeds = {176, 706, 1411, 4234};  ///< kB/s, ascending
  unsigned cache_kib = 256, readahead = 32;               ///< readahead in sectors
  std::optional<unsigned> cache_told_kib = {};            ///< what mode page 2A says of it; absent: the truth
  bool fua = false, c2 = true;
  double c2_reports = 1.0;  ///< share of wrong bytes that are flagged
  SimSubchannel subchannel = SimSubchannel::raw;
  int subchannel_lag = 0;  ///< Q belongs to the sector so many before
  bool accurate_stream = true, cdda_on_data = false, strict_type = true, overread = false;
  int read_offset = 0;  ///< samples
  unsigned max_blocks = 27;
  bool sense_lba = true, get_configuration = true, full_toc = true;
};

struct SimTiming {
  unsigned command_ms = 1, seek_ms = 110, spinup_ms = 2000, error_ms = 4000;
  double pace = 0;  ///< real milliseconds for each simulated one: 0 never waits, 1 is as slow as a drive
};

struct SimTrack {
  int number = 1, control = 4;
  cd::TrackMode::Kind mode = cd::TrackMode::Kind::mode1;
  std::filesystem::path file = {};  ///< raw sectors; empty: `sectors` made from the seed
  std::uint32_t sectors = 0, pregap = 0;
  std::string isrc = {};
};

struct SimDisc {
  int profile = 8;
  std::string mcn = {};
  std::filesystem::path cdtext = {};                 ///< packs as a drive returns them, without header
  int write_offset = 0;                              ///< samples
  std::filesystem::path image = {};                  ///< any image this program reads ...
  std::vector<std::vector<SimTrack>> sessions = {};  ///< ... or its tracks one by one
  std::uint32_t layer0_sectors = 0;                  ///< DVD: 0 = one layer
  std::uint32_t toc_excess = 0;                      ///< sectors the table of contents and the capacity claim too many
};

enum class DefectKind {
  unreadable,
  weak,
  after,
  slow_only,
  c2,
  silent,
  jitter,
  slow,
  hang,
  dead,
  eject,
  swap,
  edge,
  q_bad,
  q_fixed,
  brief,
  retry_sense
};

struct SimDefect {
  DefectKind kind = DefectKind::unreadable;
  cd::Lba first = 0, last = 0;
  std::uint32_t sense = 0x031105;  ///< key, asc, ascq
  double p = 1.0;
  bool halving = true, fixed = false;
  unsigned n = 1, kbs = 0, bytes = 1, max = 0, ms = 0, count = 1;
  std::vector<Bytes> frames = {};  ///< q_fixed: 12 bytes each
};

struct SimDescription {
  std::uint64_t seed = 1;
  SimFeatures drive = {};
  std::vector<std::uint32_t> unit_attention = {};  ///< senses reported first
  unsigned becoming_ready_ms = 0;
  bool medium = true;
  std::filesystem::path log = {};  ///< every command is appended to it
  SimTiming timing = {};
  std::vector<SimDisc> discs = {};  ///< the first is in the drive; each eject brings the next
  std::vector<SimDefect> defects = {};
};

/// Relative paths count from the file's folder. Error "bad_simulation" with the line or key.
SimDescription load_simulation(const std::filesystem::path& file);

/// Every file its discs are made of: they are read as long as the drive is.
std::vector<std::filesystem::path> simulation_files(const SimDescription& description);

std::unique_ptr<DriveTransport> simulate_drive(SimDescription description, std::string name);

/// The draw of a reading: 64 bits from seed, sector, number of the reading (from 0) and place of the defect in the list
/// (from 1); `next` continues the sequence.
std::uint64_t sim_mix(std::uint64_t x);
std::uint64_t sim_draw(std::uint64_t seed, cd::Lba lba, std::uint64_t attempt, std::uint64_t salt);

}  // namespace opifex::dump
