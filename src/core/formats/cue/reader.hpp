#pragma once

#include <array>

#include "opifex/core/image/format.hpp"

namespace opifex {

extern const Format kCueFormat;
extern const Format kCueTracksFormat;

namespace cue {

/// Where the gap before a track goes when each track has a file of its own.
enum class PregapFile { own, previous };
inline constexpr Setting kGaps{.name = "gaps",
                               .type = SettingType::choice,
                               .help = "own (default) or previous: which file gets a track's pregap",
                               .value = "WHERE",
                               .preset = "own",
                               .words = [] {
                                 return std::vector<std::string>{"own", "previous"};
                               }};
inline constexpr std::array kTrackSettings = {&kGaps};

int probe(const ByteSource& source, std::string_view file_name);
Image open(const std::filesystem::path& path, const OpenOptions& options);
SheetText read_sheet_text(const std::filesystem::path& path);
std::optional<std::string> usual_shape(const std::string& text, const std::vector<std::string>& names, LineEnd end);
WritePlan plan_one_bin(const Image& image, const std::filesystem::path& out, const Settings& settings);
WritePlan plan_bin_per_track(const Image& image, const std::filesystem::path& out, const Settings& settings);

}  // namespace cue
}  // namespace opifex
