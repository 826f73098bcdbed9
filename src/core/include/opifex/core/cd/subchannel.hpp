/// The 96 subchannel bytes of a sector and its Q channel (ECMA-130, 22; IEC 60908).
#pragma once

#include <array>
#include <optional>
#include <span>
#include <string_view>

#include "opifex/core/cd/sector.hpp"

namespace opifex::cd {

/// interleaved: byte i holds bit i of all eight channels, P = bit 7; packed: 12 bytes P, 12 bytes Q, ... 12 bytes W.
enum class SubchannelForm { interleaved, packed };
std::string_view to_string(SubchannelForm form);

using Subchannel = std::array<std::byte, kSubchannelBytes>;
using SubchannelView = std::span<const std::byte, kSubchannelBytes>;
using QBytes = std::array<std::byte, 12>;

Subchannel to_packed(SubchannelView interleaved);
Subchannel to_interleaved(SubchannelView packed);
QBytes q_of(SubchannelView block, SubchannelForm form);

/// CRC-16 of polynomial 0x1021, most significant bit first, initial 0, before the inversion it is stored with.
std::uint16_t q_crc(ByteView bytes);
bool q_crc_fits(const QBytes& q);

/// By which form more Q checksums fit; nothing if none does under either.
std::optional<SubchannelForm> detect_form(std::span<const Subchannel> blocks);

/// Which part of the disc a Q block stands in.
enum class QArea { program, lead_in, lead_out };

struct Q {
  bool crc_fits = false;
  int control = 0;  ///< bit 0 pre-emphasis, 1 copy permitted, 2 data, 3 four channels
  int adr = 0;      ///< 1 position, 2 catalogue, 3 ISRC, 5 pointers
  QArea area = QArea::program;
  int track = 0, index = 0;          ///< position; AA in the lead-out has no number
  int point = 0;                     ///< lead-in: track number, or 0xA0, 0xA1, 0xA2
  std::optional<Msf> relative = {};  ///< time in the track (or running time)
  std::optional<Msf> absolute = {};  ///< on the disc (or PMIN PSEC PFRAME)
};
Q parse_q(const QBytes& q);

/// A program-area position with its checksum.
struct QPosition {
  int control, track, index;
  Lba lba;            ///< absolute
  std::int32_t time;  ///< frames in the track; in a pause those left to its end
};
QBytes make_q(const QPosition& position);

}  // namespace opifex::cd
