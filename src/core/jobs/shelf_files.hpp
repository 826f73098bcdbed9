/// The files of this computer, held against what a shelf has recorded of them.
#pragma once

#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "opifex/core/base/error.hpp"
#include "opifex/core/base/progress.hpp"
#include "opifex/core/shelf/item.hpp"

namespace opifex::jobs {

/// As it is now; nothing if it is not there. Error (device) if nobody can say.
std::optional<ShelfFile> look_at(const std::string& path);

/// Names the file has, on the shelf or not; 0 if it is not there.
std::uint64_t names_of(const std::string& path);

/// It was changed so lately that a change now would leave no other date: what is read of it may be old already.
bool is_too_young(const ShelfFile& file, std::int64_t now_ns);
/// Nanoseconds since 1970 by the clock of this computer.
std::int64_t nanoseconds_now();

/// Every file at or below a place.
struct FileScan {
  struct Unseen {
    std::string path;
    Warning why;
  };
  std::unordered_map<std::string, ShelfFile> files = {};
  std::vector<Unseen> unseen = {};  ///< folders that could not be read: what is in them is not gone
};
/// Links are not followed, as a survey does not. `left_out`: files that are passed over.
FileScan scan_files(const std::string& place, const std::vector<std::string>& left_out, JobContext& context);

/// Asks the system to read the file from its drive the next time, not from memory: what was read an hour ago may still
/// be there, whatever the drive has become. Where that cannot be had it is left as it is.
void drop_cached(const std::string& path);

/// Why what is recorded is not what is there: "it is gone", "it was changed since"; empty: nothing speaks against it.
/// Only of items of this computer; needs their files.
std::string why_stale(const ShelfItem& item);

}  // namespace opifex::jobs
