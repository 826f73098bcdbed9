/// An optical drive by its commands (MMC-6, SPC-4): typed requests, replies read with bounds, the waiting and repeating
/// that every command may need.
#pragma once

#include <functional>
#include <optional>
#include <string>

#include "opifex/core/cd/address.hpp"
#include "opifex/core/dump/sense.hpp"

namespace opifex::dump {

struct DriveFacts {
  std::string vendor = {}, product = {}, revision = {};
  unsigned buffer_kib = 0;       ///< 0: not told
  unsigned top_speed_kbs = 0;    ///< kB/s of 1000 bytes; 0: not told
  bool accurate_stream = false;  ///< audio does not jitter after a seek
  bool told = false;             ///< mode page 2A was answered
  std::string name() const;
};

/// What became of a command. Troubles that end a dump are thrown as Errors.
struct Outcome {
  Trouble trouble = Trouble::none;
  std::optional<std::uint32_t> failed_lba = {};
  std::size_t bytes = 0;  ///< of the buffer, that count
  std::string text = {};  ///< of the trouble, for messages
  bool ok() const { return trouble == Trouble::none; }
};

/// Expected sector type and parts of READ CD (MMC-6, 6.21): all fields of a sector, and what goes with it.
enum class SubchannelPart {
  none,
  q,   ///< 16 bytes, the first 12 of them Q (MMC-6, table 351)
  raw  ///< 96 bytes P to W, interleaved
};
struct CdParts {
  bool c2 = false;  ///< 294 bytes of pointers behind the sector
  SubchannelPart subchannel = SubchannelPart::none;
  bool as_audio = false;  ///< even if it is data: scrambled, and where the drive places music. Many refuse
  std::size_t subchannel_bytes() const;
  std::size_t bytes() const;
};
inline constexpr std::size_t kC2Bytes = 294, kFormattedQBytes = 16;

/// kB/s of 1x.
inline constexpr unsigned kCdSpeed = 176, kDvdSpeed = 1385, kBdSpeed = 4496;
/// 1x of a CD is 176.4: rounded up, so that a drive that takes the next step below does not fall by a whole one.
constexpr unsigned cd_speed(unsigned times) { return (times * 1764 + 9) / 10; }

class Drive {
 public:
  explicit Drive(DriveTransport& transport) : transport_(transport) {}

  /// INQUIRY, and waits until a disc is ready. Error: not an optical drive, no_medium, not_ready.
  void make_ready();
  /// True once a disc is in the drive, without waiting for it.
  bool has_medium();
  const DriveFacts& facts() const { return facts_; }

  /// Called before anything is believed that was read after the drive said that the disc may have been changed, was
  /// not ready for a while, was reset, or hung; throws if it is another disc.
  void on_change(std::function<void()> check) { check_medium_ = std::move(check); }

  std::optional<Bytes> configuration();
  std::optional<Bytes> toc(int format, int first);  ///< READ TOC, times as MSF for format 2
  std::optional<Bytes> dvd_structure(int media, int layer, int format);
  std::optional<std::string> catalogue();      ///< 13 digits
  std::optional<std::string> isrc(int track);  ///< 12 characters
  struct Capacity {
    std::uint64_t blocks;
    std::uint32_t block_bytes;
  };
  std::optional<Capacity> capacity();

  /// Sectors as on the disc. Ends at the first that fails.
  Outcome read_cd(cd::Lba lba, std::uint32_t count, CdParts parts, std::span<std::byte> out);
  /// 2048-byte blocks, past the drive's buffer if `force_unit_access` and the drive obeys.
  Outcome read_blocks(std::uint32_t lba, std::uint32_t count, std::span<std::byte> out, bool force_unit_access);

  /// Sectors that read_cd() was asked for so far, in order.
  const std::vector<std::pair<cd::Lba, std::uint32_t>>& read_so_far() const { return read_so_far_; }
  void stop_recording() { records_ = false; }
  /// What must be read elsewhere before a repeat comes from the disc: the drive's buffer and some more.
  std::uint64_t buffer_bytes() const;
  /// Commands so far that had to be sent again, or did not end.
  std::uint64_t disturbances() const { return disturbances_; }
  /// How often it was asked whether the disc is still the same.
  std::uint64_t medium_checks() const { return medium_checks_; }
  void set_speed(unsigned kbs);  ///< the drive takes the nearest step below; 0: its fastest
  void lock_tray(bool locked);
  void eject();
  /// After a command that did not end: waits until the drive answers, at most 90 s. False if it does not.
  bool recover();

  DriveTransport& transport() { return transport_; }

 private:
  Outcome run(ByteView cdb, DataDirection direction, std::span<std::byte> buffer, std::uint32_t timeout_ms);
  bool settle(const CommandReply& reply, Trouble trouble, struct Patience& patience);
  void confirm_medium();
  std::optional<Bytes> query(ByteView cdb, std::size_t room);
  void read_facts();
  [[noreturn]] void stop(const char* code, std::string what, const CommandReply& reply, std::string hint) const;

  DriveTransport& transport_;
  DriveFacts facts_;
  std::function<void()> check_medium_;
  bool checking_ = false, doubtful_ = false;
  std::optional<unsigned> speed_;
  std::vector<std::pair<cd::Lba, std::uint32_t>> read_so_far_ = {};  // until the dump itself begins
  bool records_ = true;
  std::uint64_t disturbances_ = 0, medium_checks_ = 0;
};

}  // namespace opifex::dump
