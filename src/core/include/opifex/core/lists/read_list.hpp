/// Known lists from files: XML datafiles, the older form in parentheses, SFV, md5sum and its kin, BSD lines; packed or
/// not. Content decides which; the file's ending only settles ties.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/lists/known_list.hpp"

namespace opifex {

/// What a list may be, whoever made it.
struct ListLimits {
  static constexpr std::uint64_t kBytes = 512ULL << 20;
  static constexpr std::uint64_t kEntries = 20'000'000;
  static constexpr std::size_t kName = 4096;
  static constexpr int kDepth = 32;
  static constexpr std::size_t kToken = 64 << 10;  ///< a tag, an attribute, a line
  static constexpr std::size_t kElementText = 128 << 10;
};

/// `name` stands for it in messages; its ending and its stem (the name of a checksum list's only set) are looked at.
/// Error (refused) with the line: entity_declaration, not_well_formed, bad_encoding, token_too_long, too_deep,
/// wrong_root, unbalanced, unterminated_quote, bad_structure, empty_file, unknown_format, too_large.
KnownListPtr read_list(const ByteSource& source, const std::string& name);

/// A list that could not be read, beside those that could.
struct RefusedList {
  std::string file;
  ErrorDetails why;
};

struct Lists {
  std::vector<KnownListPtr> lists;
  std::vector<RefusedList> refused;  ///< files of folders and members of archives
};

/// Each word is a list, an archive of lists, or a folder of both (looked through to its end; links are not followed).
/// `cache` is where read lists are kept (empty: nowhere). A word that is itself no list is an Error; so is a folder
/// without any ("no_list").
Lists find_lists(const std::vector<std::string>& words, const std::filesystem::path& cache, JobContext& context);

}  // namespace opifex
