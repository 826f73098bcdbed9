/// Sectors of a medium, however they are reached: READ CD, READ(10), or plain reads of a device or file. What the dump
/// strategy works with; cartridge readers fit in here too.
#pragma once

#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <set>
#include <vector>

#include "opifex/core/cd/examine.hpp"
#include "opifex/core/dump/drive.hpp"
#include "opifex/core/io/file_descriptor.hpp"

namespace opifex::dump {

enum class RegionKind { data, audio, blocks };

/// Sectors of one kind that follow each other.
struct Region {
  cd::Lba first = 0, end = 0;
  RegionKind kind = RegionKind::blocks;
  int track = 0;
  cd::Lba index1 = 0;  ///< data tracks: before it other sectors may lie
  int mode = 1;        ///< data tracks: of their sectors, 1 or 2
};

/// What goes with the sectors, as far as it is asked for.
struct Extras {
  bool want_flags = false;                             ///< C2, if the drive has it
  bool flags_known = false;                            ///< it had
  std::vector<std::vector<cd::Erasure>> flagged = {};  ///< a list a sector
  Bytes subchannel = {};                               ///< 96 bytes a sector, interleaved, if the reader keeps it
  ByteView before = {};            ///< some audio sectors before the first, if known: the stream is joined to them
  ByteView after = {};             ///< some audio sectors behind the last, if known
  bool misplaced = false;          ///< the stream could not be joined
  std::vector<bool> lacking = {};  ///< by sector: silence stands where the drive could not reach; empty: nowhere
  bool past_buffer = false;        ///< ask the drive to read from the disc itself
};

struct ReadResult {
  std::uint32_t delivered = 0;  ///< sectors from the first on that count
  Trouble trouble = Trouble::none;
};

class SectorReader {
 public:
  virtual ~SectorReader() = default;
  virtual std::size_t sector_bytes() const = 0;
  /// Sectors one command reads; sectors that fail together (1 on a CD, 16 on a DVD).
  virtual std::uint32_t chunk() const = 0;
  virtual std::uint32_t unit() const { return 1; }
  /// Reads in order and stops at the first trouble. `out` holds `count` sectors.
  virtual ReadResult read(const Region& region, cd::Lba lba, std::uint32_t count, std::span<std::byte> out,
                          Extras* extras) = 0;
  /// 0: as fast as useful; each step slower, to the last.
  virtual void set_slowness(unsigned) {}
  virtual unsigned slowest() const { return 0; }
  /// Reads sectors for nothing but to have others pushed out of the drive's buffer. Returns how many came.
  virtual std::uint32_t skim(cd::Lba lba, std::uint32_t count) = 0;
  /// What must be read elsewhere before a sector is read from the medium again; 0: `forget` is enough.
  virtual std::uint64_t buffer_bytes() const { return 0; }
  virtual void forget(cd::Lba) {}
  /// True if audio may come shifted after a seek: then only `Extras::before` tells where it belongs.
  virtual bool jitters() const { return false; }
  /// True if music is moved into place, so that it must be told from data.
  virtual bool moves_music() const { return false; }
  /// How often the drive was reset, hung or had to be asked again so far: its buffer may be empty since.
  virtual std::uint64_t disturbances() const { return 0; }
  /// How often it was asked whether the disc is still the same.
  virtual std::uint64_t medium_checks() const { return 0; }
  /// After a time-out. False if the drive is lost.
  virtual bool recover() { return true; }
  virtual std::uint64_t clock_ms() const = 0;

 protected:
  /// One after the other by commands of at most `chunk` sectors: fewer, once the drive refuses so many. What fails is
  /// passed over. Returns how many came.
  using ReadSectors = std::function<Outcome(cd::Lba, std::uint32_t count, std::span<std::byte> out)>;
  std::uint32_t read_over(cd::Lba lba, std::uint32_t count, std::uint32_t& chunk, const ReadSectors& read) const;
};

struct CdReadOptions {
  int offset = 0;           ///< samples: the true sample i is sample i + offset of what is read
  bool subchannel = false;  ///< keep the 96 bytes of every sector
  unsigned top_kbs = 0;     ///< 0: 24x for data, 8x for audio
};

/// `audio` lists the disc's audio regions: an offset may reach from one into the next, never into data.
class CdReader final : public SectorReader {
 public:
  CdReader(Drive& drive, CdReadOptions options, std::vector<Region> audio, cd::Lba disc_end);
  std::size_t sector_bytes() const override { return cd::kRawBytes; }
  std::uint32_t chunk() const override { return chunk_; }
  ReadResult read(const Region& region, cd::Lba lba, std::uint32_t count, std::span<std::byte> out,
                  Extras* extras) override;
  void set_slowness(unsigned step) override;
  unsigned slowest() const override;
  std::uint32_t skim(cd::Lba lba, std::uint32_t count) override;
  std::uint64_t buffer_bytes() const override { return drive_.buffer_bytes(); }
  std::uint64_t disturbances() const override { return drive_.disturbances(); }
  std::uint64_t medium_checks() const override { return drive_.medium_checks(); }
  bool recover() override { return drive_.recover(); }
  bool jitters() const override { return drive_.facts().told && !drive_.facts().accurate_stream; }
  bool moves_music() const override { return options_.offset != 0 || jitters(); }
  std::uint64_t clock_ms() const override { return drive_.transport().clock_ms(); }

  bool has_c2() const { return c2_; }
  bool has_subchannel() const { return subchannel_; }
  /// Samples of all regions that the offset asked for and the drive could not reach: zeros stand for them.
  std::uint64_t unreachable_samples() const;

 private:
  bool takes(cd::Lba lba, CdParts parts);
  ReadResult read_raw(cd::Lba lba, std::uint32_t count, std::span<std::byte> out, Extras* extras, bool audio,
                      bool for_subchannel = false);
  ReadResult read_stream(cd::Lba lba, std::uint32_t count, std::span<std::byte> out, Extras* extras);
  ReadResult read_shifted(cd::Lba lba, std::uint32_t count, std::span<std::byte> out, Extras* extras);
  ReadResult read_joined(cd::Lba lba, std::uint32_t count, std::span<std::byte> out, Extras* extras);
  ReadResult read_audio(cd::Lba lba, std::uint32_t count, std::span<std::byte> out, Extras* extras);
  void read_subchannel(cd::Lba lba, std::uint32_t count, Extras& extras);
  bool in_audio(cd::Lba lba) const;

  Drive& drive_;
  CdReadOptions options_;
  std::vector<Region> audio_;
  cd::Lba disc_end_;
  std::uint32_t chunk_ = 27;
  bool c2_ = true, subchannel_ = false;
  bool audio_speed_ = false;
  unsigned step_ = 0;
  std::set<cd::Lba> unreached_;  // beyond the disc's ends: tried, and refused
};

/// DVD and Blu-ray: 2048-byte blocks.
class BlockReader final : public SectorReader {
 public:
  BlockReader(Drive& drive, std::uint32_t unit, unsigned top_kbs, unsigned one_x)
      : drive_(drive), unit_(unit), top_kbs_(top_kbs), one_x_(one_x) {}
  std::size_t sector_bytes() const override { return cd::kUserBytes; }
  std::uint32_t chunk() const override { return chunk_; }
  std::uint32_t unit() const override { return unit_; }
  ReadResult read(const Region& region, cd::Lba lba, std::uint32_t count, std::span<std::byte> out,
                  Extras* extras) override;
  void set_slowness(unsigned step) override;
  unsigned slowest() const override { return 3; }
  std::uint32_t skim(cd::Lba lba, std::uint32_t count) override;
  std::uint64_t buffer_bytes() const override { return drive_.buffer_bytes(); }
  std::uint64_t medium_checks() const override { return drive_.medium_checks(); }
  bool recover() override { return drive_.recover(); }
  std::uint64_t clock_ms() const override { return drive_.transport().clock_ms(); }

 private:
  Drive& drive_;
  std::uint32_t unit_, chunk_ = 32;
  unsigned top_kbs_, one_x_;
};

/// A block device or an image file by plain reads of 2048 bytes.
class DeviceReader final : public SectorReader {
 public:
  explicit DeviceReader(const std::filesystem::path& path);
  ~DeviceReader() override;
  DeviceReader(const DeviceReader&) = delete;
  DeviceReader& operator=(const DeviceReader&) = delete;
  std::uint64_t size_bytes() const { return size_; }
  std::size_t sector_bytes() const override { return cd::kUserBytes; }
  std::uint32_t chunk() const override { return 512; }
  ReadResult read(const Region& region, cd::Lba lba, std::uint32_t count, std::span<std::byte> out,
                  Extras* extras) override;
  std::uint32_t skim(cd::Lba, std::uint32_t count) override { return count; }
  void forget(cd::Lba lba) override;
  std::uint64_t clock_ms() const override;

 private:
  std::string name_;
  FileDescriptor fd_;
  std::uint64_t size_ = 0;
};

/// False for silence and music that repeats itself within the reach of any jitter: it fits in several places.
bool tells_its_place(ByteView samples);

/// By how many bytes `stream` lies behind where `reference` says it should: the place of `reference` around
/// `expected` in it, minus `expected`; at most `reach` bytes off, in whole samples. Nothing if it is not there, or if
/// it fits in several places.
std::optional<std::ptrdiff_t> find_join(ByteView stream, ByteView reference, std::size_t expected, std::size_t reach);

}  // namespace opifex::dump
