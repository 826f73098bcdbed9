/// Where a shelf may lie: a file, or a real PostgreSQL of this machine, started for the tests.
#pragma once

#include <string>

#include "testkit.hpp"

namespace opifex::testkit {

/// One server for all tests of a process: its own folder, a socket in it, no network. Stopped at the end.
class PostgresServer {
 public:
  /// Null if Debian's postgresql is not installed; the first call starts it.
  static PostgresServer* instance();
  ~PostgresServer();

  /// A new empty database.
  std::string new_database();
  void stop(const char* how = "fast");
  void start();
  /// Ends every connection to it, as a server that goes away does.
  void cut(const std::string& database);
  std::string sql(const std::string& database, const std::string& command);
  static std::string name_of(const std::string& url);

 private:
  PostgresServer(std::string programs);
  int as_user(const std::string& command, std::string* output = nullptr);
  std::string programs_;
  TempFolder folder_;
  int databases_ = 0;
  bool runs_ = false;
};

enum class Backend { file, server };
std::string to_string(Backend backend);

}  // namespace opifex::testkit
