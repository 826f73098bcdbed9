/// What the files that carry out a ShelfJob share.
#pragma once

#include "opifex/core/jobs/shelf.hpp"
#include "opifex/core/lists/match.hpp"
#include "opifex/core/lists/read_list.hpp"

namespace opifex::jobs {

Outcome add_to_shelf(const ShelfJob& job, Listener& listener, JobContext& context);
Outcome ask_shelf(const ShelfJob& job, Listener& listener);
Outcome verify_shelf(const ShelfJob& job, Listener& listener, JobContext& context);
Outcome missing_on_shelf(const ShelfJob& job, Listener& listener, JobContext& context);
Outcome rename_on_shelf(const ShelfJob& job, Listener& listener, JobContext& context);
Outcome forget_on_shelf(const ShelfJob& job, Listener& listener);
Outcome write_shelf(const ShelfJob& job, Listener& listener);
Outcome read_shelf(const ShelfJob& job, Listener& listener);

/// Held against the lists: what they know is kept with each item. Items whose files are not as they were are left out
/// and told.
struct ListsTold {
  Lists lists = {};
  std::vector<ListMatch> matches = {};
  std::uint64_t stale = 0;
};
ListsTold hold_against(const ShelfJob& job, Shelf& shelf, Listener& listener, JobContext& context);

/// The item that a word names: its number, or the path of its leading file. Error (usage, "no_item").
ShelfItem item_named(const Shelf& shelf, const ShelfJob& job, const std::string& word);
/// Absolute, with links followed, as the shelf has it.
std::string place_named(const std::string& word);

}  // namespace opifex::jobs
