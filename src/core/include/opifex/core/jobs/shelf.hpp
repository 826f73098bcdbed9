/// The user's collection: added, asked, verified, renamed.
#pragma once

#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "opifex/core/jobs/job.hpp"
#include "opifex/core/shelf/shelf.hpp"

namespace opifex::jobs {

enum class ShelfAction {
  add,
  list,
  show,
  find,
  duplicates,
  missing,
  sets,
  rename,
  verify,
  moved,
  forget,
  write_lines,
  read_lines,
  stats
};

struct ShelfJob {
  ShelfAction action = ShelfAction::list;
  std::vector<std::string> words = {};  ///< behind the action
  std::string at = {};                  ///< a file, or "postgresql://..."
  std::string host = {};                ///< what this computer is called on the shelf
  ReadRules reading = {};
  ShelfFilter filter = {};
  std::vector<std::string> columns = {};  ///< of a list; empty: the usual ones
  bool as_csv = false;
  std::vector<std::string> against = {};  ///< known lists
  std::filesystem::path cache = {};       ///< for lists that were read; empty: none
  std::vector<std::string> by = {};       ///< of rename: known lists
  std::string pattern = {};               ///< of rename: "{title} ({region})"; empty: by lists
  std::filesystem::path undo = {}, out = {};
  std::optional<std::size_t> name_limit = {};
  std::string file_system = {};
  std::optional<std::uint64_t> most_milliseconds = {}, most_bytes = {};  ///< of verify
  bool gone_only = false, moved_only = false;                            ///< of forget
  bool again = false;                                                    ///< add: nothing counts as unchanged
  bool plan_only = false;
  Existing existing = Existing::keep;
  /// `settings` of shelf_settings(). Error (usage) for an action nobody knows, or other words than it takes.
  static ShelfJob of(const std::vector<std::string>& words, const Settings& settings);
};

/// What came of adding folders.
struct ShelfAdded {
  std::vector<std::string> folders;
  std::uint64_t read = 0, changed = 0, unchanged = 0, gone = 0, back = 0, forgotten = 0;  ///< items
  std::uint64_t other_files = 0;                                                          ///< that are no games
  std::uint64_t bytes_read = 0;
  double seconds = 0;
  std::map<std::string, std::uint64_t> verdicts = {};                ///< of the items that were read
  std::vector<std::pair<std::string, std::string>> not_intact = {};  ///< of those: where, and what is wrong
};

/// The items of a filter, which are read from the shelf as they are shown.
struct ShelfListed {
  const Shelf& shelf;
  const std::vector<std::string>& columns;
  bool as_csv = false;
  std::vector<std::int64_t> ids = {};
  std::uint64_t all = 0;  ///< on the shelf
};

struct ShelfShown {
  ShelfItem item;
  std::string stale = {};  ///< why what is recorded is not what is there; empty: nothing speaks against it
};

struct ShelfDoubled {
  std::vector<ShelfCopies> groups;
  std::map<std::int64_t, std::string> stale;  ///< items whose files are not as they were: no word about those
  std::uint64_t freed_bytes = 0;
};

struct ShelfSetsTold {
  std::vector<ShelfSet> sets;
};

struct ShelfVerified {
  struct Item {
    std::int64_t id;
    std::string place, outcome;  ///< "as recorded", "changed", "gone", "other date", "unreadable"
    std::string why = {};
    std::int64_t checked_before = 0;
    std::string verdict = {};
  };
  std::vector<Item> items;  ///< in the order in which they were read
  std::uint64_t bytes_read = 0, left = 0, as_recorded = 0, not_intact = 0, too_large = 0;
  double seconds = 0;
  std::int64_t longest_unchecked = 0;  ///< of what is left: seconds since 1970, 0: never
  bool planned_only = false;
};

struct ShelfMoved {
  std::vector<std::pair<ShelfItem, ShelfItem>> moved;  ///< from where, to where
  std::vector<ShelfItem> lost;                         ///< gone, and found nowhere else
};

struct ShelfForgot {
  std::vector<std::string> places;
  bool planned_only = false;
};

struct ShelfLines {
  std::string file;
  bool written = false;
  std::uint64_t items = 0, renewed = 0, older = 0;
};

struct ShelfSummary {
  ShelfStats stats;
  std::vector<ShelfFolder> folders;
};

struct ShelfTold {
  std::string shelf;  ///< which one, for people
  std::variant<ShelfAdded, ShelfListed, ShelfShown, ShelfDoubled, ShelfSetsTold, ShelfVerified, ShelfMoved, ShelfForgot,
               ShelfLines, ShelfSummary>
      what;
};

/// Outcome::good: nothing bad was found: nothing damaged among what was read, nothing missing, nothing changed, and
/// something was looked at at all.
Outcome run(const ShelfJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
