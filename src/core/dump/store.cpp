#include "opifex/core/dump/store.hpp"

#include <algorithm>
#include <cerrno>

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/cd/subchannel.hpp"

namespace opifex::dump {

using cd::Lba;

WorkingFiles WorkingFiles::beside(const std::filesystem::path& target) {
  const auto named = [&](const char* extension) { return target.parent_path() / (target.stem().string() + extension); };
  return {named(".opifex-dump"), named(".opifex-dump-sub"), named(".opifex-dump-state")};
}

DumpStore::DumpStore(WorkingFiles files, std::vector<Region> regions, std::size_t sector_bytes, bool subchannel)
    : files_(std::move(files)), regions_(std::move(regions)), sector_bytes_(sector_bytes) {
  for (const Region& r : regions_) size_ += static_cast<std::uint64_t>(r.end - r.first) * sector_bytes_;
  std::error_code ignored;
  if (!files_.data.parent_path().empty()) std::filesystem::create_directories(files_.data.parent_path(), ignored);
  data_ = open(files_.data);
  if (::flock(data_, LOCK_EX | LOCK_NB) != 0 && errno == EWOULDBLOCK) {
    throw Error({.fault = Fault::needs_word,
                 .code = "busy",
                 .what = "another dump is writing this file",
                 .file = files_.data.string(),
                 .hint = "wait for it, or give another name with <out>"});
  }
  if (subchannel) subchannel_ = open(files_.subchannel);
}

DumpStore::~DumpStore() = default;

FileDescriptor DumpStore::open(const std::filesystem::path& path) const {
  FileDescriptor fd(::open(path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0666));
  if (fd < 0) throw_system_error("cannot create the dump", path.string(), errno);
  return fd;
}

std::uint64_t DumpStore::offset_of(Lba lba) const {
  std::uint64_t before = 0;
  for (const Region& r : regions_) {
    if (lba < r.end) return (before + static_cast<std::uint64_t>(std::max(0, lba - r.first))) * sector_bytes_;
    before += static_cast<std::uint64_t>(r.end - r.first);
  }
  return before * sector_bytes_;
}

void DumpStore::write_at(int fd, const std::filesystem::path& path, std::uint64_t at, ByteView bytes) const {
  while (!bytes.empty()) {
    const ssize_t n = ::pwrite(fd, bytes.data(), bytes.size(), static_cast<off_t>(at));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw_system_error("cannot write the dump", path.string(), errno);
    at += static_cast<std::uint64_t>(n);
    bytes = bytes.subspan(static_cast<std::size_t>(n));
  }
}

void DumpStore::write(Lba lba, ByteView sectors) {
  const std::uint64_t at = offset_of(lba);
  write_at(data_, files_.data, at, sectors);
  // Start writing back early, so that the next sync has little to wait for.
  constexpr std::uint64_t kStartEvery = 16 << 20;
  written_ = at + sectors.size();
  if (written_ < started_ || written_ - started_ < kStartEvery) return;
  ::sync_file_range(data_, static_cast<off_t>(started_), static_cast<off_t>(written_ - started_),
                    SYNC_FILE_RANGE_WRITE);
  started_ = written_;
}

void DumpStore::write_subchannel(Lba lba, ByteView blocks) {
  if (subchannel_ < 0 || blocks.empty()) return;
  Bytes packed;
  for (std::size_t at = 0; at + cd::kSubchannelBytes <= blocks.size(); at += cd::kSubchannelBytes) {
    const cd::Subchannel one = cd::to_packed(cd::SubchannelView(blocks.subspan(at, cd::kSubchannelBytes)));
    packed.insert(packed.end(), one.begin(), one.end());
  }
  write_at(subchannel_, files_.subchannel, offset_of(lba) / sector_bytes_ * cd::kSubchannelBytes, packed);
}

void DumpStore::read(Lba lba, std::span<std::byte> sectors) const {
  std::uint64_t at = offset_of(lba);
  while (!sectors.empty()) {
    const ssize_t n = ::pread(data_, sectors.data(), sectors.size(), static_cast<off_t>(at));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw_system_error("cannot read the dump back", files_.data.string(), errno);
    if (n == 0) {  // not written yet
      std::fill(sectors.begin(), sectors.end(), std::byte{0});
      return;
    }
    at += static_cast<std::uint64_t>(n);
    sectors = sectors.subspan(static_cast<std::size_t>(n));
  }
}

Bytes DumpStore::read_subchannel(Lba lba) const {
  Bytes block(cd::kSubchannelBytes);
  const auto at = static_cast<off_t>(offset_of(lba) / sector_bytes_ * cd::kSubchannelBytes);
  for (std::size_t done = 0; done < block.size();) {
    const ssize_t n = ::pread(subchannel_, block.data() + done, block.size() - done, at + static_cast<off_t>(done));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw_system_error("cannot read the dump back", files_.subchannel.string(), errno);
    if (n == 0) break;  // not written yet
    done += static_cast<std::size_t>(n);
  }
  return block;
}

void DumpStore::sync() {
  if (::fdatasync(data_) != 0) throw_system_error("cannot write the dump", files_.data.string(), errno);
  if (subchannel_ >= 0 && ::fdatasync(subchannel_) != 0)
    throw_system_error("cannot write the dump", files_.subchannel.string(), errno);
}

void DumpStore::save(const SectorMapFile& state) {
  sync();
  const std::filesystem::path fresh = files_.state.string() + "~";
  FileDescriptor fd(::open(fresh.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC | O_NOFOLLOW, 0666));
  if (fd < 0) throw_system_error("cannot save the dump's state", fresh.string(), errno);
  const std::string text = print(state);
  write_at(fd, fresh, 0, as_view(text));
  const bool synced = ::fdatasync(fd) == 0;
  fd.close();
  if (!synced || ::rename(fresh.c_str(), files_.state.c_str()) != 0)
    throw_system_error("cannot save the dump's state", files_.state.string(), errno);
}

void DumpStore::cut(Lba end) {
  for (Region& r : regions_) {
    r.end = std::min(r.end, end);
    r.first = std::min(r.first, r.end);
  }
  std::erase_if(regions_, [](const Region& r) { return r.first >= r.end; });
  size_ = 0;
  for (const Region& r : regions_) size_ += static_cast<std::uint64_t>(r.end - r.first) * sector_bytes_;
  if (::ftruncate(data_, static_cast<off_t>(size_)) != 0)
    throw_system_error("cannot write the dump", files_.data.string(), errno);
  if (subchannel_ >= 0 &&
      ::ftruncate(subchannel_, static_cast<off_t>(size_ / sector_bytes_ * cd::kSubchannelBytes)) != 0)
    throw_system_error("cannot write the dump", files_.subchannel.string(), errno);
}

void DumpStore::remove() {
  std::error_code ignored;
  for (const auto& path : {files_.data, files_.subchannel, files_.state}) std::filesystem::remove(path, ignored);
  std::filesystem::remove(files_.state.string() + "~", ignored);
}

}  // namespace opifex::dump
