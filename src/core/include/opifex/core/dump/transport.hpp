/// How commands reach a drive: command blocks in, data and sense out. A real drive and the stand-in look the same.
#pragma once

#include <filesystem>
#include <memory>
#include <string>

#include "opifex/core/base/bytes.hpp"

namespace opifex::dump {

enum class DataDirection { none, to_device, from_device };

/// Host status of a command that did not run to its end (Linux SG_IO).
inline constexpr unsigned kHostOk = 0, kHostNoConnect = 1, kHostTimeout = 3;
inline constexpr unsigned kStatusGood = 0, kStatusCheckCondition = 2, kStatusBusy = 8;

struct CommandReply {
  unsigned host_status = kHostOk;
  unsigned status = kStatusGood;
  Bytes sense = {};             ///< as far as the drive wrote it
  std::size_t transferred = 0;  ///< bytes of the buffer that count
  std::uint64_t duration_ms = 0;
};

class DriveTransport {
 public:
  virtual ~DriveTransport() = default;
  /// One command. Error (device) only if the drive cannot be spoken to at all.
  virtual CommandReply execute(ByteView cdb, DataDirection direction, std::span<std::byte> buffer,
                               std::uint32_t timeout_ms) = 0;
  /// Lets time pass: the stand-in's clock is its own, so that nobody waits for it.
  virtual void wait(std::uint32_t ms) = 0;
  /// Milliseconds since the transport was opened.
  virtual std::uint64_t clock_ms() const = 0;
  /// As the user named it.
  virtual std::string name() const = 0;
};

/// A drive through SG_IO (`/dev/sr0`, `/dev/sg1`). Error: no such device, no right to it, not a drive.
std::unique_ptr<DriveTransport> open_sg_drive(const std::filesystem::path& device);

}  // namespace opifex::dump
