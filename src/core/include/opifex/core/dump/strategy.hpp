/// In which order the sectors of a medium are read, and what is done about those that resist: the good parts first,
/// then the holes, then each bad sector again and again, slower and slower.
#pragma once

#include <functional>
#include <map>
#include <mutex>
#include <set>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/check/combine.hpp"
#include "opifex/core/check/sample_votes.hpp"
#include "opifex/core/dump/buffer_model.hpp"
#include "opifex/core/dump/store.hpp"

namespace opifex::dump {

struct StrategyOptions {
  unsigned passes = 8;                          ///< rounds over the damaged sectors
  std::uint64_t give_up_after_ms = UINT64_MAX;  ///< drive time spent on damaged sectors
  std::uint64_t save_every_ms = 5000;           ///< wall time
  std::set<cd::Lba> link_blocks = {};           ///< unreadable by nature on discs written track at once
  /// Applied to sectors as they come, before they are stored (decryption); many threads.
  std::function<void(cd::Lba, std::span<std::byte>)> transform = {};
};

struct SpeedSample {
  cd::Lba lba = 0;
  double kbs = 0;  ///< kB/s of 1000 bytes, drive time
};

struct DumpStats {
  std::vector<SpeedSample> speeds = {};             ///< of the first pass, a few hundred at most
  std::map<unsigned, std::uint64_t> given_up = {};  ///< sectors that stayed bad or unsure, by the same count
  std::map<unsigned, std::uint64_t> readings = {};  ///< damaged sectors by how often they were read in the end
  std::uint64_t flagged_sectors = 0;                ///< with C2
  std::uint64_t hangs = 0, drive_ms = 0;
  std::optional<cd::Lba> ended_at = {};  ///< the drive can read nothing from here on
  std::uint64_t in_buffer = 0;  ///< sectors without a checksum that could not be read past the drive's buffer again
  std::uint64_t lacking = 0;    ///< sectors of music with samples where the drive cannot reach
};

struct WindowReading;

class Strategy {
 public:
  /// `save` stores the state; it is called now and then, never while sectors are under way to the store.
  Strategy(SectorReader& reader, DumpStore& store, SectorMap& map, StrategyOptions options, std::function<void()> save,
           JobContext& context);

  /// Reads everything the map calls untried, tries the rest again, fills what stays lost. May be stopped at any time by
  /// an Error: the map then says how far it came.
  void run();
  /// Reads some of what is known again. Error (device, "medium_changed") if the disc in the drive has something else
  /// there. Called by the thread that reads, between two commands.
  void confirm_medium();
  /// Sectors that were read before the run: the drive may still hold them.
  void suppose_read(cd::Lba lba, std::uint32_t count) { buffer_.suppose(lba, count); }
  /// So that the next reading of `lba` comes from the disc, after a seek.
  void read_elsewhere(cd::Lba lba) { push_out(lba, lba + 1); }
  /// What is known before the first sector is read: as the reader delivers it, before any transformation.
  void add_witness(cd::Lba lba, Bytes sector);
  const DumpStats& stats() const { return stats_; }
  const std::map<cd::Lba, std::vector<cd::Erasure>>& suspect_bytes() const { return suspects_; }

 private:
  struct Bad {
    std::vector<Reading> readings = {};  ///< of data, distinct ones
    SampleVotes votes = {};              ///< of music
    unsigned needed = 2;                 ///< readings that must agree
    bool anchored = false;               ///< its place was looked for without neighbours
    bool only_buffered = false;          ///< it could not be shown that another reading would come from the disc
    unsigned tries = 0, hangs = 0, round = 0;
  };
  struct Batch;
  class FirstPass;
  struct Witness {
    cd::Lba lba = 0;
    Bytes sector;
  };

  const Region* region_of(cd::Lba lba) const;
  // The map is asked by the thread that reads while another fills it.
  SectorState state_of(cd::Lba lba) const;
  std::vector<StateRange> ranges() const;
  void set_state(cd::Lba first, cd::Lba end, SectorState state);
  std::vector<Region> untried() const;
  void first_pass(const Region& todo);
  void audio_pass(const Region& todo);
  cd::Lba place_stream(const Region& todo, cd::Lba at, cd::Lba end);
  bool anchor_stream(const Region& todo, cd::Lba first, cd::Lba end);
  void audio_window(const Region& todo, cd::Lba first, std::uint32_t count);
  void read_window(const Region& todo, cd::Lba first, WindowReading& reading);
  void take_unsure(cd::Lba lba, std::size_t place, const std::vector<WindowReading>& readings);
  void take_window(const Region& todo, cd::Lba first, const std::vector<WindowReading>& readings);
  bool counts_if_repeated(cd::SectorView s) const;
  void judge_links();
  void add_unchecked(cd::Lba first, cd::Lba end);
  using Runs = std::map<cd::Lba, cd::Lba>;  // first -> end
  Runs joined(const Runs& runs) const;
  void second_reading(const Region& todo);
  cd::Lba read_again(const Region& todo, cd::Lba at, cd::Lba to, const Runs& runs);
  void hole(const Region& hole);
  bool try_single(const Region& region, cd::Lba lba);
  void retry_round(unsigned round);
  void retry(const Region& region, cd::Lba lba);
  void retry_runs(const Region& region, cd::Lba lba, unsigned round);
  bool place_again(const Region& region, cd::Lba first, cd::Lba end);
  using BadSectors = std::map<cd::Lba, Bad>;
  void leave_out_of_reach(BadSectors::iterator at);
  void vote(const Region& region, BadSectors::iterator at, ByteView sector, const std::vector<cd::Erasure>& flagged,
            bool counts);
  void count_failure(cd::Lba lba, Trouble trouble);
  cd::Lba pass_unreadable(const Region& region, cd::Lba first, cd::Lba end);
  cd::Lba retry_music(const Region& region, cd::Lba first, cd::Lba end);
  void take_retried(const Region& region, cd::Lba lba, ByteView sector);
  void accept(const Region& region, cd::Lba lba, ByteView sector, SectorState state);
  void finish_bad();
  void settle(const Region& region, cd::Lba lba, Bad& bad);
  void finish_one(const Region& region, cd::Lba lba, Bad& bad);
  void fill(const Region& region, cd::Lba lba, std::span<std::byte> out) const;
  bool given_up() const;
  void maybe_save();
  void note_speed(cd::Lba lba, std::uint64_t bytes);
  void keep(cd::Lba lba, const Reading& reading);
  cd::Lba most_together(std::uint64_t wanted) const;
  /// Sectors that are not to be touched: [first, end).
  using Holes = std::vector<std::pair<cd::Lba, cd::Lba>>;
  std::vector<StateRange> elsewhere(const Holes& holes) const;
  bool push_out(cd::Lba first, cd::Lba end);
  bool push_out_once(const Holes& holes);
  bool read_through(const Holes& holes);
  void make_another_likely(cd::Lba lba);
  bool push_out_in_laps(const Holes& holes, std::uint64_t most_laps);
  enum class Trial { open, quick, as_told, larger };
  class Ring;
  bool read_over(const Ring& ring, cd::Lba place, cd::Lba count);
  Trial try_buffer(const Ring& ring, cd::Lba place, cd::Lba length);
  static std::vector<cd::Lba> places_for_trials(const Ring& ring, cd::Lba length);
  Trial try_length(const Ring& ring);
  bool knows_buffer();
  std::optional<std::uint64_t> time_of(cd::Lba lba);
  bool is_fresh(cd::Lba first, cd::Lba end);
  std::uint64_t others_bytes(cd::Lba first, cd::Lba end) const;
  bool make_fresh(cd::Lba first, cd::Lba end);
  bool make_fresh(cd::Lba first, cd::Lba end, cd::Lba apart);
  void suppose_around(cd::Lba lba, std::uint32_t count);
  void skim_blocks(cd::Lba first, cd::Lba end);
  void watch(const Region& region, cd::Lba lba, ByteView sectors);
  bool is_witness(const Region& region, cd::Lba lba, ByteView sector) const;
  Bytes reference(const Region& region, cd::Lba first, cd::Lba end) const;
  Bytes audio_before(const Region& region, cd::Lba lba) const;
  Bytes audio_after(const Region& region, cd::Lba lba) const;
  ReadResult read(const Region& region, cd::Lba lba, std::uint32_t count, std::span<std::byte> out, Extras* extras);
  ReadResult read_of_one_disc(const Region& region, cd::Lba lba, std::uint32_t count, std::span<std::byte> out,
                              Extras* extras);

  SectorReader& reader_;
  DumpStore& store_;
  SectorMap& map_;
  StrategyOptions options_;
  std::function<void()> save_;
  JobContext& context_;
  mutable std::mutex map_mutex_;
  DumpStats stats_;
  BadSectors bad_;
  std::map<cd::Lba, std::vector<cd::Erasure>> suspects_;
  Runs unchecked_;                            // of data without a checksum, read once
  std::vector<Witness> witnesses_, watched_;  // given, and taken on the way; of the thread that reads
  std::size_t kept_ = 0;                      // readings held in memory
  BufferModel buffer_;                        // of the thread that reads
  bool trusts_buffer_ = false;                // its length was held against the clock
  bool distrusts_buffer_ = false;             // it cannot be
  std::vector<bool> fresh_;                   // of the last reading: which of its sectors came from the disc
  std::uint64_t retries_from_ms_ = 0;
  std::uint64_t sampled_ms_ = 0, sampled_bytes_ = 0;
  std::uint64_t saved_at_ms_ = 0;
};

/// Is a sector of a data track what it should be?
enum class Soundness {
  proved,
  unchecked,  ///< nothing is wrong, but no checksum says that it is right: it counts once it was read twice
  bad
};
Soundness soundness(const Region& region, cd::Lba lba, cd::SectorView s);

}  // namespace opifex::dump
