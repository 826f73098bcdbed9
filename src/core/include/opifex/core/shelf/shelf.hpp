/// The index of a collection. Everything in it was read from the collection itself: it can be made again at any time.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/shelf/item.hpp"

namespace opifex {

class Database;

/// Which items, and in which order.
struct ShelfFilter {
  std::string host = {}, platform = {}, format = {}, verdict = {}, region = {};  ///< empty: any
  enum class Known { any, yes, no, unasked } known = Known::any;
  enum class Gone { no, yes, any } gone = Gone::no;
  bool not_compressed = false, incomplete_sets = false;
  std::optional<std::int64_t> not_checked_since = {};  ///< seconds since 1970
  std::string below = {};                              ///< a folder, or a file: absolute
  std::string words = {};                              ///< all of them begin a word of its title, serial or path
  std::vector<std::int64_t> ids = {};                  ///< empty: any
  std::vector<std::string> sort = {};                  ///< of shelf_columns(); with '-' before it from the end
  std::uint64_t limit = 0;                             ///< 0: all

  /// It takes every item that is there.
  bool is_plain() const {
    return platform.empty() && format.empty() && verdict.empty() && region.empty() && known == Known::any &&
           gone == Gone::no && !not_compressed && !incomplete_sets && !not_checked_since && below.empty() &&
           words.empty() && ids.empty() && limit == 0;
  }
};

/// What a list of items can be sorted by, and shows.
const std::vector<std::string>& shelf_columns();

struct ShelfFolder {
  std::string host, path;
  std::int64_t scanned_at = 0;
};

/// A file, and the items that lie in it.
struct ShelfStanding {
  ShelfFile file;
  std::vector<std::int64_t> items;
};

struct ShelfCount {
  std::string name;
  std::uint64_t items = 0, stored_bytes = 0, content_bytes = 0;
};

struct ShelfStats {
  ShelfCount all, gone, compressed;
  std::vector<ShelfCount> platforms, formats, verdicts, known;
  std::vector<ShelfCount> ages;  ///< of the last check: "a week", "a month", "a year", "longer", "never"
  std::uint64_t rotten = 0, sets = 0, incomplete_sets = 0, hosts = 0;
};

/// A game of several discs.
struct ShelfSet {
  std::string platform, name;
  std::vector<ShelfItem> discs;  ///< by number; where they lie, their title and verdict
  std::vector<int> missing;      ///< numbers that are not there
};

/// A file that would be gone for good.
struct ShelfFreed {
  std::string host, path;
  std::uint64_t size_bytes = 0, names = 1;  ///< names of it that the shelf knows
};

/// Copies of one content.
struct ShelfCopies {
  std::vector<ShelfItem> copies;         ///< the one to keep first
  std::string why;                       ///< that one
  std::vector<std::string> against;      ///< of each other one: what the first has before it
  bool same_bytes = true;                ///< false: the same files, on a disc that was trimmed or laid out anew
  std::uint64_t freed_bytes = 0;         ///< if all others were removed: files that nothing else needs
  std::vector<std::int64_t> bound = {};  ///< others whose files hold something else, too: removing them frees nothing
  std::vector<ShelfFreed> freed = {};    ///< the files that `freed_bytes` is the sum of
};

class Shelf {
 public:
  enum class Opening { create, existing };
  /// `at`: a file, or "postgresql://...". An older shelf is brought to this program's version. Error: no_shelf,
  /// shelf_newer (refused), shelf_damaged, not_a_shelf, shelf_locked, server_gone.
  Shelf(const std::string& at, Opening how);
  ~Shelf();
  Shelf(const Shelf&) = delete;

  const std::string& name() const;  ///< for people: without a password
  /// Before a verdict rests on it: Error (refused, "shelf_damaged") if the database is not whole. Reads all of a file.
  void require_sound() const;

  std::vector<ShelfFolder> folders() const;
  void add_folder(const ShelfFolder& folder);
  /// Those at or below `path`: they are no longer looked through by themselves.
  void forget_folder(const std::string& host, const std::string& path);

  /// All files at or below `path`.
  std::vector<ShelfStanding> standing(const std::string& host, const std::string& path) const;
  /// Of the items at or below `path` whatever is_settled() needs, without their contents.
  std::vector<ShelfItem> items_below(const std::string& host, const std::string& path) const;

  struct Change {
    std::vector<ShelfItem> put = {};     ///< by host, path and inside; ids are filled in
    std::vector<ShelfFile> others = {};  ///< files that are no games
    std::vector<std::int64_t> forget = {}, gone = {}, back = {};
    std::vector<std::int64_t> checked = {};                         ///< verified now, and as recorded
    std::vector<std::pair<std::int64_t, std::string>> rotten = {};  ///< no longer as recorded: why
    std::vector<std::string> lost_files = {};                       ///< of no item, and no longer there
    struct Known {
      std::int64_t id;
      std::string verdict, list, set;
    };
    std::vector<Known> known = {};
    bool others_not_known = false;        ///< of all that are there and not among `known`: no list knows them
    std::vector<ShelfItem> renamed = {};  ///< by their numbers: where they lie now
    /// Files that were renamed: from, and what they are now.
    std::vector<std::pair<std::string, ShelfFile>> moved = {};
  };
  /// All of it or nothing. `now`: seconds since 1970.
  void apply(Change& change, const std::string& host, std::int64_t now);

  /// The numbers of all items that fit, in order.
  std::vector<std::int64_t> ids(const ShelfFilter& filter) const;
  /// Items in this order, without files and contents; what is not there any more is left out.
  void each(const std::vector<std::int64_t>& ids, const std::function<void(const ShelfItem&)>& item) const;
  std::vector<ShelfItem> list(const ShelfFilter& filter) const;
  std::uint64_t count(const ShelfFilter& filter) const;
  /// With all there is to it; nothing if the shelf has no such item.
  std::optional<ShelfItem> item(std::int64_t id) const;
  void add_details(std::vector<ShelfItem>& items) const;
  /// Items that are there, and as recorded, in which anything has one of these sizes; empty: all of them.
  /// The same for those of which all tracks or files, one behind the other, have one of these sizes.
  std::vector<std::int64_t> ids_of_sums(const std::vector<std::uint64_t>& sizes) const;
  std::vector<std::int64_t> rotten_ids() const;
  std::vector<std::int64_t> ids_of_sizes(const std::vector<std::uint64_t>& sizes) const;

  ShelfStats stats(std::int64_t now) const;
  std::vector<ShelfSet> sets(bool only_incomplete) const;
  std::vector<ShelfCopies> duplicates() const;
  /// Items that are gone, each with one of the same content that is there.
  std::vector<std::pair<ShelfItem, ShelfItem>> moved() const;

  /// One JSON object a line (docs/shelf.md).
  void write_lines(const std::function<void(const std::string& line)>& line) const;
  struct Imported {
    std::uint64_t items = 0, renewed = 0, older = 0;  ///< older: what is here was checked later
  };
  /// All lines or none. Error (refused, "bad_shelf_lines") with the line.
  Imported read_lines(const std::function<std::optional<std::string>()>& next, const std::string& file);

 private:
  std::unique_ptr<Database> database_;
};

}  // namespace opifex
