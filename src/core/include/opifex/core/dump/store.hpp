/// Where sectors go while a dump runs: a file beside the target that keeps its place for every sector, and the state
/// that says which are there. Both stay when the dump is interrupted.
#pragma once

#include <filesystem>
#include <vector>

#include "opifex/core/check/sector_map.hpp"
#include "opifex/core/dump/reader.hpp"
#include "opifex/core/io/file_descriptor.hpp"

namespace opifex::dump {

/// Names beside the target, made from its stem.
struct WorkingFiles {
  std::filesystem::path data, subchannel, state;
  static WorkingFiles beside(const std::filesystem::path& target);
};

/// The sectors of all regions, one behind the other; the gaps between sessions take no room.
class DumpStore {
 public:
  /// Creates or opens the files. `regions` in disc order. Error (needs_word, "busy") if another dump writes them.
  DumpStore(WorkingFiles files, std::vector<Region> regions, std::size_t sector_bytes, bool subchannel);
  ~DumpStore();
  DumpStore(const DumpStore&) = delete;
  DumpStore& operator=(const DumpStore&) = delete;

  void write(cd::Lba lba, ByteView sectors);
  /// `blocks`: 96 bytes a sector as the drive gives them, interleaved; kept packed, as other programs expect.
  void write_subchannel(cd::Lba lba, ByteView blocks);
  /// Sectors of one region.
  void read(cd::Lba lba, std::span<std::byte> sectors) const;
  /// The 96 bytes of a sector, packed; zeros if they never came.
  Bytes read_subchannel(cd::Lba lba) const;
  /// Bytes from the start of the data file.
  std::uint64_t offset_of(cd::Lba lba) const;
  std::uint64_t size_bytes() const { return size_; }
  /// Data first, then the state: a state never claims what is not on the disk.
  void save(const SectorMapFile& state);
  void sync();
  /// Sets the files' length to the sectors before `end`.
  void cut(cd::Lba end);
  /// Removes what is left: after success, or to start over.
  void remove();

  const WorkingFiles& files() const { return files_; }
  const std::vector<Region>& regions() const { return regions_; }

 private:
  FileDescriptor open(const std::filesystem::path& path) const;
  void write_at(int fd, const std::filesystem::path& path, std::uint64_t at, ByteView bytes) const;

  WorkingFiles files_;
  std::vector<Region> regions_;
  std::size_t sector_bytes_;
  std::uint64_t size_ = 0, started_ = 0, written_ = 0;
  FileDescriptor data_, subchannel_;
};

}  // namespace opifex::dump
