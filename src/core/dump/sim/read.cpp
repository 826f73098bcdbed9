// READ CD, READ CD MSF, READ(10) and READ(12) of the simulated drive.
#include <algorithm>
#include <bit>

#include "drive.hpp"

namespace opifex::dump {
namespace {

using cd::Lba;

constexpr std::size_t kC2Size = 294, kC2BlockSize = 296, kQSize = 16;
constexpr Lba kDvdGroup = 16, kBdGroup = 32;

std::uint32_t u24(ByteView v, std::size_t i) {
  return static_cast<std::uint32_t>(byte_of(v, i) << 16 | byte_of(v, i + 1) << 8 | byte_of(v, i + 2));
}

}  // namespace

CommandReply SimulatedDrive::read_blocks(ByteView cdb, std::span<std::byte> buffer) {
  const bool twelve = byte_of(cdb, 0) == 0xA8;
  ReadJob job;
  job.lba = static_cast<Lba>(load_be32(cdb, 2) & 0x7FFFFFFF);
  job.count = twelve ? load_be32(cdb, 6) : load_be16(cdb, 7);
  job.main_bytes = cd::kUserBytes;
  job.fua = d_.drive.fua && (byte_of(cdb, 1) & 8) != 0;
  if (load_be32(cdb, 2) > 0x7FFFFFFF) return fail(kOutOfRange);
  if (medium_->is_cd() && job.count > 0 && medium_->is_audio(job.lba)) return fail(kWrongType, job.lba);
  return read(job, buffer);
}

CommandReply SimulatedDrive::read_cd(ByteView cdb, std::span<std::byte> buffer) {
  constexpr int kWhole = 0xF8, kUser = 0x10, kCdda = 1;
  ReadJob job;
  if (byte_of(cdb, 0) == 0xB9) {
    const Lba first = cd::lba_of({byte_of(cdb, 3), byte_of(cdb, 4), byte_of(cdb, 5)});
    job.lba = first;
    job.count = static_cast<std::uint32_t>(
        std::max(0, cd::lba_of({byte_of(cdb, 6), byte_of(cdb, 7), byte_of(cdb, 8)}) - first));
  } else {
    job.lba = static_cast<Lba>(load_be32(cdb, 2));
    job.count = u24(cdb, 6);
  }
  const int fields = byte_of(cdb, 9) & 0xF8, errors = byte_of(cdb, 9) >> 1 & 3, sub = byte_of(cdb, 10) & 7;
  const int type = byte_of(cdb, 1) >> 2 & 7;
  if (fields != kWhole && fields != kUser) return fail(kBadField);
  if (errors == 3 || (errors != 0 && !d_.drive.c2)) return fail(kBadField);
  job.c2_bytes = errors == 1 ? kC2Size : errors == 2 ? kC2BlockSize : 0;
  const bool raw_sub = sub == 1 && d_.drive.subchannel == SimSubchannel::raw;
  const bool q_sub = sub == 2 && d_.drive.subchannel != SimSubchannel::none;
  if (sub != 0 && !raw_sub && !q_sub) return fail(kBadField);
  job.sub_bytes = raw_sub ? cd::kSubchannelBytes : q_sub ? kQSize : 0;
  const bool audio = medium_->is_audio(job.lba);
  job.as_audio = type == kCdda && !audio;
  if (job.as_audio && !d_.drive.cdda_on_data && d_.drive.strict_type) return fail(kWrongType, job.lba);
  if (type > kCdda && audio && d_.drive.strict_type) return fail(kWrongType, job.lba);
  job.main_bytes = fields == kWhole || audio ? cd::kRawBytes : cd::kUserBytes;
  return read(job, buffer);
}

std::optional<std::uint32_t> SimulatedDrive::refuse_range(Lba lba, std::uint32_t count) const {
  const std::int64_t end = std::int64_t{lba} + count;
  constexpr Lba kReach = 150;  // over-reading goes a little into lead-in and lead-out
  const Lba low = d_.drive.overread && medium_->is_cd() ? -kReach : 0;
  const Lba high = medium_->end() + (d_.drive.overread && medium_->is_cd() ? kReach : 0);
  if (lba < low || end > high) return kOutOfRange;
  return std::nullopt;
}

std::uint64_t SimulatedDrive::transfer_ms(std::uint32_t sectors) const {
  const std::uint64_t each = medium_->is_cd() ? cd::kRawBytes : cd::kUserBytes;
  return sectors * each / std::max(1u, speed_);  // kB/s of 1000 bytes are bytes a millisecond
}

unsigned SimulatedDrive::slower_steps() const {
  return static_cast<unsigned>(
      std::count_if(d_.drive.speeds.begin(), d_.drive.speeds.end(), [&](unsigned s) { return s > speed_; }));
}

CommandReply SimulatedDrive::read(const ReadJob& job, std::span<std::byte> buffer) {
  if (job.count > d_.drive.max_blocks) return fail(kBadField);
  past_buffer_ = -1;
  const auto refused = refuse_range(job.lba, job.count);
  if (job.count == 0 || buffer.size() < job.count * job.each()) return fail(kBadField);
  const Lba end = job.lba + static_cast<Lba>(job.count);
  if (refused && (job.lba < 0 || job.lba >= medium_->end())) return fail(*refused, job.lba);
  if (faults_.crosses_edge(job.lba, end)) return fail(kWrongType);
  if (!spun_up_) {
    extra_ms_ += d_.timing.spinup_ms;
    spun_up_ = true;
  }
  const auto ahead = static_cast<Lba>(d_.drive.readahead);
  if (job.lba != head_) {
    if (!cache_.holds(job.lba) || job.fua) extra_ms_ += d_.timing.seek_ms;
    shift_ = faults_.jitter(job.lba, seeks_++);
  }
  const bool in_program = medium_->in_program(job.lba) && medium_->in_program(end - 1);
  if (!refused && in_program && faults_.clean(job.lba, end + ahead)) return read_clean(job, buffer);
  for (std::uint32_t i = 0; i < job.count; ++i) {
    const Lba lba = job.lba + static_cast<Lba>(i);
    const std::size_t done = i * job.each();
    if (lba >= medium_->end() && !d_.drive.overread) return fail(kOutOfRange, lba, done);
    if (lba >= 0 && lba < medium_->end() && !medium_->in_program(lba)) return fail(kNotFound, lba, done);
    const SectorFate fate = sector_fate(lba, job);
    if (const auto at = fates_.find(lba); at != fates_.end()) at->second.extra_ms = 0;  // a repeat comes at once
    if (fate.passing) cache_.clear();
    if (auto reply = event(fate, lba, done)) return *reply;
    if (fate.missing > 0) {
      CommandReply reply;
      const std::size_t missing = std::min<std::size_t>(fate.missing, job.count - i) * job.each();
      for (std::uint32_t k = i; k < job.count; ++k)
        fill(job.lba + static_cast<Lba>(k), job, nullptr, buffer.subspan(k * job.each(), job.each()));
      reply.transferred = job.count * job.each() - missing;
      return reply;
    }
    fill(lba, job, &fate, buffer.subspan(done, job.each()));
    head_ = lba + 1;
  }
  CommandReply reply;
  reply.transferred = job.count * job.each();
  return reply;
}

/// Nothing wrong here: all sectors at once.
CommandReply SimulatedDrive::read_clean(const ReadJob& job, std::span<std::byte> buffer) {
  const Lba end = job.lba + static_cast<Lba>(job.count);
  const bool cached = !job.fua && cache_.holds(job.lba) && cache_.holds(end - 1);
  // What was read ahead took its time too; only a repeat is free.
  if (!cached || job.lba == head_) extra_ms_ += transfer_ms(job.count);
  if (!cached) {
    cache_.add(job.lba, std::min(end + static_cast<Lba>(d_.drive.readahead), medium_->end()));
  }
  const int shift = d_.drive.read_offset + medium_->disc().write_offset + shift_;
  const bool one_kind = !medium_->is_cd() || (medium_->is_audio(job.lba) == medium_->is_audio(end - 1));
  const bool as_stored = !medium_->is_cd() || (job.main_bytes == cd::kRawBytes && !job.as_audio && one_kind &&
                                               (shift == 0 || !medium_->is_audio(job.lba)));
  if (as_stored && job.c2_bytes + job.sub_bytes == 0) {
    medium_->read(job.lba, job.count, buffer.first(job.count * job.each()));
  } else if (as_stored && job.sub_bytes == 0 && medium_->is_cd()) {
    // C2 pointers, all clear, behind every sector.
    Bytes sectors(job.count * cd::kRawBytes);
    medium_->read(job.lba, job.count, sectors);
    for (std::uint32_t i = 0; i < job.count; ++i) {
      const auto out = buffer.subspan(i * job.each(), job.each());
      std::copy_n(sectors.begin() + static_cast<std::ptrdiff_t>(i * cd::kRawBytes), cd::kRawBytes, out.begin());
      std::fill(out.begin() + static_cast<std::ptrdiff_t>(cd::kRawBytes), out.end(), std::byte{0});
    }
  } else {
    for (std::uint32_t i = 0; i < job.count; ++i)
      fill(job.lba + static_cast<Lba>(i), job, nullptr, buffer.subspan(i * job.each(), job.each()));
  }
  head_ = end;
  CommandReply reply;
  reply.transferred = job.count * job.each();
  return reply;
}

/// What happens to the drive itself at this sector.
std::optional<CommandReply> SimulatedDrive::event(const SectorFate& fate, Lba lba, std::size_t transferred) {
  extra_ms_ += fate.extra_ms;
  if (fate.dies) {
    dead_ = true;
    CommandReply reply;
    reply.host_status = kHostNoConnect;
    return reply;
  }
  if (fate.ejects) {
    medium_.reset();
    attention_.push_back(kEjectPressed);
    return pending();
  }
  if (fate.swaps) {
    load_next();
    ready_at_ = 0;
    return medium_ ? fail(kNewMedium) : pending();
  }
  if (fate.sense) {
    extra_ms_ += d_.timing.error_ms;
    head_ = -1000;
    return fail(*fate.sense, lba, transferred);
  }
  return std::nullopt;
}

/// The fate of the sector's last physical reading, after one now unless the buffer holds it.
const SectorFate& SimulatedDrive::sector_fate(Lba lba, const ReadJob& job) {
  if (!medium_->is_cd()) return group_fate(lba, job);
  if (!cache_.holds(lba)) {
    physical(lba, lba + 1);
    extra_ms_ += transfer_ms(1);
    Lba ahead = lba + 1;
    const Lba stop = std::min(lba + 1 + static_cast<Lba>(d_.drive.readahead), medium_->end());
    // The buffer fills until something fails.
    if (!fates_[lba].sense) {
      while (ahead < stop && !faults_.clean(ahead, stop)) {
        physical(ahead, ahead + 1);
        if (fates_[ahead++].sense) break;
      }
      if (faults_.clean(ahead, stop)) ahead = std::max(ahead, stop);
    }
    cache_.add(lba, ahead);
  }
  return fates_[lba];
}

void SimulatedDrive::physical(Lba first, Lba end) {
  for (Lba lba = first; lba < end; ++lba) {
    if (faults_.clean(lba, lba + 1))
      fates_.erase(lba);
    else
      fates_[lba] = faults_.fate(lba, attempts_[lba]++, slower_steps(), speed_);
  }
}

/// The same for a DVD or Blu-ray: its groups are read whole, past the buffer once in a command that asks for it.
const SectorFate& SimulatedDrive::group_fate(Lba lba, const ReadJob& job) {
  const Lba size = group_sectors(), first = lba / size * size;
  const bool again = job.fua && past_buffer_ != first;
  if (again) past_buffer_ = first;
  if (again || !cache_.holds(lba)) {
    const Lba stop = std::min(lba + 1 + static_cast<Lba>(d_.drive.readahead), medium_->end());
    Lba ahead = first;
    do {
      read_group(ahead);
      extra_ms_ += transfer_ms(static_cast<std::uint32_t>(size));
      ahead += size;
    } while (ahead < stop && !fates_[ahead - size].sense);
    cache_.add(first, std::min(ahead, medium_->end()));
  }
  return fates_[lba];
}

Lba SimulatedDrive::group_sectors() const { return d_.drive.kind == SimKind::bd ? kBdGroup : kDvdGroup; }

/// One bad sector spoils all of its group, before and behind it.
void SimulatedDrive::read_group(Lba first) {
  const Lba end = std::min(first + group_sectors(), medium_->end());
  const std::uint64_t attempt = attempts_[first]++;
  const auto sense = faults_.group_sense(first, end, attempt, slower_steps(), speed_);
  for (Lba member = first; member < end; ++member) {
    SectorFate& fate = fates_[member] = faults_.fate(member, attempt, slower_steps(), speed_);
    if (!fate.passing) fate.sense = sense;
  }
}

void SimulatedDrive::fill(Lba lba, const ReadJob& job, const SectorFate* fate, std::span<std::byte> out) const {
  std::fill(out.begin(), out.end(), std::byte{0});
  const auto main = out.first(job.main_bytes);
  if (!medium_->is_cd()) {
    medium_->read(lba, 1, main);
  } else {
    cd::Sector s{};
    const int shift = d_.drive.read_offset + medium_->disc().write_offset + shift_;
    if (!medium_->in_program(lba) || medium_->is_audio(lba)) {
      medium_->read_shifted(lba, shift, s);
    } else if (job.as_audio) {
      medium_->read_as_audio(lba, shift, s);
    } else {
      medium_->read(lba, 1, s);
    }
    if (fate)
      for (const auto& [place, value] : fate->wrong) s[place] ^= value;
    const std::size_t from = job.main_bytes == cd::kRawBytes          ? 0
                             : (s[15] & std::byte{3}) == std::byte{2} ? cd::kMode2UserAt
                                                                      : cd::kMode1UserAt;
    std::copy_n(s.begin() + static_cast<std::ptrdiff_t>(from), job.main_bytes, main.begin());
  }
  if (fate && job.c2_bytes > 0)
    for (const std::size_t place : fate->flagged)
      out[job.main_bytes + place / 8] |= static_cast<std::byte>(0x80 >> place % 8);
  if (job.sub_bytes == 0) return;
  const auto sub = out.subspan(job.main_bytes + job.c2_bytes, job.sub_bytes);
  cd::QBytes q = medium_->q_at(lba - d_.drive.subchannel_lag);
  if (fate && fate->fixed_q) std::copy(fate->fixed_q->begin(), fate->fixed_q->end(), q.begin());
  if (fate && fate->bad_q) q[9] ^= std::byte{0x11};
  if (job.sub_bytes == kQSize) {
    std::copy(q.begin(), q.end(), sub.begin());
    return;
  }
  cd::Subchannel packed{};
  const bool pause = q[2] == std::byte{0};
  std::fill_n(packed.begin(), 12, pause ? std::byte{0xFF} : std::byte{0});
  std::copy(q.begin(), q.end(), packed.begin() + 12);
  const cd::Subchannel raw = cd::to_interleaved(packed);
  std::copy(raw.begin(), raw.end(), sub.begin());
}

}  // namespace opifex::dump
