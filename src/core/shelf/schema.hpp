/// The tables of a shelf, version by version.
#pragma once

namespace opifex {

class Database;

inline constexpr int kShelfVersion = 3;

/// Makes the tables, or brings older ones to `version`, each step whole or not at all. Error (refused): "shelf_newer"
/// for what a later program has made, "not_a_shelf" for a database with other tables.
void migrate(Database& database, int version = kShelfVersion);

}  // namespace opifex
