#include "opifex/core/cd/subchannel.hpp"

#include <algorithm>

#include "opifex/core/base/crc16.hpp"

namespace opifex::cd {

std::string_view to_string(SubchannelForm form) {
  return form == SubchannelForm::interleaved ? "interleaved" : "packed";
}

Subchannel to_packed(SubchannelView interleaved) {
  Subchannel packed{};
  for (std::size_t i = 0; i < kSubchannelBytes; ++i)
    for (std::size_t channel = 0; channel < 8; ++channel) {
      const unsigned bit = std::to_integer<unsigned>(interleaved[i]) >> (7 - channel) & 1;
      packed[channel * 12 + i / 8] |= static_cast<std::byte>(bit << (7 - i % 8));
    }
  return packed;
}

Subchannel to_interleaved(SubchannelView packed) {
  Subchannel interleaved{};
  for (std::size_t i = 0; i < kSubchannelBytes; ++i)
    for (std::size_t channel = 0; channel < 8; ++channel) {
      const unsigned bit = std::to_integer<unsigned>(packed[channel * 12 + i / 8]) >> (7 - i % 8) & 1;
      interleaved[i] |= static_cast<std::byte>(bit << (7 - channel));
    }
  return interleaved;
}

QBytes q_of(SubchannelView block, SubchannelForm form) {
  QBytes q{};
  if (form == SubchannelForm::packed) {
    std::copy_n(block.begin() + 12, 12, q.begin());
    return q;
  }
  for (std::size_t i = 0; i < kSubchannelBytes; ++i)
    q[i / 8] |= static_cast<std::byte>((std::to_integer<unsigned>(block[i]) >> 6 & 1) << (7 - i % 8));
  return q;
}

std::uint16_t q_crc(ByteView bytes) { return crc16(bytes, 0); }

bool q_crc_fits(const QBytes& q) {
  return load_be16(q, 10) == static_cast<std::uint16_t>(~q_crc(ByteView(q).first(10)));
}

std::optional<SubchannelForm> detect_form(std::span<const Subchannel> blocks) {
  std::size_t interleaved = 0, packed = 0;
  for (const Subchannel& block : blocks) {
    if (all_zero(block)) continue;
    if (q_crc_fits(q_of(block, SubchannelForm::interleaved))) ++interleaved;
    if (q_crc_fits(q_of(block, SubchannelForm::packed))) ++packed;
  }
  if (interleaved == 0 && packed == 0) return std::nullopt;
  return interleaved > packed ? SubchannelForm::interleaved : SubchannelForm::packed;
}

Q parse_q(const QBytes& q) {
  Q r;
  r.crc_fits = q_crc_fits(q);
  r.control = std::to_integer<int>(q[0]) >> 4;
  r.adr = std::to_integer<int>(q[0]) & 15;
  if (r.adr != 1) return r;
  r.relative = msf_from_bcd(q[3], q[4], q[5]);
  r.absolute = msf_from_bcd(q[7], q[8], q[9]);
  if (q[1] == std::byte{0}) {
    r.area = QArea::lead_in;
    r.point = std::to_integer<int>(q[2]);
    if (r.point < 0xA0) r.point = from_bcd(q[2]).value_or(0);
  } else if (q[1] == std::byte{0xAA}) {
    r.area = QArea::lead_out;
    r.index = 1;
  } else {
    r.track = from_bcd(q[1]).value_or(0);
    r.index = from_bcd(q[2]).value_or(0);
  }
  return r;
}

QBytes make_q(const QPosition& position) {
  QBytes q{};
  const Msf time = msf_of_frames(position.time), absolute = msf_of_lba(position.lba);
  q[0] = static_cast<std::byte>(position.control << 4 | 1);
  q[1] = to_bcd(position.track);
  q[2] = to_bcd(position.index);
  q[3] = to_bcd(time.minute);
  q[4] = to_bcd(time.second);
  q[5] = to_bcd(time.frame);
  q[7] = to_bcd(absolute.minute);
  q[8] = to_bcd(absolute.second);
  q[9] = to_bcd(absolute.frame);
  const auto crc = static_cast<unsigned>(static_cast<std::uint16_t>(~q_crc(ByteView(q).first(10))));
  q[10] = static_cast<std::byte>(crc >> 8);
  q[11] = static_cast<std::byte>(crc & 255);
  return q;
}

}  // namespace opifex::cd
