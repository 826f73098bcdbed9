/// Finding and opening the files a cue sheet names.
#pragma once

#include <filesystem>
#include <optional>
#include <vector>

#include "opifex/core/formats/cue/sheet.hpp"
#include "opifex/core/io/file_space.hpp"

namespace opifex::cue {

struct FoundFile {
  std::optional<std::filesystem::path> path;  ///< nothing: missing
  std::optional<Warning> warning = {};        ///< what was assumed
  std::string hint = {};                      ///< for a missing file: what may be meant
};

/// One entry a file of the sheet, in its order. Never leaves `folder`: absolute names and names with ".." count by
/// their last component only. Error: ambiguous_file, file_reused.
std::vector<FoundFile> find_files(const Sheet& sheet, const std::filesystem::path& sheet_path,
                                  const FileSpace& files = *host_files());

/// The samples of an audio file: PCM, 2 channels, 44 100 Hz, 16 bit.
struct AudioFile {
  SourcePtr samples;  ///< completed with silence to a whole sector
  bool big_endian = false;
  bool padded = false;  ///< silence was added
};
/// Error: unsupported_wave, truncated.
AudioFile open_wave(const SourcePtr& file);
AudioFile open_aiff(const SourcePtr& file);

}  // namespace opifex::cue
