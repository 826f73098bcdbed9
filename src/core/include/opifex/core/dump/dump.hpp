/// From a medium to an image: what is there, what will be written, reading it, and what came of it.
#pragma once

#include <filesystem>
#include <memory>
#include <optional>
#include <set>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/check/prove.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/core/dump/disc_layout.hpp"
#include "opifex/core/dump/strategy.hpp"
#include "opifex/core/platforms/ps3_disc.hpp"

namespace opifex::dump {

struct DumpRequest {
  std::string source;              ///< "/dev/sr0", "sim:drive.toml", a block device, an image of blocks
  std::filesystem::path out;       ///< a folder, or the leading file
  const Format* format = nullptr;  ///< null: by the name of `out`, else cue for CDs and iso for the rest
  std::set<std::string> accepted = {};
  std::optional<int> offset = {};  ///< read offset correction, samples; unknown: none is made
  bool subchannel = false;
  unsigned top_speed = 0;  ///< in x; 0: as fast as useful
  unsigned passes = 8;
  std::uint64_t give_up_after_ms = UINT64_MAX, save_every_ms = 5000;
  std::filesystem::path key_file = {};
  bool restart = false;         ///< throw an unfinished dump away
  bool prove = false;           ///< read the image again and compare it with what came from the disc
  bool name_by_serial = false;  ///< in a folder: add the serial if the name is taken
  std::vector<std::string> hashes = {"crc32", "md5", "sha1"};
  Existing existing = Existing::keep;
  InputFiles inputs = {};        ///< what the job reads beside the disc: never written
  std::string file_system = {};  ///< rules of the target drive; empty: found out
};

/// Everything known before the first sector is read.
struct DumpPlan {
  std::string source;
  Medium medium;
  cd::Layout layout = {};  ///< CDs
  std::vector<Region> regions = {};
  const Format* format = nullptr;
  std::filesystem::path lead;            ///< the leading output
  std::filesystem::path map = {};        ///< beside it, of a dump that is not intact: the states of all sectors
  std::vector<PlannedFile> files = {};   ///< all outputs
  std::optional<int> offset = {};        ///< samples that are taken out of the music; nothing: not told
  std::optional<int> found_offset = {};  ///< by how many the music comes late, where that shows
  TargetFacts target = {};
  std::vector<Loss> losses = {};
  double expected_seconds = 0;  ///< of drive time, if nothing is damaged
  std::optional<Ps3Disc> ps3 = {};
  bool decrypts = false;
  std::optional<double> resumes_at = {};  ///< share read already by an unfinished dump of this disc
  std::uint64_t sectors() const;
  std::uint64_t sector_bytes() const;
};

enum class DumpVerdict {
  intact,  ///< every sector was verified, or confirmed by a second reading where it has no checksum
  unsure,  ///< some audio sectors read differently each time
  damaged  ///< some sectors are lost
};
std::string_view to_string(DumpVerdict verdict);

struct TrackHashes {
  int number = 0;
  std::uint64_t sectors = 0;
  std::vector<NamedHash> hashes = {};
};

struct DumpResult {
  DumpVerdict verdict = DumpVerdict::intact;
  SectorMapFile map;
  DumpStats stats;
  std::vector<WrittenFile> outputs;
  std::vector<NamedHash> hashes;    ///< of all sectors, one behind the other, as read back from the drive they went to
  std::vector<TrackHashes> tracks;  ///< each with its pregap, as the known lists have them
  std::vector<Warning> warnings;
  Proof proof;
  std::vector<std::string> hit_files = {};  ///< files of the disc's file systems with sectors that are lost
  std::vector<FileHit> suffered = {};       ///< the same, by file
  bool files_known = false;                 ///< its directories could be read whole: no other file is hit
  std::uint64_t unreachable_samples = 0;
  std::uint64_t subchannel_missing = 0;  ///< sectors whose subchannel was asked for and never came
  double seconds = 0;                    ///< wall time of this run
  bool resumed = false;
};

class Dump {
 public:
  /// Opens the source and looks at the medium. Error if there is none, or none that can be dumped.
  explicit Dump(DumpRequest request);
  /// From a drive that is open already; it must outlive the dump.
  Dump(DumpRequest request, DriveTransport& transport);
  ~Dump();
  Dump(const Dump&) = delete;
  Dump& operator=(const Dump&) = delete;
  const DumpPlan& plan() const { return plan_; }
  /// What the job reads: those of the request, and the files of a simulated drive. None of them is ever written.
  const InputFiles& inputs() const { return request_.inputs; }
  /// Error if the plan runs into a wall: a loss not accepted, an existing file, a drive too small or of the wrong kind,
  /// an unfinished dump of another disc.
  void check_plan() const;
  /// Reads, verifies, writes. Interrupted by an Error it leaves its working files, and the next run goes on from there.
  DumpResult run(JobContext& context);

 private:
  struct Parts;
  Dump(DumpRequest request, DriveTransport* transport);
  void open_source();
  void guard_plan();
  void look_for_offset();
  void remember_blocks();
  void plan_cd();
  void plan_blocks();
  void plan_outputs();
  Image image_of(SourcePtr data) const;
  SectorMapFile fresh_state() const;
  std::optional<SectorMapFile> saved_state() const;
  void refuse_other(const SectorMapFile& saved) const;
  void distrust_state(const DumpStore& store, SectorMap& map) const;
  void compare_samples(const DumpStore& store, SectorMap& map, Strategy& strategy);
  std::optional<bool> compare_sample(const DumpStore& store, cd::Lba lba, Strategy& strategy);
  std::optional<bool> reads_alike(const DumpStore& store, const Region& region, cd::Lba lba, cd::Lba n,
                                  Strategy& strategy);
  void compare_edges(const DumpStore& store, SectorMap& map, Strategy& strategy);
  void find_files_hit(const Image& image, const SectorMap& map, DumpResult& result) const;
  std::uint64_t read_missing_subchannel(DumpStore& store, JobContext& context);
  void guard_medium(Strategy& strategy);
  StrategyOptions strategy_options() const;
  void prepare(Strategy& strategy, const DumpStore& store, SectorMap& map, bool resumed);
  [[noreturn]] void stopped(const Error& e, const SectorMap& map, const WorkingFiles& files) const;
  void cut_to(cd::Lba ended, DumpStore& store, SectorMap& map, DumpResult& result);
  void complete_subchannel(DumpStore& store, DumpResult& result, JobContext& context);
  void warn_of_drive(const DumpStats& stats, DumpResult& result) const;
  Conversion plan_image(const Image& image, const ConvertRequest& request, JobContext& context);
  WriteJob write_job(const WritePlan& plan, const WorkingFiles& files, std::uint64_t data_bytes) const;
  void correct_modes(DumpStore& store, const SectorMap& map);
  DumpResult finish(DumpStore& store, SectorMapFile state, DumpStats stats, JobContext& context);

  DumpRequest request_;
  DumpPlan plan_;
  std::unique_ptr<Parts> parts_;
};

/// Waits until a disc lies in the drive; false if `stop` came first. For `dump --next`.
bool wait_for_disc(DriveTransport& transport, const std::stop_token& stop);

void eject(DriveTransport& transport);

/// "sim:FILE.toml" or a device.
std::unique_ptr<DriveTransport> open_drive(const std::string& source);

}  // namespace opifex::dump
