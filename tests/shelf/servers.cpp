#include "servers.hpp"

#include <cstdlib>
#include <stdexcept>

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

namespace opifex::testkit {

namespace {

std::string find_programs() {
  const fs::path root = "/usr/lib/postgresql";
  if (!fs::is_directory(root)) return {};
  for (const auto& version : fs::directory_iterator(root))
    if (fs::exists(version.path() / "bin/initdb") && fs::exists(version.path() / "bin/psql"))
      return (version.path() / "bin").string();
  return {};
}

}  // namespace

std::string to_string(Backend backend) { return backend == Backend::file ? "File" : "Server"; }

PostgresServer* PostgresServer::instance() {
  static const std::string programs = find_programs();
  if (programs.empty()) return nullptr;
  static PostgresServer server(programs);
  return &server;
}

PostgresServer::PostgresServer(std::string programs) : programs_(std::move(programs)) {
  fs::create_directories(folder_ / "server");
  fs::permissions(folder_.path(), fs::perms::all);
  fs::permissions(folder_ / "server", fs::perms::all);
  // It refuses to run as root: as the user that Debian's package has made for it.
  if (as_user(fmt::format("{}/initdb -D {}/server/data -U opifex -A trust -E UTF8 --no-sync", programs_,
                          folder_.path().string())) != 0)
    throw std::runtime_error("initdb failed");
  start();
}

PostgresServer::~PostgresServer() {
  if (runs_) stop("immediate");
}

int PostgresServer::as_user(const std::string& command, std::string* output) {
  const fs::path log = folder_ / "server/command.log";
  const std::string whole = ::geteuid() == 0 ? "runuser -u postgres -- sh -c '" + command + "'" : command;
  // A server keeps what it is given open: nothing of ours.
  const int status = std::system((whole + " > " + log.string() + " 2>&1 < /dev/null").c_str());
  if (output) *output = read_file(log);
  return status;
}

void PostgresServer::start() {
  const std::string at = (folder_ / "server").string();
  if (as_user(fmt::format("{}/pg_ctl -D {}/data -w -l {}/log -o \"-k {} -c listen_addresses= -c fsync=off -c "
                          "shared_buffers=16MB\" start",
                          programs_, at, at, at)) != 0)
    throw std::runtime_error("the server does not start: " + read_file(folder_ / "server/command.log"));
  runs_ = true;
}

void PostgresServer::stop(const char* how) {
  as_user(fmt::format("{}/pg_ctl -D {}/server/data -w -m {} stop", programs_, folder_.path().string(), how));
  runs_ = false;
}

std::string PostgresServer::sql(const std::string& database, const std::string& command) {
  std::string out;
  const fs::path file = folder_ / "server/command.sql";
  write_file(file, command);
  fs::permissions(file, fs::perms::all);
  as_user(fmt::format("{}/psql -h {}/server -U opifex -d {} -At -f {}", programs_, folder_.path().string(), database,
                      file.string()),
          &out);
  return out;
}

std::string PostgresServer::new_database() {
  const std::string name = fmt::format("shelf{}", ++databases_);
  sql("postgres", "create database " + name);
  return fmt::format("postgresql:///{}?host={}/server&user=opifex", name, folder_.path().string());
}

std::string PostgresServer::name_of(const std::string& url) {
  const std::size_t from = url.find("///") + 3;
  return url.substr(from, url.find('?') - from);
}

void PostgresServer::cut(const std::string& database) {
  sql("postgres", fmt::format("select pg_terminate_backend(pid) from pg_stat_activity where datname = '{}'", database));
}

}  // namespace opifex::testkit
