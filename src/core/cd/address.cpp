#include "opifex/core/cd/address.hpp"

#include <array>
#include <charconv>

#include <fmt/format.h>

namespace opifex::cd {

Msf msf_of_frames(std::int64_t frames) {
  return {static_cast<int>(frames / (60 * kFramesPerSecond)), static_cast<int>(frames / kFramesPerSecond % 60),
          static_cast<int>(frames % kFramesPerSecond)};
}

Msf msf_of_lba(Lba lba) {
  const Lba frames = lba + kFirstPregap;
  return msf_of_frames(frames < 0 ? frames + kMaxDiscSectors : frames);
}

std::int32_t frames_of(Msf msf) { return (msf.minute * 60 + msf.second) * kFramesPerSecond + msf.frame; }

std::string to_string(Msf msf) { return fmt::format("{:02}:{:02}:{:02}", msf.minute, msf.second, msf.frame); }

std::optional<Msf> parse_msf(std::string_view text) {
  std::array<int, 3> part{};
  for (std::size_t i = 0; i < 3; ++i) {
    const std::size_t end = i < 2 ? text.find(':') : text.size();
    if (end == std::string_view::npos || end == 0 || end > (i == 0 ? 3u : 2u)) return std::nullopt;
    for (char c : text.substr(0, end))
      if (c < '0' || c > '9') return std::nullopt;
    std::from_chars(text.data(), text.data() + end, part.at(i));
    text.remove_prefix(i < 2 ? end + 1 : end);
  }
  if (part[1] > 59 || part[2] >= kFramesPerSecond) return std::nullopt;
  return Msf{part[0], part[1], part[2]};
}

std::optional<Msf> msf_from_bcd(std::byte minute, std::byte second, std::byte frame) {
  const auto m = from_bcd(minute), s = from_bcd(second), f = from_bcd(frame);
  if (!m || !s || !f || *s > 59 || *f >= kFramesPerSecond) return std::nullopt;
  return Msf{*m, *s, *f};
}

}  // namespace opifex::cd
