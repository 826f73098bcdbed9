// Commands to a real drive through Linux' SG_IO.
#include <algorithm>
#include <array>
#include <cerrno>
#include <chrono>
#include <thread>

#include <fcntl.h>
#include <scsi/sg.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "opifex/core/dump/transport.hpp"
#include "opifex/core/io/file_descriptor.hpp"

namespace opifex::dump {
namespace {

constexpr std::size_t kSenseBytes = 64;
constexpr unsigned kDriverSense = 8, kDriverTimeout = 6;

class SgDrive final : public DriveTransport {
 public:
  explicit SgDrive(const std::filesystem::path& device) : name_(device.string()) {
    // O_NONBLOCK: opens without a disc, and does not pull the tray in.
    fd_ = FileDescriptor(::open(device.c_str(), O_RDONLY | O_NONBLOCK | O_CLOEXEC));
    if (fd_ < 0) fail("cannot open the drive", errno);
    int version = 0;
    if (::ioctl(fd_, SG_GET_VERSION_NUM, &version) != 0) {
      throw Error({.code = "not_a_drive",
                   .cause = Cause::not_a_drive,
                   .what = "this device takes no drive commands",
                   .file = name_,
                   .hint = "a drive is /dev/sr0 or /dev/sg0; an image or partition is read as plain blocks"});
    }
  }
  SgDrive(const SgDrive&) = delete;
  SgDrive& operator=(const SgDrive&) = delete;

  CommandReply execute(ByteView cdb, DataDirection direction, std::span<std::byte> buffer,
                       std::uint32_t timeout_ms) override {
    CommandReply reply;
    std::array<unsigned char, 16> command{};
    std::copy_n(raw_bytes(cdb), cdb.size(), command.begin());
    std::array<std::byte, kSenseBytes> sense{};
    sg_io_hdr_t io{};
    io.interface_id = 'S';
    io.dxfer_direction = direction == DataDirection::none          ? SG_DXFER_NONE
                         : direction == DataDirection::from_device ? SG_DXFER_FROM_DEV
                                                                   : SG_DXFER_TO_DEV;
    io.cmd_len = static_cast<unsigned char>(cdb.size());
    io.cmdp = command.data();
    io.dxfer_len = static_cast<unsigned>(buffer.size());
    io.dxferp = buffer.data();
    io.mx_sb_len = kSenseBytes;
    io.sbp = raw_bytes_mut(sense);
    io.timeout = timeout_ms;
    while (::ioctl(fd_, SG_IO, &io) != 0) {
      if (errno == EINTR) continue;
      if (errno == ENODEV || errno == ENXIO) {
        reply.host_status = kHostNoConnect;
        return reply;
      }
      fail("the drive does not take the command", errno);
    }
    const unsigned driver = io.driver_status & 15u;
    reply.host_status = driver == kDriverTimeout ? kHostTimeout : io.host_status;
    reply.status = driver == kDriverSense && io.status == kStatusGood ? kStatusCheckCondition : io.status;
    reply.sense.assign(sense.begin(), sense.begin() + std::min<std::size_t>(io.sb_len_wr, kSenseBytes));
    const auto left = static_cast<std::size_t>(std::max(io.resid, 0));
    reply.transferred = buffer.size() - std::min(left, buffer.size());
    reply.duration_ms = io.duration;
    return reply;
  }

  void wait(std::uint32_t ms) override { std::this_thread::sleep_for(std::chrono::milliseconds(ms)); }
  std::uint64_t clock_ms() const override {
    return static_cast<std::uint64_t>(
        std::chrono::duration_cast<std::chrono::milliseconds>(std::chrono::steady_clock::now() - start_).count());
  }
  std::string name() const override { return name_; }

 private:
  [[noreturn]] void fail(const char* what, int e) const {
    const bool rights = e == EACCES || e == EPERM;
    throw Error({.fault = e == ENOENT ? Fault::refused : Fault::device,
                 .code = e == ENOENT ? "no_such_file"
                         : rights    ? "no_right"
                                     : "drive_failed",
                 .what = std::string(what) + ": " + std::generic_category().message(e),
                 .file = name_,
                 .hint = rights ? "drives belong to the group cdrom: add yourself to it and log in again" : ""});
  }

  std::string name_;
  FileDescriptor fd_;
  std::chrono::steady_clock::time_point start_ = std::chrono::steady_clock::now();
};

}  // namespace

std::unique_ptr<DriveTransport> open_sg_drive(const std::filesystem::path& device) {
  return std::make_unique<SgDrive>(device);
}

}  // namespace opifex::dump
