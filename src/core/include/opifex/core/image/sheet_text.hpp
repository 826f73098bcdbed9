/// A sheet as a text that names the files of its set, and that can be written with other names in it.
#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace opifex {

struct SheetText {
  struct File {
    std::optional<std::filesystem::path> path;  ///< nothing: missing
    std::uint32_t line = 0;                     ///< of the sheet, from 1
    std::string name;                           ///< as the sheet has it
    std::string hint = {};                      ///< for a missing file: what may be meant
  };
  std::vector<File> files;  ///< in the sheet's order; one may be named more than once
  /// The text with one name for each of `files`; everything else in it stays. UTF-8.
  std::function<std::string(const std::vector<std::string>& names)> with_names;
};

}  // namespace opifex
