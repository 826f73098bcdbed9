/// Disc addresses: logical block addresses, minute:second:frame times, BCD (ECMA-130, 14 and 22).
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace opifex::cd {

/// Logical block address in sectors; LBA 0 is 00:02:00. Negative in the first pregap.
using Lba = std::int32_t;

inline constexpr int kFramesPerSecond = 75;
inline constexpr Lba kFirstPregap = 150;          ///< sectors between 00:00:00 and LBA 0
inline constexpr Lba kMaxDiscSectors = 450'000;   ///< of a CD: 99:59:74 + 1; longer images are refused
inline constexpr Lba kMaxGdRomSectors = 549'151;  ///< of a GD-ROM, whose outer area is packed more densely: LBA 549150

/// A time of 75 frames a second.
struct Msf {
  int minute = 0, second = 0, frame = 0;
  friend bool operator==(const Msf&, const Msf&) = default;
};

/// Absolute time of a sector (LBA 0 = 00:02:00). Below LBA -150 it wraps under 100 minutes, as in a lead-in.
Msf msf_of_lba(Lba lba);
/// Times as lengths: 75 frames = 00:01:00.
Msf msf_of_frames(std::int64_t frames);
std::int32_t frames_of(Msf msf);
inline Lba lba_of(Msf msf) { return frames_of(msf) - kFirstPregap; }

/// "mm:ss:ff", minutes with as many digits as they need.
std::string to_string(Msf msf);
/// d{1,3}:d{1,2}:d{1,2}, seconds to 59, frames to 74; nothing else is a time.
std::optional<Msf> parse_msf(std::string_view text);

constexpr std::optional<int> from_bcd(std::byte b) {
  const int high = std::to_integer<int>(b) >> 4, low = std::to_integer<int>(b) & 15;
  return high > 9 || low > 9 ? std::nullopt : std::optional(high * 10 + low);
}
constexpr std::byte to_bcd(int value) { return static_cast<std::byte>(value / 10 * 16 + value % 10); }

/// Three BCD bytes as a time; nothing if they are no BCD, or seconds or frames are out of range.
std::optional<Msf> msf_from_bcd(std::byte minute, std::byte second, std::byte frame);

}  // namespace opifex::cd
