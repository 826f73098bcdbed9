/// Names that every drive and loader takes, and renaming a whole set at once.
#pragma once

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/image/format.hpp"

namespace opifex {

/// `stem` cut at a character so that `stem + longest_tail` has at most `limit` UTF-16 units; blanks and separators left
/// at its end go too. Error (usage) if nothing of it would be left.
std::string shorten_stem(std::string_view stem, std::string_view longest_tail, std::size_t limit);

struct RenameStep {
  std::filesystem::path from, to;
};
struct RenamePlan {
  std::vector<RenameStep> steps;    ///< data files and sidecars
  std::optional<RenameStep> sheet;  ///< rewritten rather than renamed
  std::string sheet_text = {};      ///< the new sheet
};

/// The files of a set under a new stem: sheet, data files and sidecars (same stem, other extension). `limit` shortens
/// the common part until every name fits; "(Track N)" and extensions stay. Error: bad_name, exists, needs_sheet.
RenamePlan plan_rename(const std::filesystem::path& set, const std::string& new_stem, std::optional<std::size_t> limit);

/// Carries it out; if a step fails, those before it are undone.
void run_rename(const RenamePlan& plan);

}  // namespace opifex
