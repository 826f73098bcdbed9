// What every registered file system owes: a new one is tested here by its line in the registry alone.
#include <gtest/gtest.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include "opifex/core/convert/plan.hpp"

#include "samples.hpp"

namespace opifex {
namespace {

using namespace testkit;

class EveryFileSystem : public testing::TestWithParam<const FileSystem*> {
 protected:
  void SetUp() override {
    sample = sample_of(system(), folder);
    keys = keys_for_samples(folder);
    whole = read_up_to(*open_file(sample), 0, SIZE_MAX >> 1);
  }
  const FileSystem& system() const { return *GetParam(); }
  VolumePlace place(Bytes bytes) const { return {memory_source(std::move(bytes), "sample"), 0, keys.get()}; }
  /// Reads it, and the first bytes of every file: everything that a hostile table could lead astray.
  std::optional<Volume> read_all(Bytes bytes) const {
    bytes.resize((bytes.size() + 2047) / 2048 * 2048);
    auto volume = system().read(place(std::move(bytes)));
    if (!volume) return volume;
    for (const VolumeEntry& e : volume->entries) {
      if (e.kind != EntryKind::file || !e.sound) continue;
      try {
        read_up_to(*volume->open(e), 0, 16);
      } catch (const Error& error) {
        EXPECT_FALSE(error.details.code.empty()) << e.path;
      }
    }
    return volume;
  }
  TempFolder folder;
  fs::path sample;
  KeyRingPtr keys;
  Bytes whole;
};

TEST_P(EveryFileSystem, ReadsItsSampleAndIsKnownByIt) {
  const auto volume = read_all(whole);
  ASSERT_TRUE(volume);
  EXPECT_EQ(file_system_of(*volume), &system()) << volume->system;
  EXPECT_FALSE(volume->damaged());
  EXPECT_FALSE(volume->entries.empty());
  EXPECT_FALSE(name_of(*volume).empty());
}

TEST_P(EveryFileSystem, IsTheOneThatAnImageShows) {
  OpenOptions options;
  options.keys = keys;
  const auto volumes = read_volumes(open_image(sample, options));
  ASSERT_FALSE(volumes.empty());
  EXPECT_EQ(file_system_of(volumes.front()), &system()) << volumes.front().system;
}

TEST_P(EveryFileSystem, FindsNothingInNothing) {
  for (const std::size_t size : {std::size_t{0}, std::size_t{2048}, std::size_t{1} << 20}) {
    try {
      EXPECT_FALSE(system().read(place(Bytes(size)))) << size;
    } catch (const Error& e) {
      EXPECT_FALSE(system().of_disc()) << "only a format that was asked for may refuse: " << e.what();
    }
  }
}

TEST_P(EveryFileSystem, CutAnywhereItSaysSoOrIsRefused) {
  Random random(31);
  std::vector<std::size_t> cuts;
  for (std::size_t n = 0; n < std::min<std::size_t>(whole.size(), 96 << 10); n += 512) cuts.push_back(n);
  for (int i = 0; i < 60; ++i) cuts.push_back(random.below(whole.size()));
  const auto sound = read_all(whole);
  for (const std::size_t cut : cuts) {
    try {
      const auto volume = read_all(Bytes(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(cut)));
      if (!volume) continue;
      EXPECT_LE(volume->entries.size(), sound->entries.size() + 1) << "cut at " << cut;
      for (const VolumeEntry& e : volume->entries) {
        if (e.kind != EntryKind::file || !e.sound || e.extents.empty()) continue;
        const auto last =
            static_cast<std::int64_t>(e.extents.back().sector + e.extents.back().sectors()) + volume->shift;
        if (!e.extents.back().recorded || !volume->disc) continue;
        EXPECT_LE(last, static_cast<std::int64_t>(volume->disc->size() / 2048 + 1)) << e.path << " cut at " << cut;
      }
    } catch (const Error& e) {
      EXPECT_EQ(e.details.fault, Fault::refused) << cut << ": " << e.what();
    }
  }
}

TEST_P(EveryFileSystem, DamagedTablesAreToldOrRefusedButNeverLoop) {
  const std::uint64_t seed = 77;
  Random random(seed);
  // Tables lie at the front, or near it; a loop is one number that points back.
  const std::size_t tables = std::min<std::size_t>(whole.size(), 700 << 10);
  for (int round = 0; round < 250; ++round) {
    Bytes bytes = whole;
    const std::size_t changes = 1 + random.below(6);
    for (std::size_t i = 0; i < changes; ++i) {
      const std::size_t at = random.below(tables);
      switch (random.below(3)) {
        case 0:
          bytes[at] = static_cast<std::byte>(random.next());
          break;
        case 1:  // a piece of a table in another's place
          for (std::size_t k = 0; k < 64 && at + k < bytes.size(); ++k) bytes[at + k] = bytes[random.below(tables)];
          break;
        default:
          for (std::size_t k = 0; k < 4 && at + k < bytes.size(); ++k) bytes[at + k] = std::byte{0xFF};
      }
    }
    try {
      read_all(std::move(bytes));
    } catch (const Error& e) {
      EXPECT_EQ(e.details.fault, Fault::refused) << "seed " << seed << " round " << round << ": " << e.what();
    }
  }
}

#if !defined(__SANITIZE_ADDRESS__)
TEST_P(EveryFileSystem, WhateverItsTablesClaimItStaysBelowAMemoryCeiling) {
  // In a process of its own, for which more than 192 MiB are not there.
  const pid_t child = ::fork();
  ASSERT_GE(child, 0);
  if (child == 0) {
    constexpr rlim_t kCeiling = 192 << 20;
    const rlimit limit{kCeiling, kCeiling};
    ::setrlimit(RLIMIT_DATA, &limit);
    int code = 0;
    Random random(5);
    for (int round = 0; round < 120 && code == 0; ++round) {
      Bytes bytes = whole;
      for (int i = 0; i < 12; ++i)
        for (std::size_t at = random.below(std::min<std::size_t>(bytes.size(), 300 << 10)), k = 0; k < 4; ++k)
          bytes[std::min(at + k, bytes.size() - 1)] = std::byte{0xFF};
      try {
        system().read(place(std::move(bytes)));
      } catch (const Error&) {
      } catch (const std::bad_alloc&) {
        code = 9;
      }
    }
    ::_exit(code);
  }
  int status = 0;
  ASSERT_EQ(::waitpid(child, &status, 0), child);
  ASSERT_TRUE(WIFEXITED(status)) << "ended by signal " << WTERMSIG(status);
  EXPECT_EQ(WEXITSTATUS(status), 0) << "it took more memory than an image of this size may cost";
}
#endif

class BuildingFileSystem : public EveryFileSystem {};

TEST_P(BuildingFileSystem, MakesOfAFolderWhatItReadsBack) {
  OpenOptions options;
  options.keys = keys;
  const Volume volume = read_volumes(open_image(sample, options)).front();
  for (const VolumeEntry& e : volume.entries) {
    if (e.kind != EntryKind::file) continue;
    const SourcePtr file = volume.open(e);
    write_file(folder / ("tree/" + e.path), as_text(read_up_to(*file, 0, static_cast<std::size_t>(file->size()))));
  }
  SourcePtr made;
  std::vector<std::string> notices;
  if (system().build->make) {
    made = system().build->make(folder / "tree", notices);
  } else {
    QuietContext context;
    const FolderImage image = system().build->plan(folder / "tree", folder / "made.iso", {}, 0);
    Image source;
    source.path = folder / "tree";
    write_outputs(source, image.plan, {}, context);
    made = open_file(folder / "made.iso");
  }
  const auto back = system().read({made, 0, nullptr});
  ASSERT_TRUE(back);
  EXPECT_FALSE(back->damaged());
  const auto files = [](const Volume& v) {
    return std::count_if(v.entries.begin(), v.entries.end(),
                         [](const VolumeEntry& e) { return e.kind == EntryKind::file; });
  };
  EXPECT_EQ(files(*back), files(volume));
}

class MeasuredFileSystem : public EveryFileSystem {};

TEST_P(MeasuredFileSystem, UsedRangesAreJoinedAndInside) {
  const auto used = system().used(place(whole));
  ASSERT_TRUE(used);
  ASSERT_FALSE(used->empty());
  for (std::size_t i = 1; i < used->size(); ++i) EXPECT_LT((*used)[i - 1].end, (*used)[i].first) << "joined, in order";
  EXPECT_LE(used->back().end, (whole.size() + 0x7FFF) / 0x8000 * 0x8000);
}

std::vector<const FileSystem*> those(bool (*fits)(const FileSystem&)) {
  std::vector<const FileSystem*> list;
  for (const FileSystem* f : file_systems())
    if (fits(*f)) list.push_back(f);
  return list;
}
const auto kName = [](const testing::TestParamInfo<const FileSystem*>& i) { return case_name(i.param->id); };

INSTANTIATE_TEST_SUITE_P(FileSystems, EveryFileSystem, testing::ValuesIn(those([](const FileSystem&) { return true; })),
                         kName);
INSTANTIATE_TEST_SUITE_P(FileSystems, BuildingFileSystem,
                         testing::ValuesIn(those([](const FileSystem& f) { return f.build != nullptr; })), kName);
INSTANTIATE_TEST_SUITE_P(FileSystems, MeasuredFileSystem,
                         testing::ValuesIn(those([](const FileSystem& f) { return f.used != nullptr; })), kName);

}  // namespace
}  // namespace opifex
