// What the simulated drive tells about itself and its disc.
#include <algorithm>

#include "drive.hpp"

namespace opifex::dump {
namespace {

using cd::Lba;

/// A reply put together field by field.
struct Reply {
  Bytes bytes;
  void u8(int v) { bytes.push_back(static_cast<std::byte>(v & 255)); }
  void u16(unsigned v) { u8(static_cast<int>(v >> 8)), u8(static_cast<int>(v & 255)); }
  void u24(std::uint32_t v) { u8(static_cast<int>(v >> 16 & 255)), u16(v & 0xFFFF); }
  void u32(std::uint32_t v) { u16(v >> 16), u16(v & 0xFFFF); }
  void zeros(std::size_t n) { bytes.resize(bytes.size() + n); }
  void text(std::string_view s, std::size_t room) {
    for (std::size_t i = 0; i < room; ++i) u8(i < s.size() ? s[i] : ' ');
  }
  void msf(Lba lba) {
    const cd::Msf m = cd::msf_of_lba(lba);
    u8(m.minute), u8(m.second), u8(m.frame);
  }
  /// Writes the length of what follows into the first two bytes.
  void finish() {
    const std::size_t n = bytes.size() - 2;
    bytes[0] = static_cast<std::byte>(n >> 8);
    bytes[1] = static_cast<std::byte>(n & 255);
  }
};

}  // namespace

CommandReply SimulatedDrive::inquiry(ByteView cdb, std::span<std::byte> buffer) const {
  Reply r;
  r.u8(5), r.u8(0x80), r.u8(5), r.u8(2), r.u8(31), r.zeros(3);
  r.text(d_.drive.vendor, 8), r.text(d_.drive.product, 16), r.text(d_.drive.revision, 4);
  return answer(r.bytes, load_be16(cdb, 3), buffer);
}

CommandReply SimulatedDrive::configuration(ByteView cdb, std::span<std::byte> buffer) const {
  Reply r;
  r.u32(4), r.u16(0), r.u16(medium_ ? static_cast<unsigned>(medium_->profile()) : 0);
  return answer(r.bytes, load_be16(cdb, 7), buffer);
}

CommandReply SimulatedDrive::capacity(std::span<std::byte> buffer) const {
  Reply r;
  r.u32(static_cast<std::uint32_t>(medium_->claimed_end() - 1)), r.u32(static_cast<std::uint32_t>(cd::kUserBytes));
  return answer(r.bytes, 8, buffer);
}

CommandReply SimulatedDrive::toc(ByteView cdb, std::span<std::byte> buffer) const {
  constexpr int kPlain = 0, kSessions = 1, kFull = 2, kCdText = 5;
  const int format = byte_of(cdb, 2) & 15;
  if (!medium_->is_cd()) return fail(kBadField);
  const cd::Layout& layout = medium_->layout();
  const auto control = [&](const cd::Track& t) { return 0x10 | medium_->control(t); };
  Reply r;
  r.u16(0);
  if (format == kPlain) {
    r.u8(layout.tracks.front().number), r.u8(layout.tracks.back().number);
    for (const cd::Track& t : layout.tracks) {
      r.u8(0), r.u8(control(t)), r.u8(t.number), r.u8(0), r.u32(static_cast<std::uint32_t>(t.start_lba));
    }
    r.u8(0), r.u8(0x14), r.u8(0xAA), r.u8(0), r.u32(static_cast<std::uint32_t>(medium_->claimed_end()));
  } else if (format == kSessions) {
    const cd::Track& first = *layout.track(layout.sessions.back().first_track);
    r.u8(1), r.u8(layout.sessions.back().number);
    r.u8(0), r.u8(control(first)), r.u8(first.number), r.u8(0), r.u32(static_cast<std::uint32_t>(first.start_lba));
  } else if (format == kFull) {
    if (!d_.drive.full_toc) return fail(kBadField);
    r.u8(1), r.u8(layout.sessions.back().number);
    const auto entry = [&](int session, int adr_control, int point, auto place) {
      r.u8(session), r.u8(adr_control), r.u8(0), r.u8(point), r.zeros(3), r.u8(0);
      place();
    };
    for (const cd::Session& s : layout.sessions) {
      const int c = control(*layout.track(s.first_track));
      const Lba lead_out = s.number == layout.sessions.back().number ? medium_->claimed_end() : s.lead_out;
      entry(s.number, c, 0xA0, [&] { r.u8(s.first_track), r.u8(0), r.u8(0); });
      entry(s.number, c, 0xA1, [&] { r.u8(s.last_track), r.u8(0), r.u8(0); });
      entry(s.number, c, 0xA2, [&] { r.msf(lead_out); });
      for (const cd::Track& t : layout.tracks)
        if (t.session == s.number) entry(s.number, control(t), t.number, [&] { r.msf(t.start_lba); });
    }
  } else if (format == kCdText) {
    const Bytes packs = medium_->cd_text();
    if (packs.empty()) return fail(kBadField);
    r.u16(0);
    r.bytes.insert(r.bytes.end(), packs.begin(), packs.end());
  } else {
    return fail(kBadField);
  }
  r.finish();
  return answer(r.bytes, load_be16(cdb, 7), buffer);
}

CommandReply SimulatedDrive::subchannel(ByteView cdb, std::span<std::byte> buffer) const {
  constexpr int kCatalogue = 2, kIsrc = 3;
  if (!medium_->is_cd()) return fail(kWrongType);
  const int format = byte_of(cdb, 3);
  const std::string text = format == kCatalogue ? medium_->disc().mcn
                           : format == kIsrc    ? medium_->isrc(byte_of(cdb, 6))
                                                : "";
  Reply r;
  r.u8(0), r.u8(0), r.u16(20), r.u8(format), r.zeros(3);
  r.u8(text.empty() ? 0 : 0x80);
  r.text(text, 15);
  return answer(r.bytes, load_be16(cdb, 7), buffer);
}

CommandReply SimulatedDrive::disc_information(ByteView cdb, std::span<std::byte> buffer) const {
  Reply r;
  const int sessions = medium_->is_cd() ? medium_->layout().sessions.back().number : 1;
  r.u16(0), r.u8(0x0E), r.u8(1), r.u8(sessions), r.u8(1), r.u8(1), r.zeros(27);
  r.finish();
  return answer(r.bytes, load_be16(cdb, 7), buffer);
}

CommandReply SimulatedDrive::track_information(ByteView cdb, std::span<std::byte> buffer) const {
  if (!medium_->is_cd()) return fail(kBadField);
  const cd::Track* t = (byte_of(cdb, 1) & 3) == 0 ? medium_->layout().track_at(static_cast<Lba>(load_be32(cdb, 2)))
                                                  : medium_->layout().track(static_cast<int>(load_be32(cdb, 2)));
  if (!t) return fail(kBadField);
  const int mode = t->mode.is_audio() ? 15 : t->mode.kind == cd::TrackMode::Kind::mode1 ? 1 : 2;
  Reply r;
  r.u16(0), r.u8(t->number), r.u8(t->session), r.u8(0), r.u8(medium_->control(*t)), r.u8(mode), r.u8(0);
  r.u32(static_cast<std::uint32_t>(t->start_lba)), r.zeros(12), r.u32(static_cast<std::uint32_t>(t->length()));
  r.zeros(8);
  r.finish();
  return answer(r.bytes, load_be16(cdb, 7), buffer);
}

CommandReply SimulatedDrive::mode_sense(ByteView cdb, std::span<std::byte> buffer) const {
  constexpr int kRecovery = 0x01, kCapabilities = 0x2A;
  const int page = byte_of(cdb, 2) & 0x3F;
  Reply r;
  r.zeros(8);
  if (page == kRecovery) {
    r.u8(kRecovery), r.u8(10), r.u8(0), r.u8(8), r.zeros(8);
  } else if (page == kCapabilities) {
    const SimFeatures& f = d_.drive;
    const bool sub = f.subchannel == SimSubchannel::raw;
    r.u8(kCapabilities), r.u8(18), r.u8(f.kind == SimKind::cd ? 0x03 : 0x3B), r.u8(0), r.u8(0x71);
    r.u8(1 | (f.accurate_stream ? 2 : 0) | (sub ? 4 : 0) | (f.c2 ? 16 : 0) | 0x60);
    r.u8(0x29), r.u8(0);
    r.u16(f.speeds.back()), r.u16(2), r.u16(f.cache_told_kib.value_or(f.cache_kib)), r.u16(speed_), r.zeros(4);
  } else {
    return fail(kBadField);
  }
  r.finish();
  return answer(r.bytes, load_be16(cdb, 7), buffer);
}

CommandReply SimulatedDrive::dvd_structure(ByteView cdb, std::span<std::byte> buffer) const {
  if (medium_->is_cd() || byte_of(cdb, 7) != 0) return fail(kBadField);
  constexpr std::uint32_t kFirst = 0x030000;
  const std::uint32_t layer0 = medium_->disc().layer0_sectors;
  const auto blocks = static_cast<std::uint32_t>(medium_->end());
  const std::uint32_t end0 = kFirst + layer0 - 1;
  Reply r;
  r.u16(0), r.u16(0), r.u8(0x01), r.u8(0x02), r.u8(layer0 > 0 ? 0x31 : 0x01), r.u8(0);
  r.u8(0), r.u24(kFirst), r.u8(0);
  r.u24(layer0 > 0 ? (~end0 & 0xFFFFFF) + (blocks - layer0) - 1 : kFirst + blocks - 1);
  r.u8(0), r.u24(layer0 > 0 ? end0 : 0), r.zeros(2032);
  r.finish();
  return answer(r.bytes, load_be16(cdb, 8), buffer);
}

CommandReply SimulatedDrive::event_status(ByteView cdb, std::span<std::byte> buffer) const {
  Reply r;
  r.u16(6), r.u8(4), r.u8(0x10), r.u8(0), r.u8(medium_ ? 2 : 1), r.u16(0);
  return answer(r.bytes, load_be16(cdb, 7), buffer);
}

}  // namespace opifex::dump
