// A cache may be anything but wrong: damaged, cut, of another list, made by two at once, in a folder that cannot be
// written.
#include <thread>

#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/lists/read_list.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

/// Large enough to be kept.
std::string large_list(std::uint64_t seed) {
  Random random(seed);
  std::string text = "<?xml version=\"1.0\"?><datafile><header><name>n</name><version>1</version></header>";
  for (int i = 0; i < 600; ++i) {
    const Bytes bytes = random.bytes(20);
    text += fmt::format(
        "<game name=\"Game {0}\"><description>Another {0}</description><rom name=\"g{0}.bin\" size=\"{1}\" crc=\"{2}\" "
        "sha1=\"{3}\"/>"
        "<rom name=\"../up\" size=\"x\" sha256=\"{4}\"/></game>",
        i, i, digest_of("crc32", bytes), digest_of("sha1", bytes), digest_of("sha256", bytes));
  }
  return text + "</datafile>";
}

/// All that a list says, as text.
std::string said(const KnownList& list) {
  std::string out = fmt::format("{} {} {}\n", to_string(list.kind), list.algorithms, list.sizes_everywhere);
  for (const auto& [key, value] : list.header) out += key + "=" + value + "\n";
  for (const ListedSet& set : list.sets)
    for (std::size_t i = 0; i < kSetFields; ++i) out += std::string(list.text(set, static_cast<SetField>(i))) + "|";
  for (const ListedEntry& e : list.entries) {
    out += fmt::format("{} {} {} {} {} {}\n", list.name(e), e.size_bytes, e.set, to_string(e.status), to_string(e.kind),
                       e.unsafe);
    for (const ListHash h : kListHashes) out += list.hash(e, h) + " ";
  }
  for (const ListProblem& p : list.problems) out += fmt::format("{} {} {}\n", p.code, p.line, p.message);
  for (const auto& index : list.by_hash)
    for (const std::uint32_t i : index) out += std::to_string(i) + ",";
  for (const NameKey& k : list.by_name) out += fmt::format("{}:{},", k.hash, k.entry);
  return out + std::to_string(list.more_problems);
}

class ListCache : public testing::Test {
 protected:
  ListCache() { write_file(list, large_list(1)); }
  KnownListPtr read() {
    QuietContext context;
    return find_lists({list.string()}, cache, context).lists.at(0);
  }
  std::string fresh() { return said(*read_list(*open_file(list), list.string())); }
  fs::path only_file() {
    EXPECT_EQ(listing(cache).size(), 1U);
    return cache / listing(cache).begin()->first;
  }

  TempFolder folder;
  const fs::path list = folder / "list.dat", cache = folder / "cache";
};

TEST_F(ListCache, SaysTheSameAsTheList) {
  const std::string right = fresh();
  EXPECT_TRUE(said(*read()) == right);
  const auto written = fs::last_write_time(only_file());
  EXPECT_TRUE(said(*read()) == right);
  EXPECT_EQ(fs::last_write_time(only_file()), written) << "the second time it was there";
}

TEST_F(ListCache, AChangedListIsReadAnew) {
  read();
  const auto time = fs::last_write_time(list);
  std::string text = read_file(list);
  text[text.find("Game 7")] = 'L';
  write_file(list, text);
  fs::last_write_time(list, time);  // what times say does not count
  EXPECT_TRUE(said(*read()) == fresh());
  write_file(list, large_list(2));
  EXPECT_TRUE(said(*read()) == fresh());
}

TEST_F(ListCache, DamageIsNeverBelieved) {
  const std::string right = fresh();
  read();
  const fs::path file = only_file();
  const std::string sound = read_file(file);
  Random random(5);
  for (int i = 0; i < 300; ++i) {
    std::string damaged = sound;
    const std::size_t at = i < 200 ? static_cast<std::size_t>(i) : random.below(damaged.size());
    damaged[at] = static_cast<char>(damaged[at] ^ static_cast<char>(1 << random.below(8)));
    if (i % 10 == 9) damaged.resize(random.below(damaged.size()));
    if (i % 50 == 49) damaged += "more";
    fs::remove(file);
    write_file(file, damaged);
    ASSERT_TRUE(said(*read()) == right) << "byte " << at;
    ASSERT_TRUE(read_file(file) == sound) << "and it is made anew";
  }
}

/// Whoever can write there can make the checksum right: then no number in it may lead anywhere.
TEST_F(ListCache, NumbersThatLieLeadNowhere) {
  read();
  const fs::path file = only_file();
  const std::string sound = read_file(file);
  constexpr std::size_t kHead = 160, kCrcAt = 48;
  const auto sum = [&](std::string bytes) {
    store_le32(std::as_writable_bytes(std::span(bytes)), kCrcAt, 0);
    return static_cast<std::uint32_t>(std::stoul(digest_of("crc32", as_view(bytes)), nullptr, 16));
  };
  ASSERT_EQ(sum(sound), load_le32(as_view(sound), kCrcAt)) << "the layout this test goes by";
  Random random(6);
  for (int i = 0; i < 300; ++i) {
    std::string lying = sound;
    const bool in_head = i % 3 == 0;
    const std::size_t at = in_head ? 56 + random.below(kHead - 56) : kHead + random.below(sound.size() - kHead);
    lying[at] = static_cast<char>(random.below(256));
    store_le32(std::as_writable_bytes(std::span(lying)), kCrcAt, sum(lying));
    fs::remove(file);
    write_file(file, lying);
    said(*read());
  }
}

TEST_F(ListCache, SeveralAtOnceAllReadTheSame) {
  const std::string right = fresh();
  std::vector<std::string> all(8);
  std::vector<std::thread> threads;
  for (std::string& one : all) threads.emplace_back([&] { one = said(*read()); });
  for (std::thread& t : threads) t.join();
  for (const std::string& one : all) EXPECT_TRUE(one == right);
  EXPECT_TRUE(said(*read()) == right);
  EXPECT_EQ(listing(cache).size(), 1U) << "nothing else is left behind";
}

TEST_F(ListCache, WithoutAPlaceForItTheListIsReadAllTheSame) {
  write_file(cache, "a file where the folder should be");
  EXPECT_TRUE(said(*read()) == fresh());
}

}  // namespace
}  // namespace opifex
