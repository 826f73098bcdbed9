// Many files renamed at once. What could go wrong: a file lost under another's name, a name taken that was not free, a
// way back that leads elsewhere. The model is a map from names to contents.
#include "opifex/core/stage/renames.hpp"

#include <gtest/gtest.h>

#include "opifex/core/base/error.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;
using Names = std::map<std::string, std::string>;  // and contents

class Renames : public testing::Test {
 protected:
  Names names_here() const {
    Names names;
    for (const auto& entry : fs::recursive_directory_iterator(folder_.path()))
      if (entry.is_regular_file() && !is_undo_name(entry.path().filename().string()))
        names[entry.path().lexically_relative(folder_.path()).string()] = read_file(entry.path());
    return names;
  }
  RenameGroup group(std::initializer_list<std::pair<const char*, const char*>> steps) const {
    RenameGroup group{.what = "set", .folder = folder_.path(), .steps = {}};
    for (const auto& [from, to] : steps) group.steps.push_back({folder_ / from, folder_ / to});
    return group;
  }
  void write(const std::string& name, const std::string& text) { write_file(folder_ / name, text); }

  TempFolder folder_;
  const fs::path undo_ = folder_ / undo_name();  // by the clock: another one a second later
  Random random_{7};
};

TEST_F(Renames, AnyPermutationIsCarriedOutAndTakenBack) {
  for (int round = 0; round < (kSanitized ? 30 : 150); ++round) {
    for (const auto& [name, text] : names_here()) fs::remove(folder_ / name);
    const std::size_t count = 2 + random_.below(7);
    Names expected;
    std::vector<std::string> old_names, new_names;
    for (std::size_t i = 0; i < count; ++i) {
      old_names.push_back(fmt::format("f{}", i));
      // All of one size: nothing but the content and the file itself tells them apart.
      write(old_names.back(), fmt::format("content {:02}", i));
      // Some keep to the others' names, some leave them.
      new_names.push_back(random_.below(3) == 0 ? fmt::format("g{}", i) : old_names.back());
    }
    for (std::size_t i = count - 1; i > 0; --i) std::swap(new_names[i], new_names[random_.below(i + 1)]);
    const Names before = names_here();
    std::vector<RenameGroup> groups;
    for (std::size_t i = 0; i < count; ++i) {
      expected[new_names[i]] = before.at(old_names[i]);
      if (groups.empty() || random_.below(2) == 0) groups.push_back(group({}));
      if (old_names[i] != new_names[i]) groups.back().steps.push_back({folder_ / old_names[i], folder_ / new_names[i]});
    }
    ASSERT_TRUE(take_out_clashes(groups, false).empty());
    write_undo(groups, undo_);
    run_renames(groups);
    EXPECT_EQ(names_here(), expected) << round;
    run_renames(read_undo(undo_));
    EXPECT_EQ(names_here(), before) << round;
    EXPECT_TRUE(read_undo(undo_).empty()) << "it was taken back";
    fs::remove(undo_);
  }
}

TEST_F(Renames, NoNameIsTakenThatIsNotFree) {
  for (int round = 0; round < 300; ++round) {
    for (const auto& [name, text] : names_here()) fs::remove(folder_ / name);
    for (int i = 0; i < 6; ++i) write(fmt::format("f{}", i), fmt::format("content {}", i));
    const Names before = names_here();
    std::vector<RenameGroup> groups;
    for (int i = 0; i < 6; ++i) {
      if (random_.below(2) == 0) continue;
      groups.push_back(group({}));
      groups.back().steps.push_back({folder_ / fmt::format("f{}", i), folder_ / fmt::format("f{}", random_.below(9))});
      if (groups.back().steps.back().from == groups.back().steps.back().to) groups.pop_back();
    }
    const std::size_t wanted = groups.size();
    const auto clashes = take_out_clashes(groups, false);
    EXPECT_EQ(groups.size() + clashes.size(), wanted);
    Names expected = before;
    for (const RenameGroup& g : groups) expected.erase(g.steps[0].from.filename());
    for (const RenameGroup& g : groups)
      EXPECT_TRUE(expected.try_emplace(g.steps[0].to.filename(), before.at(g.steps[0].from.filename())).second);
    run_renames(groups);
    EXPECT_EQ(names_here(), expected);
  }
}

TEST_F(Renames, CaseTellsNamesApartOnlyWhereTheDriveSaysSo) {
  write("a", "1");
  write("b", "2");
  std::vector<RenameGroup> groups{group({{"a", "x"}}), group({{"b", "X"}})};
  EXPECT_TRUE(take_out_clashes(groups, false).empty());
  groups = {group({{"a", "x"}}), group({{"b", "X"}})};
  EXPECT_EQ(take_out_clashes(groups, true).size(), 2U);
}

TEST_F(Renames, ASheetIsRewrittenAndComesBack) {
  write("a.bin", "data");
  write("a.cue", "FILE a.bin");
  RenameGroup set = group({{"a.bin", "b.bin"}});
  set.sheet = RenameStep{folder_ / "a.cue", folder_ / "b.cue"};
  set.sheet_text = "FILE b.bin";
  const Names before = names_here();
  write_undo({set}, undo_);
  run_renames({set});
  EXPECT_EQ(names_here(), (Names{{"b.bin", "data"}, {"b.cue", "FILE b.bin"}}));
  write("b.cue", "FILE b.bin changed");
  EXPECT_THROW(read_undo(undo_), Error) << "nobody's change is thrown away";
  write("b.cue", "FILE b.bin");
  run_renames(read_undo(undo_));
  EXPECT_EQ(names_here(), before);
}

TEST_F(Renames, AnUndoFileThatLeadsElsewhereIsRefused) {
  write("b", "x");
  const auto refused = [&](const std::string& text) {
    write(undo_.filename().string(), text);
    EXPECT_THROW(read_undo(undo_), Error) << text;
    fs::remove(undo_);
  };
  const auto with = [](const std::string& from, const std::string& to, const std::string& folder = ".") {
    return "{\"opifex_undo\":1,\"groups\":[{\"set\":\"x\",\"folder\":\"" + folder + "\",\"steps\":[{\"from\":" + from +
           ",\"to\":" + to + ",\"size_bytes\":1,\"modified_ns\":1,\"number\":1}]}]}";
  };
  refused(with("\"../a\"", "\"b\""));
  refused(with("\"a\"", "\"/etc/passwd\""));
  refused(with("\"a\"", "\"b\"", ".."));
  refused(with("\"a\"", "\"b\"")) /* another file than the one that was renamed */;
  refused(with("7", "\"b\""));
  refused(with("{\"hex\":\"0\"}", "\"b\""));
  refused(with("{\"hex\":\"2e2e2f61\"}", "\"b\""));
  refused("");
  refused("[]");
  refused("{\"opifex_undo\":2,\"groups\":[]}");
  refused("{\"opifex_undo\":1,\"groups\":[7]}");
  refused("{\"opifex_undo\":\"1\",\"groups\":[]}");
  EXPECT_EQ(read_file(folder_ / "b"), "x");
}

TEST_F(Renames, NamesThatAreNoTextComeBack) {
  const std::string odd = "caf\xE9.bin";
  write(odd, "x");
  const Names before = names_here();
  RenameGroup set = group({});
  set.steps.push_back({folder_ / odd, folder_ / "cafe.bin"});
  write_undo({set}, undo_);
  run_renames({set});
  run_renames(read_undo(undo_));
  EXPECT_EQ(names_here(), before);
}

}  // namespace
}  // namespace opifex
