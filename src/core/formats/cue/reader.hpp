#pragma once

#include "opifex/core/image/format.hpp"

namespace opifex {

extern const Format kCueFormat;
extern const Format kCueTracksFormat;

namespace cue {

int probe(const ByteSource& source, std::string_view file_name);
Image open(const std::filesystem::path& path, const OpenOptions& options);
WritePlan plan_one_bin(const Image& image, const std::filesystem::path& out, const WriteOptions& options);
WritePlan plan_bin_per_track(const Image& image, const std::filesystem::path& out, const WriteOptions& options);

}  // namespace cue
}  // namespace opifex
