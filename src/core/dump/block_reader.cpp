// Media of 2048-byte blocks: DVD and Blu-ray through a drive, devices and files by plain reads.
#include <algorithm>
#include <array>
#include <cerrno>
#include <chrono>

#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include "opifex/core/dump/reader.hpp"

namespace opifex::dump {

using cd::Lba;

std::uint32_t SectorReader::read_over(Lba lba, std::uint32_t count, std::uint32_t& chunk,
                                      const ReadSectors& read) const {
  Bytes sectors(std::min(count, chunk) * sector_bytes());
  std::uint32_t came = 0;
  for (std::uint32_t done = 0; done < count;) {
    const std::uint32_t n = std::min(chunk, count - done);
    const Outcome outcome = read(lba + static_cast<Lba>(done), n, std::span(sectors).first(n * sector_bytes()));
    if (outcome.trouble == Trouble::bad_field && chunk > 1) {
      chunk = std::max(1u, chunk / 2);
      continue;
    }
    came += outcome.ok() ? static_cast<std::uint32_t>(outcome.bytes / sector_bytes()) : 0;
    done += n;
  }
  return came;
}

ReadResult BlockReader::read(const Region&, Lba lba, std::uint32_t count, std::span<std::byte> out, Extras* extras) {
  const bool past_buffer = extras && extras->past_buffer;
  for (std::uint32_t done = 0; done < count;) {
    // Commands end where ECC blocks do: a damaged one spoils no more than itself.
    const std::uint32_t at = static_cast<std::uint32_t>(lba) + done;
    const std::uint32_t n = std::min(count - done, chunk_ - at % std::min(chunk_, unit_));
    const auto target = out.subspan(done * cd::kUserBytes, n * cd::kUserBytes);
    const Outcome outcome = drive_.read_blocks(at, n, target, past_buffer);
    if (outcome.trouble == Trouble::bad_field && chunk_ > 1) {
      chunk_ = std::max(1u, chunk_ / 2);
      continue;
    }
    const auto whole = static_cast<std::uint32_t>(std::min<std::size_t>(n, outcome.bytes / cd::kUserBytes));
    done += whole;
    if (!outcome.ok()) return {done, outcome.trouble};
    if (whole < n) return {done, Trouble::read_error};
  }
  return {count, Trouble::none};
}

void BlockReader::set_slowness(unsigned step) {
  constexpr std::array<unsigned, 4> kTimes = {0, 4, 2, 1};  // 0: the drive's fastest
  const unsigned kbs = kTimes[std::min(step, slowest())] * one_x_;
  drive_.set_speed(top_kbs_ != 0 && (kbs == 0 || kbs > top_kbs_) ? top_kbs_ : kbs);
}

std::uint32_t BlockReader::skim(Lba lba, std::uint32_t count) {
  return read_over(lba, count, chunk_, [this](Lba at, std::uint32_t n, std::span<std::byte> out) {
    return drive_.read_blocks(static_cast<std::uint32_t>(at), n, out, false);
  });
}

DeviceReader::DeviceReader(const std::filesystem::path& path) : name_(path.string()) {
  fd_ = FileDescriptor(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK | O_NOCTTY));
  if (fd_ < 0) throw_system_error("cannot open the source", name_, errno);
  struct stat facts {};
  const bool block = ::fstat(fd_, &facts) == 0 && S_ISBLK(facts.st_mode);
  if (block ? ::ioctl(fd_, BLKGETSIZE64, &size_) != 0 : !S_ISREG(facts.st_mode)) {
    throw Error({.code = "not_a_file",
                 .what = "this cannot be read as blocks",
                 .file = name_,
                 .hint = "a drive, a block device, an image file or a mounted folder can be dumped"});
  }
  if (!block) size_ = static_cast<std::uint64_t>(facts.st_size);
  ::posix_fadvise(fd_, 0, 0, POSIX_FADV_SEQUENTIAL);
}

DeviceReader::~DeviceReader() = default;

ReadResult DeviceReader::read(const Region&, Lba lba, std::uint32_t count, std::span<std::byte> out, Extras*) {
  const std::size_t wanted = count * cd::kUserBytes;
  for (std::size_t done = 0; done < wanted;) {
    const auto at = static_cast<off_t>(static_cast<std::uint64_t>(lba) * cd::kUserBytes + done);
    const ssize_t n = ::pread(fd_, out.data() + done, wanted - done, at);
    if (n < 0 && errno == EINTR) continue;
    const auto whole = static_cast<std::uint32_t>(done / cd::kUserBytes);
    if (n < 0 && (errno == ENXIO || errno == ENOMEDIUM || errno == ENODEV))
      throw_system_error("the device is gone", name_, errno);
    if (n < 0) return {whole, Trouble::read_error};
    if (n == 0) return {whole, Trouble::out_of_range};  // the size a device tells may be stale
    done += static_cast<std::size_t>(n);
  }
  return {count, Trouble::none};
}

void DeviceReader::forget(Lba lba) {
  constexpr Lba kAround = 64;  // pages come in larger pieces than sectors
  const auto from = static_cast<off_t>(std::max(0, lba - kAround)) * static_cast<off_t>(cd::kUserBytes);
  ::posix_fadvise(fd_, from, static_cast<off_t>(2 * kAround * static_cast<Lba>(cd::kUserBytes)), POSIX_FADV_DONTNEED);
}

std::uint64_t DeviceReader::clock_ms() const {
  return static_cast<std::uint64_t>(
      std::chrono::duration_cast<std::chrono::milliseconds>(std::chrono::steady_clock::now().time_since_epoch())
          .count());
}

}  // namespace opifex::dump
