#include "opifex/core/base/flow.hpp"

#include <gtest/gtest.h>

#include "testkit.hpp"

namespace opifex {
namespace {

std::vector<std::uint64_t> run_with(unsigned threads, std::uint64_t blocks) {
  Progress progress;
  JobContext context{progress, threads};
  std::vector<std::uint64_t> seen;
  Flow flow;
  flow.next = [&](FlowBlock& b) { return b.index < blocks; };
  flow.work = [](FlowBlock& b) { b.data.assign(8, static_cast<std::byte>(b.index * 7)); };
  flow.consume.emplace_back(
      [&](const FlowBlock& b) { seen.push_back(b.index * 256 + std::to_integer<std::uint64_t>(b.data[0])); });
  run_flow(flow, context);
  return seen;
}

TEST(Flow, GivesTheSameOrderWithOneThreadAndMany) {
  const auto one = run_with(1, 1000);
  ASSERT_EQ(one.size(), 1000u);
  EXPECT_TRUE(std::is_sorted(one.begin(), one.end()));
  EXPECT_EQ(run_with(2, 1000), one);
  EXPECT_EQ(run_with(0, 1000), one);
}

TEST(Flow, CarriesAnErrorOfAnyStageToTheCaller) {
  for (const int stage : {0, 1, 2}) {
    testkit::QuietContext context;
    const auto fail_at_50 = [&](int own, std::uint64_t index) {
      if (own == stage && index == 50) throw Error({.what = "broken"});
    };
    Flow flow;
    flow.next = [&](FlowBlock& b) {
      fail_at_50(0, b.index);
      return b.index < 100;
    };
    flow.work = [&](FlowBlock& b) { fail_at_50(1, b.index); };
    flow.consume.emplace_back([&](const FlowBlock& b) { fail_at_50(2, b.index); });
    EXPECT_THROW(run_flow(flow, context), Error) << stage;
  }
}

TEST(Flow, StopsOnRequest) {
  std::stop_source stop;
  Progress progress;
  progress.stop = stop.get_token();
  JobContext context{progress, 0};
  std::uint64_t consumed = 0;
  Flow flow;
  flow.next = [](FlowBlock&) { return true; };  // would never end
  flow.consume.emplace_back([&](const FlowBlock&) {
    if (++consumed == 20) stop.request_stop();
  });
  try {
    run_flow(flow, context);
    FAIL();
  } catch (const Error& e) {
    EXPECT_EQ(e.details.fault, Fault::interrupted);
  }
  EXPECT_LT(consumed, 100u);
}

}  // namespace
}  // namespace opifex
