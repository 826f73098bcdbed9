#include "drive.hpp"

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <thread>

#include "opifex/core/dump/sense.hpp"

namespace opifex::dump {
SimulatedDrive::SimulatedDrive(SimDescription description, std::string name)
    : d_(std::move(description)),
      name_(std::move(name)),
      faults_(d_.defects, d_.seed, d_.drive.c2_reports),
      cache_(d_.drive.cache_kib * std::size_t{1024} / (d_.drive.kind == SimKind::cd ? cd::kRawBytes : cd::kUserBytes)),
      attention_(d_.unit_attention),
      ready_at_(d_.becoming_ready_ms),
      speed_(d_.drive.speeds.back()) {
  if (d_.medium) medium_ = std::make_unique<SimMedium>(d_.discs.front(), d_.seed);
  if (d_.log.empty()) return;
  log_.open(d_.log, std::ios::app);
  if (!log_) throw_system_error("cannot write the simulated drive's log", d_.log.string(), errno);
}

void SimulatedDrive::advance(std::uint64_t ms) {
  clock_ms_ += ms;
  if (d_.timing.pace <= 0) return;
  owed_ms_ += static_cast<double>(ms) * d_.timing.pace;
  if (owed_ms_ < 1) return;
  std::this_thread::sleep_for(std::chrono::duration<double, std::milli>(owed_ms_));
  owed_ms_ = 0;
}

CommandReply SimulatedDrive::fail(std::uint32_t sense, std::optional<cd::Lba> lba, std::size_t transferred) const {
  CommandReply reply;
  reply.status = kStatusCheckCondition;
  reply.transferred = transferred;
  reply.sense.assign(18, std::byte{0});
  reply.sense[0] = std::byte{0x70};
  reply.sense[2] = static_cast<std::byte>(sense >> 16 & 15);
  reply.sense[7] = std::byte{10};
  reply.sense[12] = static_cast<std::byte>(sense >> 8 & 255);
  reply.sense[13] = static_cast<std::byte>(sense & 255);
  if (lba && d_.drive.sense_lba) {
    reply.sense[0] = std::byte{0xF0};
    const auto place = static_cast<std::uint32_t>(*lba);
    for (std::size_t i = 0; i < 4; ++i) reply.sense[3 + i] = static_cast<std::byte>(place >> (24 - 8 * i) & 255);
  }
  return reply;
}

CommandReply SimulatedDrive::answer(ByteView data, std::size_t allocation, std::span<std::byte> buffer) {
  CommandReply reply;
  reply.transferred = std::min({data.size(), allocation, buffer.size()});
  std::copy_n(data.begin(), reply.transferred, buffer.begin());
  return reply;
}

/// What must be reported before anything else; nothing if the command may run.
std::optional<CommandReply> SimulatedDrive::pending() {
  if (!attention_.empty()) {
    const std::uint32_t sense = attention_.front();
    attention_.erase(attention_.begin());
    return fail(sense);
  }
  if (!medium_) return fail(kNoMedium);
  if (clock_ms_ < ready_at_) return fail(kBecomingReady);
  return std::nullopt;
}

void SimulatedDrive::load_next() {
  medium_.reset();
  cache_.clear();
  fates_.clear();  // but the readings are counted on: another disc is not wrong in the same way
  head_ = -1000;
  spun_up_ = false;
  if (disc_ + 1 >= d_.discs.size()) return;
  medium_ = std::make_unique<SimMedium>(d_.discs[++disc_], d_.seed);
  ready_at_ = clock_ms_ + d_.timing.spinup_ms;
  attention_.push_back(kNewMedium);
}

CommandReply SimulatedDrive::execute(ByteView cdb, DataDirection, std::span<std::byte> buffer,
                                     std::uint32_t timeout_ms) {
  CommandReply reply;
  if (dead_) {
    reply.host_status = kHostNoConnect;
    return reply;
  }
  const std::uint64_t before = clock_ms_;
  extra_ms_ = d_.timing.command_ms;
  reply = run(cdb, buffer);
  if (extra_ms_ > timeout_ms) {
    reply = {};
    reply.host_status = kHostTimeout;
    extra_ms_ = timeout_ms;
    attention_.push_back(kReset);
  }
  advance(extra_ms_);
  reply.duration_ms = clock_ms_ - before;
  if (log_.is_open()) log(cdb, reply);
  return reply;
}

/// Time in ms, operation code, what it asks for (LBA and sectors of reads), and what came of it.
void SimulatedDrive::log(ByteView cdb, const CommandReply& reply) {
  const int code = byte_of(cdb, 0);
  const bool reads_blocks = code == 0x28, reads_cd = code == 0xBE;
  std::string what;
  if (reads_blocks) what = fmt::format(" {} {}", static_cast<cd::Lba>(load_be32(cdb, 2)), load_be16(cdb, 7));
  if (reads_cd)
    what = fmt::format(" {} {}", static_cast<cd::Lba>(load_be32(cdb, 2)),
                       byte_of(cdb, 6) << 16 | byte_of(cdb, 7) << 8 | byte_of(cdb, 8));
  const bool done = reply.status == kStatusGood && reply.host_status == kHostOk;
  log_ << fmt::format("{} {:02X}{} {}\n", clock_ms_.load(), code, what,
                      done ? fmt::format("{} bytes", reply.transferred) : describe(reply));
  log_.flush();
}

CommandReply SimulatedDrive::run(ByteView cdb, std::span<std::byte> buffer) {
  constexpr int kEject = 2, kLoad = 3;
  const int code = byte_of(cdb, 0);
  switch (code) {  // these answer without a disc
    case 0x12:
      return inquiry(cdb, buffer);
    case 0x03: {
      const CommandReply held = pending().value_or(fail(0));
      return answer(held.sense, static_cast<std::size_t>(byte_of(cdb, 4)), buffer);
    }
    case 0x4A:
      return event_status(cdb, buffer);
    case 0x1B:
      if ((byte_of(cdb, 4) & 3) == kEject) load_next();
      if ((byte_of(cdb, 4) & 3) == kLoad && !medium_) load_next();
      return {};
    case 0x1E:
      return {};
    case 0x46:
      if (!d_.drive.get_configuration) return fail(kUnknownCommand);
      return configuration(cdb, buffer);
    case 0x5A:
      return mode_sense(cdb, buffer);
    case 0x55:
      return {};
    case 0xBB: {
      const auto wanted = static_cast<unsigned>(byte_of(cdb, 2) << 8 | byte_of(cdb, 3));
      speed_ = d_.drive.speeds.front();
      for (const unsigned step : d_.drive.speeds)
        if (step <= wanted) speed_ = step;
      return {};
    }
    default:
      break;
  }
  if (auto first = pending()) return *first;
  switch (code) {
    case 0x00:
      return {};
    case 0x25:
      return capacity(buffer);
    case 0x28:
    case 0xA8:
      return read_blocks(cdb, buffer);
    case 0xBE:
    case 0xB9:
      return medium_->is_cd() ? read_cd(cdb, buffer) : fail(0x056400);
    case 0x42:
      return subchannel(cdb, buffer);
    case 0x43:
      return toc(cdb, buffer);
    case 0x51:
      return disc_information(cdb, buffer);
    case 0x52:
      return track_information(cdb, buffer);
    case 0xAD:
      return dvd_structure(cdb, buffer);
    default:
      return fail(kUnknownCommand);
  }
}

std::unique_ptr<DriveTransport> simulate_drive(SimDescription description, std::string name) {
  return std::make_unique<SimulatedDrive>(std::move(description), std::move(name));
}

}  // namespace opifex::dump
