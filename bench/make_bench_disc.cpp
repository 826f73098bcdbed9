// Writes the discs of the benchmarks: make_bench_disc FOLDER
#include <algorithm>
#include <array>
#include <cstdio>
#include <fstream>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/cd/sector.hpp"
#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/output.hpp"
#include "opifex/core/volumes/wii/disc.hpp"
#include "opifex/demo/wii_disc.hpp"
#include "opifex/demo/workshop.hpp"

namespace {

using namespace opifex;

struct Dice {
  std::uint64_t state;
  std::uint64_t next() {
    state ^= state << 13;
    state ^= state >> 7;
    state ^= state << 17;
    return state;
  }
  std::size_t below(std::size_t n) { return static_cast<std::size_t>(next() % n); }
};

/// Words of a made-up language, common ones more often.
void write_text(Dice& dice, std::span<std::byte> out) {
  constexpr std::array<std::string_view, 12> kParts = {"lan",  "tern", "ko", "bell", "ha", "vo",
                                                       "quay", "ri",   "mo", "the",  "su", "ar"};
  std::string text;
  while (text.size() < out.size()) {
    const std::uint64_t word = dice.below(1 + dice.below(3000));
    text += std::string(kParts[word % 12]) + std::string(kParts[word / 12 % 12]) +
            (word > 144 ? std::string(kParts[word / 144 % 12]) : "");
    text += dice.below(12) == 0 ? ".\n" : " ";
  }
  std::copy_n(as_view(text).begin(), out.size(), out.begin());
}

/// Tables of a game: counters, small differences, flags.
void write_records(Dice& dice, std::span<std::byte> out) {
  std::uint32_t x = static_cast<std::uint32_t>(dice.next()), y = x;
  for (std::size_t i = 0; i < out.size(); ++i) {
    if (i % 16 == 0) x += static_cast<std::uint32_t>(dice.below(64));
    if (i % 16 == 8) y -= static_cast<std::uint32_t>(dice.below(900));
    const std::size_t at = i % 16;
    out[i] = static_cast<std::byte>(at < 4 ? x >> 8 * at : at < 8 ? 0 : at < 12 ? y >> 8 * (at - 8) : dice.below(4));
  }
}

/// What a recording has and the notes of the demo have not: no two sectors of music are alike, and none is packed to
/// next to nothing.
void add_hiss(Dice& dice, std::span<std::byte> samples) {
  constexpr std::uint64_t kLoud = 128;
  for (std::size_t i = 0; i + 1 < samples.size(); i += 2) {
    const auto louder = static_cast<std::uint16_t>(load_le16(samples, i) + dice.next() / 65'536 % kLoud);
    samples[i] = static_cast<std::byte>(louder & 255);
    samples[i + 1] = static_cast<std::byte>(louder >> 8);
  }
}

/// A Wii disc of one big game, half a gigabyte of it used.
void write_wii(const std::filesystem::path& folder) {
  constexpr std::uint64_t kClusters = 24'000;
  demo::WiiRecipe recipe;
  recipe.partitions.push_back(
      {.type = 0, .offset = 0xF80'0000, .clusters = kClusters, .title = recipe.title, .files = {}});
  for (std::uint64_t i = 0; i < 20; ++i)
    recipe.partitions.front().files.push_back(
        {fmt::format("data/file{:02}.bin", i), 0x10'0000 + i * 0x200'0000, 0x1F0'0000});
  recipe.disc_bytes = kWiiSingleLayerBytes;
  demo::write_wii_disc(recipe, folder / "wii.iso");
  std::ofstream(folder / "keys.toml") << demo::demo_key_file();
}

/// A game's disc as archives meet it: texts, tables, data that is compressed already, empty space, music.
void write_corpus(const std::filesystem::path& folder) {
  constexpr std::uint32_t kData = 24'000, kMusic = 16'000, kRun = 50;
  Dice dice{20'26};
  OutputSet set(Existing::keep);
  OutputFile& bin = set.add(folder / "corpus.bin");
  Bytes sector(cd::kRawBytes), user(cd::kUserBytes);
  for (std::uint32_t lba = 0; lba < kData; ++lba) {
    const std::uint32_t kind = lba / kRun % 8;
    std::fill(user.begin(), user.end(), std::byte{0});
    if (kind < 3) write_text(dice, user);
    if (kind >= 3 && kind < 5) write_records(dice, user);
    if (kind == 5 || kind == 6)
      for (std::byte& b : user) b = static_cast<std::byte>(dice.next() >> 32);
    cd::make_mode1(cd::SectorSpan(sector), static_cast<cd::Lba>(lba), std::span<const std::byte, cd::kUserBytes>(user));
    bin.write(sector);
  }
  const SourcePtr music = open_file(folder / "mixed (Track 2).bin");
  for (std::uint32_t i = 0; i < kMusic; ++i) {
    music->read_at(std::uint64_t{i} * cd::kRawBytes, sector);
    add_hiss(dice, sector);
    bin.write(sector);
  }
  set.add(folder / "corpus.cue")
      .write(as_view("FILE \"corpus.bin\" BINARY\r\n  TRACK 01 MODE1/2352\r\n    INDEX 01 00:00:00\r\n"
                     "  TRACK 02 AUDIO\r\n    INDEX 01 05:20:00\r\n"));
  set.commit();
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 2) return 2;
  // As mixed as a game with music: 517 MB of data, four tracks of 182 MB together.
  demo::Recipe mixed{
      .stem = "mixed", .data_sectors = 220'000, .audio_sectors = {20'000, 18'000, 17'000, 22'000}, .seed = 5};
  demo::write_disc(mixed, argv[1], demo::Files::bin_per_track);
  demo::Recipe data{.stem = "data", .data_sectors = 297'500, .seed = 6};
  demo::write_disc(data, argv[1], demo::Files::one_bin);
  write_corpus(argv[1]);
  write_wii(argv[1]);
  std::puts("made");
}
