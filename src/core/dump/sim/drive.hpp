/// The simulated drive: state that lasts between commands, and the commands by group.
#pragma once

#include <atomic>
#include <fstream>
#include <map>
#include <memory>
#include <optional>

#include "faults.hpp"
#include "medium.hpp"

namespace opifex::dump {

// Sense data it answers with: key, additional code and its qualifier (SPC-4, 4.5.6).
constexpr std::uint32_t kNotFound = 0x030200, kBadField = 0x052400, kWrongType = 0x056400, kOutOfRange = 0x052100,
                        kUnknownCommand = 0x052000, kNewMedium = 0x062800, kEjectPressed = 0x065A01, kReset = 0x062900,
                        kNoMedium = 0x023A02, kBecomingReady = 0x020401;

/// Byte `i` of a command; 0 behind its end.
inline int byte_of(ByteView cdb, std::size_t i) { return i < cdb.size() ? std::to_integer<int>(cdb[i]) : 0; }

class SimulatedDrive final : public DriveTransport {
 public:
  SimulatedDrive(SimDescription description, std::string name);

  CommandReply execute(ByteView cdb, DataDirection direction, std::span<std::byte> buffer,
                       std::uint32_t timeout_ms) override;
  void wait(std::uint32_t ms) override { advance(ms); }
  std::uint64_t clock_ms() const override { return clock_ms_; }
  std::string name() const override { return name_; }

 private:
  /// What a READ asks for, sector by sector.
  struct ReadJob {
    cd::Lba lba = 0;
    std::uint32_t count = 0;
    std::size_t main_bytes = 0;  // 2352, or 2048 of user data
    std::size_t c2_bytes = 0, sub_bytes = 0;
    bool as_audio = false;  // data read as CD-DA
    bool fua = false;
    std::size_t each() const { return main_bytes + c2_bytes + sub_bytes; }
  };

  // drive.cpp
  CommandReply run(ByteView cdb, std::span<std::byte> buffer);
  void log(ByteView cdb, const CommandReply& reply);
  std::optional<CommandReply> pending();
  void advance(std::uint64_t ms);
  CommandReply fail(std::uint32_t sense, std::optional<cd::Lba> lba = {}, std::size_t transferred = 0) const;
  static CommandReply answer(ByteView data, std::size_t allocation, std::span<std::byte> buffer);
  void load_next();

  // read.cpp
  CommandReply read_blocks(ByteView cdb, std::span<std::byte> buffer);
  CommandReply read_cd(ByteView cdb, std::span<std::byte> buffer);
  std::optional<std::uint32_t> refuse_range(cd::Lba lba, std::uint32_t count) const;
  CommandReply read(const ReadJob& job, std::span<std::byte> buffer);
  CommandReply read_clean(const ReadJob& job, std::span<std::byte> buffer);
  std::optional<CommandReply> event(const SectorFate& fate, cd::Lba lba, std::size_t transferred);
  const SectorFate& sector_fate(cd::Lba lba, const ReadJob& job);
  const SectorFate& group_fate(cd::Lba lba, const ReadJob& job);
  cd::Lba group_sectors() const;
  void read_group(cd::Lba first);
  void physical(cd::Lba first, cd::Lba end);
  void fill(cd::Lba lba, const ReadJob& job, const SectorFate* fate, std::span<std::byte> out) const;
  std::uint64_t transfer_ms(std::uint32_t sectors) const;
  unsigned slower_steps() const;

  // replies.cpp
  CommandReply inquiry(ByteView cdb, std::span<std::byte> buffer) const;
  CommandReply configuration(ByteView cdb, std::span<std::byte> buffer) const;
  CommandReply capacity(std::span<std::byte> buffer) const;
  CommandReply toc(ByteView cdb, std::span<std::byte> buffer) const;
  CommandReply subchannel(ByteView cdb, std::span<std::byte> buffer) const;
  CommandReply disc_information(ByteView cdb, std::span<std::byte> buffer) const;
  CommandReply track_information(ByteView cdb, std::span<std::byte> buffer) const;
  CommandReply mode_sense(ByteView cdb, std::span<std::byte> buffer) const;
  CommandReply dvd_structure(ByteView cdb, std::span<std::byte> buffer) const;
  CommandReply event_status(ByteView cdb, std::span<std::byte> buffer) const;

  SimDescription d_;
  std::string name_;
  std::unique_ptr<SimMedium> medium_;  // null: no disc
  std::size_t disc_ = 0;               // which of the list lies in the drive
  SimFaults faults_;
  SimCache cache_;
  std::map<cd::Lba, std::uint64_t> attempts_;  // physical readings so far of sectors with defects
  std::map<cd::Lba, SectorFate> fates_;        // of the last physical reading: what the buffer repeats
  std::vector<std::uint32_t> attention_;       // senses to report first
  std::atomic<std::uint64_t> clock_ms_ = 0;    // asked from other threads too
  std::uint64_t ready_at_ = 0;
  double owed_ms_ = 0;        // of real time, not slept yet
  unsigned speed_ = 0;        // kB/s
  cd::Lba head_ = -1000;      // sector behind the last one read
  int shift_ = 0;             // jitter of the stream since the last seek
  cd::Lba past_buffer_ = -1;  // the group the running command read past the buffer
  std::uint64_t seeks_ = 0;
  bool dead_ = false, spun_up_ = false;
  std::uint64_t extra_ms_ = 0;  // of the running command
  std::ofstream log_;
};

}  // namespace opifex::dump
