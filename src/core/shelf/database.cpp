#include "database.hpp"

#include <deque>
#include <filesystem>
#include <fstream>

#include <soci/soci.h>
#include <soci/sqlite3/soci-sqlite3.h>
#include <sys/stat.h>

#include "opifex/core/base/error.hpp"
#include "opifex/core/base/text.hpp"

#include "plain_text.hpp"

namespace opifex {

namespace fs = std::filesystem;

struct Database::Connection {
  soci::session session;
};

/// A statement that is kept: parsing one takes longer than running it.
struct Database::Prepared {
  explicit Prepared(soci::session& session) : statement(session) {}

  std::string types;  // of the parameters and, behind a '>', of the columns
  // SOCI keeps the addresses of what it is given.
  std::deque<long long> numbers_in, numbers_out;
  std::deque<std::string> texts_in, texts_out;
  std::deque<soci::indicator> indicators;
  std::vector<std::size_t> place;  // of a column among those of its type
  soci::statement statement;
};

namespace {

std::string types_of(const DbValues& values) {
  std::string types;
  for (const DbValue& v : values) types += std::holds_alternative<std::int64_t>(v) ? 'n' : 't';
  return types;
}

class Row final : public DbRow {
 public:
  Row(const std::deque<long long>& numbers, const std::deque<std::string>& texts,
      const std::deque<soci::indicator>& indicators, const std::vector<std::size_t>& place)
      : numbers_(numbers), texts_(texts), indicators_(indicators), place_(place) {}
  std::int64_t number(std::size_t c) const override { return indicators_[c] == soci::i_ok ? numbers_[place_[c]] : 0; }
  const std::string& text(std::size_t c) const override {
    static const std::string kNone;
    return indicators_[c] == soci::i_ok ? texts_[place_[c]] : kNone;
  }

 private:
  const std::deque<long long>& numbers_;
  const std::deque<std::string>& texts_;
  const std::deque<soci::indicator>& indicators_;
  const std::vector<std::size_t>& place_;
};

std::string first_line(const std::string& message) { return message.substr(0, message.find('\n')); }

/// The first line of what the server itself says, where SOCI puts one of its own before it.
std::string server_line(const std::string& message) {
  constexpr std::string_view kOwn = "Cannot establish connection to the database.\n";
  return first_line(message.starts_with(kOwn) ? message.substr(kOwn.size()) : message);
}

// Results of SQLite (sqlite3.h); SOCI's header does not pass them on.
enum SqliteResult : int {
  kPerm = 3,
  kBusy = 5,
  kLocked = 6,
  kReadOnly = 8,
  kIoError = 10,
  kCorrupt = 11,
  kFull = 13,
  kCantOpen = 14,
  kNotADatabase = 26
};

ErrorDetails sqlite_details(int result, const std::string& message, const std::string& name) {
  ErrorDetails e{.fault = Fault::device, .code = "shelf_failed", .file = name};
  switch (result & 0xFF) {  // the rest says more of the same
    case kBusy:
    case kLocked:
      e.code = "shelf_locked";
      e.what = "another program holds the shelf, and did not let go of it";
      e.hint = "try again when it is done; what was added until now is kept";
      return e;
    case kFull:
      e.code = "no_space";
      e.cause = Cause::no_space;
      e.what = "there is no room left for the shelf on its drive";
      e.hint = "make room and run the same command again: what was added until now is kept";
      return e;
    case kCorrupt:
    case kNotADatabase:
      e.fault = Fault::refused;
      e.code = "shelf_damaged";
      e.what = "the shelf is damaged, or is none";
      e.found = message;
      e.hint = "bring back a copy of the file, or make a new one: no image is touched by that";
      return e;
    case kReadOnly:
    case kPerm:
      e.what = "the shelf cannot be written";
      e.hint = "look at the rights of the file and of its folder";
      return e;
    case kCantOpen:
      e.what = "the shelf cannot be opened";
      e.hint = "look at the rights of the file and of its folder";
      return e;
    default:
      e.what = "the shelf cannot be read or written";
      e.found = message;
      e.hint = result == kIoError ? "look at its drive" : "";
      return e;
  }
}

[[noreturn]] void throw_server(const soci::soci_error& error, const std::string& name) {
  const bool lost = error.get_error_category() == soci::soci_error::connection_error ||
                    std::string_view(error.what()).starts_with("Cannot establish connection") ||
                    std::string_view(error.what()).find("no connection") != std::string_view::npos ||
                    std::string_view(error.what()).find("terminat") != std::string_view::npos;
  ErrorDetails e{.fault = Fault::device, .code = lost ? "server_gone" : "shelf_failed", .file = name};
  e.what = lost ? "the server of the shelf does not answer, or lets nobody in" : "the server of the shelf refused";
  e.found = server_line(error.what());
  e.hint = lost ? "start it and run the same command again: what was added until now is kept whole" : "";
  throw Error(std::move(e));
}

/// Only where a server is asked for, and once. Its name has its version: the plain one comes with the headers only.
void load_server_library() {
  static const bool kLoaded = [] {
    soci::dynamic_backends::register_backend("postgresql", "libsoci_postgresql.so.4.0");
    return true;
  }();
  static_cast<void>(kLoaded);
}

/// Readers do not wait for whoever adds. Two that begin a new shelf at once stand in each other's way, and for that
/// SQLite does not wait by itself.
void write_ahead(soci::session& session) {
  using namespace std::chrono_literals;
  std::string mode;
  for (int tries = 0;; ++tries) {
    try {
      session << "pragma journal_mode = wal", soci::into(mode);
      return;
    } catch (const soci::sqlite3_soci_error& e) {
      constexpr int kMostTries = 100;
      if ((e.result() & 0xFF) != kBusy || tries == kMostTries) throw;
      std::this_thread::sleep_for(50ms);
    }
  }
}

/// The types of this server.
std::string with_types(std::string sql, bool server) {
  const auto replace = [&](std::string_view word, std::string_view by) {
    for (std::size_t at = sql.find(word); at != std::string::npos; at = sql.find(word, at + by.size()))
      sql.replace(at, word.size(), by);
  };
  replace("{id}", server ? "bigint generated by default as identity primary key" : "integer primary key");
  replace("{int}", server ? "bigint not null default 0" : "integer not null default 0");
  // Both order and compare texts by their bytes.
  // Rows in the order of their key, where a table is nothing but its key.
  replace("{by_key}", server ? "" : "without rowid");
  replace("{text_only}", server ? "text collate \"C\"" : "text");
  replace("{text}", server ? "text collate \"C\" not null default ''" : "text not null default ''");
  return sql;
}

}  // namespace

bool Database::is_server(std::string_view at) {
  return at.starts_with("postgresql://") || at.starts_with("postgres://");
}

std::string Database::shown(const std::string& at) {
  if (!is_server(at)) return at;
  const std::size_t from = at.find("://") + 3, host = at.find('@', from), colon = at.find(':', from);
  std::string text = at;
  if (host != std::string::npos && colon < host) text.replace(colon + 1, host - colon - 1, "***");
  const std::size_t key = text.find("password=");
  if (key != std::string::npos) {
    const std::size_t value = key + std::string_view("password=").size();
    text.replace(value, std::min(text.find('&', value), text.size()) - value, "***");
  }
  return text;
}

template <typename Do>
auto Database::guarded(const Do& action) {
  try {
    return action();
  } catch (const soci::sqlite3_soci_error& e) {
    throw Error(sqlite_details(e.result(), first_line(e.what()), name_));
  } catch (const soci::soci_error& e) {
    if (server_) throw_server(e, name_);
    throw Error(sqlite_details(0, first_line(e.what()), name_));
  }
}

Database::Database(const std::string& at, DbOpening how)
    : at_(at), name_(shown(at)), server_(is_server(at)), connection_(std::make_unique<Connection>()) {
  if (!server_) {
    connect_file(how);
    return;
  }
  guarded([&] {
    load_server_library();
    connection_->session.open("postgresql", at_);
    connection_->session << "set client_min_messages = warning";
  });
}

Database::~Database() = default;

void Database::refuse_other_file() const {
  std::error_code ignored;
  if (!fs::is_regular_file(at_, ignored) || fs::file_size(at_, ignored) == 0) return;
  std::array<char, 16> head{};
  std::ifstream(at_, std::ios::binary).read(head.data(), head.size());
  if (std::string_view(head.data(), head.size()).starts_with("SQLite format 3")) return;
  throw Error({.code = "not_a_shelf",
               .what = "this file is no shelf",
               .file = name_,
               .hint = "name another file with <at>; nothing was written"});
}

void Database::refuse_cut() const {
  // The head says how many pages there are (SQLite's file format, 1.3). While there is a log, the last ones may be in
  // it.
  std::error_code none;
  if (const auto log = fs::file_size(at_ + "-wal", none); !none && log > 0) return;
  std::array<char, 32> head{};
  std::ifstream file(at_, std::ios::binary);
  if (!file.read(head.data(), head.size())) return;  // empty: nothing is in it yet
  const auto big = [&](std::size_t at, std::size_t bytes) {
    std::uint64_t n = 0;
    for (std::size_t i = 0; i < bytes; ++i) n = n << 8 | static_cast<unsigned char>(head[at + i]);
    return n;
  };
  const std::uint64_t page = big(16, 2) == 1 ? 65'536 : big(16, 2), pages = big(28, 4);
  std::error_code ignored;
  const std::uint64_t size = fs::file_size(at_, ignored);
  if (ignored || size >= page * pages) return;
  throw Error(sqlite_details(kCorrupt, fmt::format("{} of its {} bytes", grouped(size), grouped(page * pages)), name_));
}

void Database::connect_file(DbOpening how) {
  std::error_code ignored;
  if (fs::is_directory(at_, ignored))
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "a shelf is a file, and this is a folder",
                 .file = name_,
                 .hint = "name a file with <at>"});
  if (how == DbOpening::existing && !fs::exists(at_, ignored))
    throw Error({.code = "no_shelf",
                 .what = "there is no shelf yet",
                 .file = name_,
                 .hint = "<job shelf> add FOLDER makes it"});
  if (at_.find('=') != std::string::npos && at_.find('"') != std::string::npos)
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "a shelf cannot have both = and a quotation mark in its name",
                 .file = name_,
                 .hint = "name another file with <at>"});
  refuse_other_file();
  if (const fs::path folder = fs::path(at_).parent_path(); how == DbOpening::create && !folder.empty()) {
    std::error_code error;
    fs::create_directories(folder, error);
    if (error) throw_system_error("cannot make the folder of the shelf", folder, error.value());
  }
  guarded([&] {
    // A name with '=' has to stand in quotes, which no name with quotes can.
    const bool plain = at_.find('=') == std::string::npos;
    connection_->session.open(soci::sqlite3, plain ? at_ : "dbname=\"" + at_ + "\"");
    long long wait = 0;
    connection_->session << "pragma busy_timeout = 5000", soci::into(wait);
    // Of a new one: measured on a hundred thousand items, sums over an index are quicker than with 4 KiB, single rows
    // than with 16.
    connection_->session << "pragma page_size = 8192";
    write_ahead(connection_->session);
    connection_->session << "pragma synchronous = normal";
    connection_->session << "pragma cache_size = -8000";  // KiB
    // What is mapped is not copied: a third of the time of single rows from all over the file.
    long long mapped = 0;
    connection_->session << "pragma mmap_size = 50331648", soci::into(mapped);
    connection_->session << "pragma foreign_keys = on";
  });
  refuse_cut();
  struct stat seen {};
  if (::stat(at_.c_str(), &seen) == 0) device_ = seen.st_dev, inode_ = seen.st_ino;
}

void Database::command(const std::string& sql) {
  guarded([&] { connection_->session << with_types(sql, server_); });
}

std::shared_ptr<Database::Prepared> Database::prepared(const std::string& sql, const DbValues& values,
                                                       std::string_view columns) {
  const std::string types = types_of(values) + '>' + std::string(columns);
  const auto kept = prepared_.find(sql);
  // One whose rows are being read is not begun anew under its reader.
  if (kept != prepared_.end() && kept->second->types == types && kept->second.use_count() == 1) return kept->second;
  const auto made = std::make_shared<Prepared>(connection_->session);
  Prepared& p = *made;
  p.types = types;
  for (const DbValue& v : values) {
    if (std::holds_alternative<std::int64_t>(v))
      p.statement.exchange(soci::use(p.numbers_in.emplace_back()));
    else
      p.statement.exchange(soci::use(p.texts_in.emplace_back()));
  }
  for (const char column : columns) {
    soci::indicator& indicator = p.indicators.emplace_back(soci::i_null);
    if (column == 'n') {
      p.place.push_back(p.numbers_out.size());
      p.statement.exchange(soci::into(p.numbers_out.emplace_back(), indicator));
    } else {
      p.place.push_back(p.texts_out.size());
      p.statement.exchange(soci::into(p.texts_out.emplace_back(), indicator));
    }
  }
  p.statement.alloc();
  p.statement.prepare(sql);
  p.statement.define_and_bind();
  // Those with lists of numbers in them do not come again.
  constexpr std::size_t kMostKept = 64, kLongestKept = 2000;
  if (prepared_.size() < kMostKept && sql.size() <= kLongestKept && kept == prepared_.end())
    prepared_.emplace(sql, made);
  return made;
}

namespace {

void fill(const DbValues& values, std::deque<long long>& numbers, std::deque<std::string>& texts) {
  std::size_t n = 0, t = 0;
  for (const DbValue& v : values) {
    if (const auto* number = std::get_if<std::int64_t>(&v))
      numbers[n++] = *number;
    else
      texts[t++] = to_plain(std::get<std::string>(v));
  }
}

}  // namespace

std::uint64_t Database::change(const std::string& sql, const DbValues& values) {
  return guarded([&] {
    const std::shared_ptr<Prepared> one = prepared(sql, values, "");
    Prepared& p = *one;
    fill(values, p.numbers_in, p.texts_in);
    p.statement.execute(true);
    return static_cast<std::uint64_t>(std::max<long long>(p.statement.get_affected_rows(), 0));
  });
}

void Database::each(const std::string& sql, const DbValues& values, std::string_view columns,
                    const std::function<void(const DbRow&)>& row) {
  guarded([&] {
    const std::shared_ptr<Prepared> one = prepared(sql, values, columns);
    Prepared& p = *one;
    fill(values, p.numbers_in, p.texts_in);
    const Row view(p.numbers_out, p.texts_out, p.indicators, p.place);
    p.statement.execute();
    while (p.statement.fetch()) {
      for (std::string& text : p.texts_out)
        if (text.find('\\') != std::string::npos) text = from_plain(text);
      row(view);
    }
  });
}

std::int64_t Database::number(const std::string& sql, const DbValues& values, std::int64_t otherwise) {
  std::int64_t found = otherwise;
  bool first = true;
  each(sql, values, "n", [&](const DbRow& row) {
    if (std::exchange(first, false)) found = row.number(0);
  });
  return found;
}

void Database::require_sound() {
  if (server_) return;  // it looks after itself
  std::string found;
  each("pragma quick_check(1)", {}, "t", [&](const DbRow& row) { found = row.text(0); });
  if (found != "ok") throw Error(sqlite_details(kCorrupt, found, name_));
}

void Database::transaction(const std::function<void()>& work) {
  // A file that was deleted or replaced under us still takes what is written, and nobody would ever find it.
  const auto require_file = [&] {
    struct stat seen {};
    if (server_ || (::stat(at_.c_str(), &seen) == 0 && seen.st_dev == device_ && seen.st_ino == inode_)) return;
    throw Error({.fault = Fault::device,
                 .code = "shelf_gone",
                 .what = "the file of the shelf was deleted or replaced while it was in use",
                 .file = name_,
                 .hint = "run the command again: it makes a new one"});
  };
  require_file();
  command(server_ ? "begin" : "begin immediate");
  try {
    // One writer after the other, as with a file: two that change the same rows in another order would lock each other.
    constexpr const char* kLock = "select pg_advisory_xact_lock(7161126378)";
    if (server_) command(kLock);
    work();
    require_file();
    command("commit");
  } catch (...) {
    try {
      command("rollback");
    } catch (const Error&) {  // NOLINT: the first failure is the one that counts; a lost connection takes it all back
    }
    throw;
  }
}

}  // namespace opifex
