// Writing CHD, part by part: bits and trees, which codec is chosen, the kept sheet, hunks found in a parent.
#include <gtest/gtest.h>

#include "opifex/core/convert/plan.hpp"
#include "opifex/core/image/format.hpp"

#include "../../../src/core/formats/chd/bit_writer.hpp"
#include "../../../src/core/formats/chd/bits.hpp"
#include "../../../src/core/formats/chd/decoder.hpp"
#include "../../../src/core/formats/chd/estimate.hpp"
#include "../../../src/core/formats/chd/hunk_coder.hpp"
#include "../../../src/core/formats/chd/map_writer.hpp"
#include "../../../src/core/formats/chd/sheet_tag.hpp"
#include "testkit.hpp"

namespace opifex::chd {
namespace {

using testkit::QuietContext;
using testkit::Random;
using testkit::TempFolder;

// ---- Bits and trees
// --------------------------------------------------------------------------------------------------

TEST(ChdBits, FieldsOfEveryWidthComeBack) {
  Random random(5);
  std::vector<std::pair<std::uint64_t, unsigned>> fields;
  BitWriter out;
  for (int i = 0; i < 2000; ++i) {
    const auto width = static_cast<unsigned>(random.below(65));
    const std::uint64_t value = width == 0 ? 0 : random.next() >> (64 - width);
    fields.emplace_back(value, width);
    out.put(value, width);
  }
  BitReader in(out.bytes());
  for (const auto& [value, width] : fields) {
    if (width <= 32) {
      ASSERT_EQ(in.peek(width), value);
    }
    ASSERT_EQ(in.bits(width), value) << width;
  }
  EXPECT_FALSE(in.overran());
  EXPECT_EQ(in.bits(16) & 255, 0u) << "behind the end there are zeros";
  EXPECT_TRUE(in.overran());
}

TEST(ChdBits, TheTreeOf256SymbolsComesBack) {
  Random random(8);
  for (int round = 0; round < 300; ++round) {
    std::vector<std::uint64_t> counts(256, 0);
    const std::size_t used = round == 0 ? 1 : 1 + random.below(256);
    // Up to very skewed: some codes must be cut to 16 bits.
    for (std::size_t i = 0; i < used; ++i) counts[random.below(256)] = 1 + (random.next() >> random.below(63));
    const CodeBook book = make_code(counts, 16);
    BitWriter out;
    write_small_tree(book, out);
    for (std::size_t s = 0; s < 256; ++s)
      if (book.lengths[s] > 0) out.put(book.codes[s], book.lengths[s]);
    BitReader in(out.bytes());
    const auto tree = read_small_tree(in);
    ASSERT_TRUE(tree) << round;
    for (int s = 0; s < 256; ++s)
      if (book.lengths[static_cast<std::size_t>(s)] > 0) {
        ASSERT_EQ(tree->next(in), s) << round;
      }
  }
}

// ---- Choosing codecs
// -------------------------------------------------------------------------------------------------

TEST(ChdEstimates, KnowTheEnds) {
  const Bytes same(4096, std::byte{7});
  EXPECT_DOUBLE_EQ(plain_entropy(same), 0);
  Bytes every;
  for (int i = 0; i < 4096; ++i) every.push_back(static_cast<std::byte>(i & 255));
  EXPECT_NEAR(plain_entropy(every), 4096, 1e-6) << "all bytes equally often: nothing to gain";
  EXPECT_LE(context_entropy(every), plain_entropy(every));
  EXPECT_LT(sound_size(same, false), 400) << "a constant is silence to a predictor";
  EXPECT_GT(sound_size(Random(2).bytes(4096), false), 3500);
}

TEST(ChdEstimates, SoundIsSmallInItsOwnByteOrderOnly) {
  Bytes big;
  for (int i = 0; i < 4096; ++i) {
    const int x = i / 2 % 512 - 256, v = x * x / 4 - 8192;  // smooth waves
    big.push_back(static_cast<std::byte>(v >> 8 & 255));
    big.push_back(static_cast<std::byte>(v & 255));
  }
  EXPECT_LT(2 * sound_size(big, true), sound_size(big, false));
}

std::vector<Bytes> mixed_hunks(std::size_t size) {
  Random random(21);
  std::vector<Bytes> hunks;
  for (int round = 0; round < 12; ++round) {
    Bytes text, table, music, half = random.bytes(size);
    while (text.size() < size) {
      const std::string_view words[] = {"lantern ", "harbour ", "bell ", "quay ", "the ", "keeper ", "tide ", "nine "};
      const Bytes word = to_bytes(words[random.below(8)]);
      text.insert(text.end(), word.begin(), word.end());
    }
    text.resize(size);
    for (std::size_t i = 0; i < size; ++i)
      table.push_back(static_cast<std::byte>(i % 16 < 3 ? i / 16 : random.below(4)));
    for (std::size_t i = 0; i < size / 2; ++i) {
      const auto v = static_cast<unsigned>((i * i / 900) % 6000 + random.below(50));
      music.push_back(static_cast<std::byte>(v >> 8));
      music.push_back(static_cast<std::byte>(v & 255));
    }
    std::copy_n(text.begin(), size / 2, half.begin());
    hunks.insert(hunks.end(), {text, table, music, half, random.bytes(size)});
  }
  return hunks;
}

std::size_t total(const std::vector<Bytes>& hunks, const std::vector<std::string>& codecs, Effort effort) {
  HunkCoder coder(codecs, effort);
  std::size_t sum = 0;
  for (const Bytes& h : hunks) {
    const CodedHunk coded = coder.code(h);
    sum += coded.slot < 0 ? h.size() : coded.bytes.size();
  }
  return sum;
}

TEST(ChdEffort, NormalIsNeverMoreThanAFifthOfAPercentLargerThanBest) {
  const auto hunks = mixed_hunks(8 * kFrameBytes);
  for (const std::vector<std::string>& codecs : {std::vector<std::string>{"lzma", "zlib", "huff", "flac"},
                                                 {"zlib", "flac"},
                                                 {"zstd", "huff"},
                                                 {"huff", "lzma"}}) {
    const auto best = static_cast<double>(total(hunks, codecs, Effort::best));
    EXPECT_LE(static_cast<double>(total(hunks, codecs, Effort::normal)), 1.002 * best) << codecs.front();
    EXPECT_LE(static_cast<double>(total(hunks, codecs, Effort::fast)), 1.25 * best) << codecs.front();
  }
}

TEST(ChdEffort, WhateverIsChosenDecodesAndDoesNotDependOnTheHunksBefore) {
  const auto hunks = mixed_hunks(4 * kFrameBytes);
  const std::vector<std::string> codecs = {"cdlz", "cdzl", "cdfl", "cdzs"};
  Decoder decoder;
  for (const Effort effort : {Effort::fast, Effort::normal, Effort::best}) {
    HunkCoder used(codecs, effort);
    for (const Bytes& h : hunks) {
      const CodedHunk coded = used.code(h);
      HunkCoder fresh(codecs, effort);
      const CodedHunk again = fresh.code(h);
      EXPECT_EQ(coded.slot, again.slot);
      EXPECT_EQ(coded.bytes, again.bytes);
      if (coded.slot < 0) continue;
      Bytes back(h.size());
      ASSERT_TRUE(decoder.decode(codecs[static_cast<std::size_t>(coded.slot)], coded.bytes, back));
      EXPECT_EQ(back, h);
    }
  }
}

TEST(ChdEffort, AtEqualSizeTheLowerSlotWins) {
  const Bytes text = mixed_hunks(4096).front();
  for (const Effort effort : {Effort::normal, Effort::best}) {
    HunkCoder coder({"zlib", "zlib"}, effort);
    EXPECT_EQ(coder.code(text).slot, 0);
  }
}

// ---- The kept sheet
// --------------------------------------------------------------------------------------------------

SheetTag small_tag() {
  return {{{"disc.bin", std::string(40, 'a'), 4704}},
          "FILE \"disc.bin\" BINARY\n  TRACK 01 AUDIO\n    INDEX 01 00:00:00\n"};
}

TEST(ChdSheetTag, ComesBackAsItWas) {
  const SheetTag tag = small_tag();
  const auto back = parse_sheet_tag(print_sheet_tag(tag));
  ASSERT_TRUE(back);
  ASSERT_EQ(back->files.size(), 1u);
  EXPECT_EQ(back->files[0].name, "disc.bin");
  EXPECT_EQ(back->files[0].size_bytes, 4704u);
  EXPECT_EQ(back->files[0].sha1, std::string(40, 'a'));
  EXPECT_EQ(back->sheet, tag.sheet);
}

TEST(ChdSheetTag, IsIgnoredWhenItIsNotPlain) {
  const std::string good(as_text(print_sheet_tag(small_tag())));
  const auto changed = [&](const std::string& from, const std::string& to) {
    std::string text = good;
    text.replace(text.find(from), from.size(), to);
    return parse_sheet_tag(as_view(text)).has_value();
  };
  EXPECT_TRUE(changed("disc.bin", "Bin of mine.bin"));
  EXPECT_FALSE(changed("SHEET 1", "SHEET 2")) << "a later version";
  EXPECT_FALSE(changed("disc.bin", "../disc.bin"));
  EXPECT_FALSE(changed("disc.bin", "a\\disc.bin"));
  EXPECT_FALSE(changed("disc.bin", ".."));
  EXPECT_FALSE(changed("4704", "many"));
  EXPECT_FALSE(changed("4704", "99999999999999999999999"));
  EXPECT_FALSE(changed("FILE 4704", "LIFE 4704"));
  for (std::size_t n = 0; n + 5 < good.find("\n\n"); ++n)
    EXPECT_FALSE(parse_sheet_tag(as_view(good).first(n))) << "cut at byte " << n;
}

TEST(ChdSheetTag, HashesAreThoseOfTheFilesTheSheetNames) {
  // Two tracks: two sectors of data, three of music; the files cut across them.
  const Bytes frames = Random(31).bytes(8 * kFrameBytes);
  const std::vector<FrameRun> runs = {{0, 2, 2048, false, false}, {4, 3, 2352, true, true}};
  Bytes files;
  for (const FrameRun& run : runs)
    for (std::uint64_t f = run.first_frame; f < run.first_frame + run.frames; ++f) {
      Bytes sector(run.sector_bytes + (run.subcode ? kFrameSubcode : 0));
      std::copy_n(frames.begin() + static_cast<std::ptrdiff_t>(f * kFrameBytes), sector.size(), sector.begin());
      if (run.swapped)
        for (std::size_t i = 0; i < run.sector_bytes; i += 2) std::swap(sector[i], sector[i + 1]);
      files.insert(files.end(), sector.begin(), sector.end());
    }
  SheetTag tag;
  tag.files = {{"a", "", 1000}, {"b", "", files.size() - 1000}};
  SheetHasher hasher(tag, runs);
  hasher.update(0, ByteView(frames).first(3 * kFrameBytes));
  hasher.update(3, ByteView(frames).subspan(3 * kFrameBytes));
  const auto sums = hasher.finish();
  ASSERT_EQ(sums.size(), 2u);
  EXPECT_EQ(sums[0], digest_of("sha1", ByteView(files).first(1000)));
  EXPECT_EQ(sums[1], digest_of("sha1", ByteView(files).subspan(1000)));
  tag.files[1].size_bytes -= 1;
  SheetHasher short_one(tag, runs);
  short_one.update(0, frames);
  EXPECT_TRUE(short_one.finish().empty()) << "frames left over: these are not the files";
}

// ---- Parents
// ---------------------------------------------------------------------------------------------------------

class ChdChildren : public testing::Test {
 protected:
  void write(const std::string& name, const Bytes& bytes, const std::filesystem::path& parent = {},
             std::uint32_t hunk_bytes = 4096) {
    testkit::write_file(folder / (name + ".iso"), as_text(bytes));
    QuietContext context;
    const Image image = open_image(folder / (name + ".iso"));
    ConvertRequest request{find_format("chd"), folder / (name + ".chd")};
    request.settings = Settings::of(request.target->settings,
                                    {{"parent", parent.string()}, {"hunk-size", std::to_string(hunk_bytes)}});
    write_outputs(image, plan_conversion(image, request, context).plan, {}, context);
  }
  std::shared_ptr<const Chd> open(const std::string& name, const std::vector<std::string>& parents = {}) const {
    return Chd::open(open_file(folder / (name + ".chd")), [&](const Sha1&) -> std::shared_ptr<const Chd> {
      if (parents.empty()) return nullptr;
      return open(parents.front(), {parents.begin() + 1, parents.end()});
    });
  }
  static std::vector<std::string> kinds(const Chd& file) {
    std::vector<std::string> names;
    for (const Hunk& h : file.hunks()) {
      names.push_back(file.kind_name(h));
      if (h.kind == HunkKind::parent) names.back() += ":" + std::to_string(h.place);
    }
    return names;
  }
  static Bytes all(const Chd& file) {
    Bytes bytes(file.header().logical_bytes);
    file.logical()->read_at(0, bytes);
    return bytes;
  }
  TempFolder folder;
};

TEST_F(ChdChildren, TheSamePlaceIsPreferredThenTheLowestUnit) {
  const Bytes block = Random(1).bytes(4096), other = Random(2).bytes(4096), fresh = Random(3).bytes(4096);
  const auto join = [](std::initializer_list<Bytes> parts) {
    Bytes b;
    for (const Bytes& p : parts) b.insert(b.end(), p.begin(), p.end());
    return b;
  };
  const Bytes half(other.begin(), other.begin() + 2048);
  write("parent", join({block, other, block, half, other}));
  // In place; moved; from the middle of a hunk on; new; new again (a copy of it).
  const Bytes child = join({block, block, block, other, fresh, fresh});
  write("child", child, folder / "parent.chd");
  const auto opened = open("child", {"parent"});
  EXPECT_EQ(all(*opened), child);
  EXPECT_EQ(kinds(*opened), (std::vector<std::string>{"parent:0", "parent:0", "parent:4", "parent:2", "none", "self"}));
  EXPECT_LT(std::filesystem::file_size(folder / "child.chd"), 4096u + 400);
}

TEST_F(ChdChildren, ARunThroughUnalignedPlacesAndAnotherHunkSize) {
  const Bytes parent = Random(9).bytes(40 * 2048);
  write("parent", parent, {}, 8192);
  Bytes child(parent.begin() + 3 * 2048, parent.end());  // everything moved by three units
  child.resize(child.size() + 2048, std::byte{1});
  write("child", child, folder / "parent.chd", 6144);
  const auto opened = open("child", {"parent"});
  EXPECT_EQ(all(*opened), child);
  const auto names = kinds(*opened);
  EXPECT_EQ(names.front(), "parent:3");
  EXPECT_EQ(names[1], "parent:6") << "the next hunk follows in the parent";
}

TEST_F(ChdChildren, AGrandchildIsReadThroughBoth) {
  const Bytes first = Random(12).bytes(20 * 4096);
  Bytes second = first, third;
  second[5 * 4096] ^= std::byte{1};
  third = second;
  third[9 * 4096] ^= std::byte{1};
  write("a", first);
  write("b", second, folder / "a.chd");
  write("c", third, folder / "b.chd");
  EXPECT_EQ(all(*open("c", {"b", "a"})), third);
  EXPECT_LT(std::filesystem::file_size(folder / "c.chd"), 4096u + 500);
}

TEST_F(ChdChildren, AParentOfAnotherKindIsRefused) {
  write("parent", Random(4).bytes(8 * 2048));
  testkit::write_file(folder / "disc.cue", "FILE \"disc.bin\" BINARY\n TRACK 01 AUDIO\n INDEX 01 00:00:00\n");
  testkit::write_file(folder / "disc.bin", std::string(10 * 2352, 'x'));
  QuietContext context;
  ConvertRequest request{find_format("chd"), folder / "disc.chd"};
  request.settings = Settings::of(request.target->settings, {{"parent", (folder / "parent.chd").string()}});
  try {
    plan_conversion(open_image(folder / "disc.cue"), request, context);
    FAIL() << "units of 2048 and 2448 bytes do not go together";
  } catch (const Error& e) {
    EXPECT_EQ(e.details.code, "parent_unfit");
  }
}

}  // namespace
}  // namespace opifex::chd
