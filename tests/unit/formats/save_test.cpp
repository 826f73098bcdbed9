// Save memory in files: sizes, clocks, repetitions, and forms there and back.
#include "opifex/core/formats/rom/save.hpp"

#include <gtest/gtest.h>

#include "cartridges.hpp"

namespace opifex::rom {
namespace {

using namespace testkit;
using opifex::testkit::Random;

std::vector<std::string> codes(const SaveFacts& facts) {
  std::vector<std::string> all;
  for (const Problem& p : facts.problems) all.push_back(p.code);
  return all;
}

Bytes joined(Bytes a, const Bytes& b) {
  a.insert(a.end(), b.begin(), b.end());
  return a;
}

TEST(Saves, AreHeldAgainstTheirGame) {
  Random random(61);
  const Header game = read_header(machine("gb"), game_boy(random, 0));  // keeps 8 KiB
  const Bytes good = random.bytes(8192);
  using List = std::vector<std::string>;
  EXPECT_EQ(codes(examine_save(good, &game)), List{});
  EXPECT_EQ(codes(examine_save(joined(good, good), &game)), List{"save_mirrored"});
  EXPECT_EQ(codes(examine_save(random.bytes(32768), &game)), List{"save_long"});
  EXPECT_EQ(codes(examine_save(ByteView(good).first(2048), &game)), List{"save_short"});
  EXPECT_EQ(codes(examine_save(Bytes(8192, std::byte{0xFF}), &game)), List{"save_blank"});
  EXPECT_EQ(codes(examine_save({}, &game)), List{"empty_file"});
  const Header none = read_header(machine("gb"), game_boy(random, 0, 0, 0));
  EXPECT_EQ(codes(examine_save(good, &none)), List{"no_save"});
  EXPECT_EQ(codes(examine_save(good, nullptr)), List{});
  EXPECT_EQ(codes(examine_save(random.bytes(8191), nullptr)), List{"save_odd_size"});
}

TEST(Saves, OfAMegaDriveMayStandInOneLane) {
  Random random(66);
  const Machine* md = rom::find_machine("megadrive");
  for (const SaveLane lane : {SaveLane::odd, SaveLane::even})
    for (const unsigned fill : {0xFFu, 0u}) {
      const Bytes alone = random.bytes(8192);
      const Bytes both = convert_save(alone, {.fill = fill, .lane = lane});
      ASSERT_EQ(both.size(), 2 * alone.size());
      EXPECT_EQ(both[lane == SaveLane::odd ? 1 : 0], alone[0]);
      EXPECT_EQ(both[lane == SaveLane::odd ? 0 : 1], static_cast<std::byte>(fill));
      const SaveFacts facts = examine_save(both, nullptr, md);
      EXPECT_EQ(facts.lane, lane);
      EXPECT_EQ(facts.memory_bytes, alone.size());
      EXPECT_EQ(codes(facts), std::vector<std::string>{});
      EXPECT_EQ(examine_save(both, nullptr).lane, SaveLane::alone) << "other machines have none";
      EXPECT_EQ(convert_save(both, {.lane = SaveLane::alone}), alone);
      const SaveLane other = lane == SaveLane::odd ? SaveLane::even : SaveLane::odd;
      EXPECT_EQ(convert_save(convert_save(both, {.lane = other}), {.lane = SaveLane::alone}), alone);
    }
  Bytes copied;
  for (const std::byte b : random.bytes(2048)) copied.insert(copied.end(), 2, b);
  EXPECT_EQ(convert_save(copied, {.lane = SaveLane::alone}).size(), 2048u);
  // One byte of data in the other lane is data.
  Bytes data = convert_save(random.bytes(512), {.lane = SaveLane::odd});
  data[100] = std::byte{7};
  EXPECT_EQ(testkit::error_code([&] { convert_save(data, {.lane = SaveLane::alone}); }), "save_data");
}

TEST(Saves, WithoutAGameTheMachineKnowsTheSizes) {
  Random random(67);
  const auto told = [&](const char* id, std::size_t bytes, const char* extension) {
    return codes(examine_save(random.bytes(bytes), nullptr, rom::find_machine(id), extension));
  };
  const std::vector<std::string> good, other = {"save_other_size"};
  EXPECT_EQ(told("gba", 65536, ".SAV"), good);
  EXPECT_EQ(told("gba", 16384, ".SAV"), other);
  EXPECT_EQ(told("n64", 2048, ".EEP"), good);
  EXPECT_EQ(told("n64", 2048, ".SRA"), other);
  EXPECT_EQ(told("n64", 32768, ".SRA"), good);
  EXPECT_EQ(told("sms", 8192, ".SAV"), good);
  EXPECT_EQ(told("sms", 2048, ".SAV"), other);
  EXPECT_EQ(told("snes", 2048, ".SRM"), good);
}

TEST(Saves, AClockBehindTheMemoryIsNoPartOfIt) {
  Random random(62);
  for (const std::size_t clock : {std::size_t{44}, std::size_t{48}, std::size_t{16}}) {
    const SaveFacts facts = examine_save(random.bytes(32768 + clock), nullptr);
    EXPECT_EQ(facts.clock_bytes, clock);
    EXPECT_EQ(facts.memory_bytes, 32768u);
    EXPECT_TRUE(facts.problems.empty());
    const Bytes save = random.bytes(32768 + clock);
    EXPECT_EQ(convert_save(save, {.drop_clock = true}).size(), 32768u);
    const Bytes longer = convert_save(save, {.size_bytes = 65536});
    EXPECT_EQ(longer.size(), 65536 + clock) << "the clock stays at the end";
    EXPECT_TRUE(std::equal(longer.end() - static_cast<std::ptrdiff_t>(clock), longer.end(), save.begin() + 32768));
  }
}

TEST(Saves, OnlyRepetitionAndFillerAreEverCutOff) {
  Random random(63);
  for (int round = 0; round < 60; ++round) {
    const Bytes memory = random.bytes(8192);
    const Bytes mirrored = joined(memory, memory);
    EXPECT_EQ(convert_save(mirrored, {.size_bytes = 8192}), memory);
    const auto fill = round % 2 == 0 ? 0u : 0xFFu;
    const Bytes padded = convert_save(memory, {.size_bytes = 32768, .fill = fill});
    EXPECT_EQ(padded[32767], static_cast<std::byte>(fill));
    EXPECT_EQ(convert_save(padded, {.size_bytes = 8192}), memory) << "there and back";
    Bytes data = padded;
    data[8192 + random.below(24576)] ^= std::byte{1};
    EXPECT_EQ(error_code([&] { convert_save(data, {.size_bytes = 8192}); }), "save_data");
  }
}

TEST(Saves, ReversedGroupsAreTheirOwnInverse) {
  Random random(64);
  const Bytes save = random.bytes(512);
  for (const unsigned group : {2u, 4u, 8u}) {
    const Bytes swapped = convert_save(save, {.swap_bytes = group});
    EXPECT_EQ(swapped[0], save[group - 1]);
    EXPECT_EQ(convert_save(swapped, {.swap_bytes = group}), save);
  }
}

TEST(Saves, DifferencesAreAllInTheRangesAndNothingElseIs) {
  Random random(65);
  for (int round = 0; round < 100; ++round) {
    const Bytes a = random.bytes(1 + random.below(2000));
    Bytes b = a;
    b.resize(1 + random.below(2000));
    for (std::uint64_t n = random.below(20); n > 0; --n) b[random.below(b.size())] ^= std::byte{1};
    const std::vector<SaveRange> ranges = differing_ranges(a, b);
    std::vector<bool> covered(std::max(a.size(), b.size()));
    for (const SaveRange& r : ranges) {
      EXPECT_GT(r.bytes, 0u);
      for (std::uint64_t i = r.at; i < r.at + r.bytes; ++i) covered.at(i) = true;
      const auto differs = [&](std::uint64_t i) { return i >= a.size() || i >= b.size() || a[i] != b[i]; };
      EXPECT_TRUE(differs(r.at) && differs(r.at + r.bytes - 1));
    }
    for (std::size_t i = 0; i < covered.size(); ++i)
      if (!covered[i]) {
        ASSERT_TRUE(i < a.size() && i < b.size() && a[i] == b[i]) << i;
      }
  }
}

}  // namespace
}  // namespace opifex::rom
