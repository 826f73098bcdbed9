/// Tests that run on a file and on a server alike.
#pragma once

#include <gtest/gtest.h>

#include "opifex/core/shelf/shelf.hpp"

#include "servers.hpp"

namespace opifex::testkit {

class OnBackend : public testing::TestWithParam<Backend> {
 protected:
  void SetUp() override {
    if (GetParam() == Backend::server && !PostgresServer::instance())
      GTEST_SKIP() << "PostgreSQL IS NOT INSTALLED: apt-get install postgresql";
    at = new_shelf();
  }
  std::string new_shelf() {
    if (GetParam() == Backend::server) return PostgresServer::instance()->new_database();
    return (folder / ("shelf" + std::to_string(++files_) + ".sqlite")).string();
  }

  TempFolder folder;
  std::string at;

 private:
  int files_ = 0;
};

inline std::string name_of_backend(const testing::TestParamInfo<Backend>& info) { return to_string(info.param); }

#define OPIFEX_ON_BOTH(suite) \
  INSTANTIATE_TEST_SUITE_P(Both, suite, testing::Values(Backend::file, Backend::server), name_of_backend)

}  // namespace opifex::testkit
