// Sets of files put in place, in random folders with anything in the way: all of them or none, and nothing of others.
#include <csignal>

#include <gtest/gtest.h>
#include <sys/resource.h>

#include "opifex/core/io/journal.hpp"
#include "opifex/core/io/output.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

using Contents = std::map<std::string, std::string>;

Contents contents(const fs::path& folder) {
  Contents all;
  for (const auto& entry : fs::recursive_directory_iterator(folder)) {
    const std::string name = entry.path().lexically_relative(folder).string();
    all[name] = entry.is_regular_file() ? read_file(entry.path()) : "(folder)";
  }
  return all;
}

/// What lies in the way of one of the names.
enum class InTheWay { nothing, file, folder, source_gone };

TEST(Placing, IsAllOrNothingWhateverLiesInTheWay) {
  Random random(141);
  std::size_t placed = 0, refused = 0;
  for (int round = 0; round < 300; ++round) {
    const TempFolder folder;
    std::vector<Placing> files;
    Contents wanted;
    bool possible = true;
    for (std::uint64_t n = 1 + random.below(5); n > 0; --n) {
      const std::string name = fmt::format("f{}", n), bytes = fmt::format("new {} {}", round, n);
      write_file(folder / (name + ".new"), bytes);
      Placing p{folder / (name + ".new"), folder / name, {}};
      const bool replaces = random.below(3) == 0;
      if (replaces) {
        write_file(folder / name, "old");
        p.aside = folder / (name + ".aside");
      }
      const auto way = random.below(6) == 0 ? static_cast<InTheWay>(random.below(4)) : InTheWay::nothing;
      if (way == InTheWay::file && !replaces) write_file(folder / name, "somebody's");
      if (way == InTheWay::folder && !replaces) fs::create_directories(folder / name);
      if (way == InTheWay::source_gone) fs::remove(p.from);
      if (way == InTheWay::source_gone || (!replaces && way != InTheWay::nothing)) possible = false;
      wanted[name] = bytes;
      files.push_back(std::move(p));
    }
    write_file(folder / "other", "untouched");
    wanted["other"] = "untouched";
    const Contents before = contents(folder.path());
    bool done = false;
    try {
      place_together(files);
      done = true;
    } catch (const Error&) {
    }
    ASSERT_EQ(done, possible) << round;
    ASSERT_TRUE(contents(folder.path()) == (done ? wanted : before)) << round;
    ++(done ? placed : refused);
  }
  EXPECT_GT(placed, 50u);
  EXPECT_GT(refused, 50u);
}

TEST(Placing, OutputsOfAJobAreAllOrNothingToo) {
  Random random(143);
  std::size_t written = 0;
  for (int round = 0; round < 200; ++round) {
    const TempFolder folder;
    const Existing existing = random.below(2) != 0 ? Existing::replace : Existing::keep;
    Contents wanted;
    bool possible = true;
    std::vector<std::string> names;
    for (std::uint64_t n = 1 + random.below(5); n > 0; --n) {
      names.push_back(fmt::format("{}f{}", random.below(3) == 0 ? "deep/er/" : "", n));
      if (random.below(8) == 0) {
        write_file(folder / names.back(), "old");
        possible = possible && existing == Existing::replace;
      }
      if (random.below(14) == 0 && !fs::exists(folder / names.back())) {
        fs::create_directories(folder / names.back());
        possible = false;
      }
    }
    const Contents before = contents(folder.path());
    bool done = false;
    try {
      OutputSet set(existing);
      for (const std::string& name : names) {
        wanted[name] = fmt::format("new {}", name);
        set.add(folder / name).write(as_view(wanted[name]));
      }
      if (random.below(5) != 0) {
        set.commit();
        done = true;
      } else {
        possible = false;  // given up before the end
      }
    } catch (const Error& e) {
      EXPECT_EQ(e.details.fault, Fault::needs_word) << e.what();
    }
    ASSERT_EQ(done, possible) << round;
    if (!done) {
      ASSERT_TRUE(contents(folder.path()) == before) << round << ": no folder, no half a file";
      continue;
    }
    ++written;
    for (const auto& [name, bytes] : wanted) ASSERT_EQ(read_file(folder / name), bytes) << round;
    for (const auto& [name, bytes] : contents(folder.path()))
      ASSERT_TRUE(wanted.contains(name) || bytes == "(folder)") << name << " is left over";
  }
  EXPECT_GT(written, 50u);
}

/// No file of this process may become larger, as on a drive that is full.
class FileLimit {
 public:
  explicit FileLimit(rlim_t bytes) : handler_(std::signal(SIGXFSZ, SIG_IGN)) {
    ::getrlimit(RLIMIT_FSIZE, &before_);
    const rlimit now{bytes, before_.rlim_max};
    ::setrlimit(RLIMIT_FSIZE, &now);
  }
  ~FileLimit() {
    ::setrlimit(RLIMIT_FSIZE, &before_);
    std::signal(SIGXFSZ, handler_);
  }
  FileLimit(const FileLimit&) = delete;
  FileLimit& operator=(const FileLimit&) = delete;

 private:
  rlimit before_{};
  void (*handler_)(int);
};

TEST(Placing, AWriteThatFailsHalfwayLeavesTheOldFiles) {
  Random random(147);
  for (int round = 0; round < 30; ++round) {
    const TempFolder folder;
    write_file(folder / "a", "old a");
    write_file(folder / "b", "old b");
    const Contents before = contents(folder.path());
    const std::size_t limit = 1 + random.below(3'000'000);
    const Bytes small = random.bytes(random.below(limit)), large = random.bytes(limit + 1 + random.below(2'000'000));
    try {
      const FileLimit full(limit);
      OutputSet set(Existing::replace);
      set.add(folder / "a").write(small);
      set.add(folder / "b").write(large);
      set.commit();
      FAIL() << "the second file did not fit";
    } catch (const Error& e) {
      EXPECT_EQ(e.details.fault, Fault::device) << e.what();
      EXPECT_FALSE(e.details.file.empty()) << "it says which file";
    }
    ASSERT_TRUE(contents(folder.path()) == before) << round;
  }
}

}  // namespace
}  // namespace opifex
