/// A connection to the database of a shelf: SQLite in a file, or PostgreSQL on a server, through SOCI.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

namespace opifex {

/// What stands in a column, or is given for one.
using DbValue = std::variant<std::int64_t, std::string>;
using DbValues = std::vector<DbValue>;

/// One row of an answer; columns count from 0. A null is 0 or empty.
class DbRow {
 public:
  virtual ~DbRow() = default;
  virtual std::int64_t number(std::size_t column) const = 0;
  virtual const std::string& text(std::size_t column) const = 0;
};

enum class DbOpening { create, existing };

/// Every failure is an Error: "shelf_locked", "shelf_damaged", "no_space", "server_gone" ... Not safe from several
/// threads at once.
class Database {
 public:
  /// `at`: a file, or "postgresql://...". Error (refused, "no_shelf") if it is not there and must be.
  Database(const std::string& at, DbOpening how);
  ~Database();
  Database(const Database&) = delete;

  /// True of "postgresql://" and "postgres://".
  static bool is_server(std::string_view at);
  /// `at` for people: without a password.
  static std::string shown(const std::string& at);

  bool is_server() const { return server_; }
  const std::string& name() const { return name_; }

  /// A command that answers nothing. `{id}`, `{int}` and `{text}` in it stand for this server's types.
  void command(const std::string& sql);
  /// Rows changed. Parameters stand as `:a`, `:b` ... in the order of `values`.
  std::uint64_t change(const std::string& sql, const DbValues& values);
  /// `columns`: a letter for each, 'n' a number, 't' a text.
  void each(const std::string& sql, const DbValues& values, std::string_view columns,
            const std::function<void(const DbRow&)>& row);
  /// The number in the first column of the first row; `otherwise` if there is none.
  std::int64_t number(const std::string& sql, const DbValues& values, std::int64_t otherwise = 0);

  /// Error (refused, "shelf_damaged") if the tables and indexes of the file do not fit together. Reads all of it.
  void require_sound();

  /// All that `work` changes, or nothing of it. One writer at a time; another one waits some seconds.
  void transaction(const std::function<void()>& work);

 private:
  struct Connection;
  struct Prepared;
  std::shared_ptr<Prepared> prepared(const std::string& sql, const DbValues& values, std::string_view columns);
  void connect_file(DbOpening how);
  void refuse_other_file() const;
  void refuse_cut() const;
  template <typename Do>
  auto guarded(const Do& action);

  std::string at_, name_;
  bool server_;
  std::unique_ptr<Connection> connection_;
  std::map<std::string, std::shared_ptr<Prepared>, std::less<>> prepared_;
  std::uint64_t device_ = 0, inode_ = 0;  // of the file
};

}  // namespace opifex
