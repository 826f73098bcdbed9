/// All platforms that anything here can tell, and the registry of detectors. Adding one: its file and one line.
#pragma once

#include <optional>
#include <span>
#include <string>
#include <vector>

#include "opifex/core/image/platform.hpp"

namespace opifex {

struct Identity;
struct DiscView;

/// Tells the platforms of one family from a data track.
struct Detector {
  std::span<const Platform> platforms;
  /// Nothing if the disc is not of its kind.
  std::optional<Identity> (*identify)(const DiscView& view);
};

/// In order of precedence at equal confidence.
std::span<const Detector* const> detectors();

/// Those of detectors, of formats that tell their platform alone, and the plain ones.
const std::vector<Platform>& platforms();
/// Null if nobody tells such a one.
const Platform* find_platform(std::string_view id);
/// For people; "unknown" for none, the id itself if nobody knows it.
std::string platform_name(std::string_view id);
/// False for what nobody knows.
bool is_kind(std::string_view id, PlatformKind kind);

/// What is no machine's.
inline constexpr Platform kAudioCd{"audio-cd", "audio CD", PlatformKind::music};
inline constexpr Platform kIsoDisc{"iso9660", "data disc (ISO 9660), no known console", PlatformKind::plain_data};
inline constexpr Platform kUdfDisc{"udf", "data disc (UDF), no known console", PlatformKind::plain_data};
inline constexpr Platform kBluRayVideo{"bd-video", "Blu-ray video", PlatformKind::video};

}  // namespace opifex
