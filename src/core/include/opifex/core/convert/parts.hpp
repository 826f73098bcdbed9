/// One big file as parts that fit a drive, and back: plain cuts, nothing is added.
#pragma once

#include <filesystem>

#include "opifex/core/image/format.hpp"

namespace opifex {

/// What loaders take on FAT32: 4 GiB less one cluster of 32 KiB.
inline constexpr std::uint64_t kFat32Part = 4'294'934'528;

/// Named as the format has it that knows the file or its extension, else NAME.EXT.001 .. `limit` is rounded down to
/// whole clusters of 32 KiB. Error (usage): fits_already, limit_too_small, too_many_parts.
WritePlan plan_split(const std::filesystem::path& file, const std::filesystem::path& folder, std::uint64_t limit);

/// The name of part `part` (from 0) of a file; without `names` as the format with its extension has it.
std::filesystem::path part_path(const std::filesystem::path& whole, std::size_t part,
                                const PartNaming* names = nullptr);

/// Cuts the output of a plan as it is written, if it may be larger than `limit`. Error (usage): limit_too_small,
/// too_many_parts; set_not_split if the plan has several outputs, which name each other.
void limit_parts(WritePlan& plan, std::uint64_t limit);

/// Error (needs_word, "left_over_part") if a part with this number is there from an earlier job: readers would take it
/// for one of the new file.
void refuse_left_over(const std::filesystem::path& whole, std::size_t part, const PartNaming* names);

/// True if the file is one of several plain parts.
bool is_in_parts(const std::filesystem::path& file);

/// The parts `part` belongs to, as one file in `folder`. Error: missing_part.
WritePlan plan_join(const std::filesystem::path& part, const std::filesystem::path& out);

}  // namespace opifex
