/// Items as the tables have them.
#pragma once

#include <string_view>

#include "opifex/core/shelf/shelf.hpp"

#include "database.hpp"

namespace opifex {

/// Columns of `items`, with their types, as item_of() reads them.
inline constexpr std::string_view kItemColumns =
    "id, host, path, inside, kind, format, archive, platform, title, serial, region, disc, discs, set_name, verdict, "
    "remark, state, complete, compressed, rotten, stored_bytes, content_bytes, content_key, game_key, known, "
    "known_list, "
    "known_set, added_at, checked_at, gone_at";
inline constexpr std::string_view kItemTypes =
    "ntttttttt"
    "ttnntt"
    "ttnnnnntt"
    "tttnnn";
ShelfItem item_of(const DbRow& row);

inline constexpr std::string_view kFileColumns = "f.path, f.size_bytes, f.modified_ns, f.inode, f.device, f.other";
inline constexpr std::string_view kFileTypes = "tnnnnn";
/// From column `first` on.
ShelfFile file_of(const DbRow& row, std::size_t first = 0);

inline constexpr std::string_view kContentColumns =
    "c.kind, c.path, c.through, c.parts, c.disk, c.merged, c.sheet, c.size_bytes, c.crc32, c.md5, c.sha1";
inline constexpr std::string_view kContentTypes = "ntttnnnnttt";
ShelfContent content_of(const DbRow& row, std::size_t first = 0);

/// What makes a place unique, whatever its length.
std::string place_key(std::string_view host, std::string_view path, std::string_view inside = {});

/// Files that are known already are brought up to date.
std::int64_t put_file(Database& database, const std::string& host, const ShelfFile& file);
void put_item(Database& database, ShelfItem& item);
/// Those of these files in which no item lies any more.
void drop_unused_files(Database& database, const std::vector<std::int64_t>& files);
/// Of an item that has none yet.
void put_words(Database& database, const ShelfItem& item);

/// Of what begins with `path`: both ends for a column of which the index has the first 200 characters.
std::pair<std::string, std::string> path_bounds(const std::string& path);
/// `path` itself, or something in it.
bool lies_at_or_below(std::string_view what, std::string_view path);

}  // namespace opifex
