#include "opifex/core/base/error.hpp"

#include <cerrno>

#include <gtest/gtest.h>

namespace opifex {
namespace {

TEST(Error, ShowsWhatWhereAndWhatToDoInThreeLines) {
  const Error e({.what = "cannot read the table",
                 .file = "a.vcd",
                 .offset = 0x1F40,
                 .found = "9",
                 .expected = "at most 4",
                 .hint = "copy it again"});
  EXPECT_STREQ(e.what(),
               "cannot read the table\n  where: a.vcd @ 0x1F40: found 9, expected at most 4\n  try: copy it again");
}

TEST(Error, ShowsALineOfATextFile) {
  const Error e({.what = "w", .file = "a.cue", .line = 3, .found = "x"});
  EXPECT_STREQ(e.what(), "w\n  where: a.cue line 3: found x");
}

TEST(Error, LeavesOutWhatIsNotKnown) { EXPECT_STREQ(Error({.what = "only this"}).what(), "only this"); }

TEST(Error, GivesSystemFailuresTheirFaultAndAHint) {
  const auto fault = [](int number) {
    try {
      throw_system_error("cannot open", "x", number);
    } catch (const Error& e) {
      EXPECT_FALSE(number != EIO && e.details.hint.empty()) << number;
      return e.details.fault;
    }
  };
  EXPECT_EQ(fault(ENOENT), Fault::refused);
  EXPECT_EQ(fault(ENOSPC), Fault::device);
  EXPECT_EQ(fault(EIO), Fault::device);
}

}  // namespace
}  // namespace opifex
