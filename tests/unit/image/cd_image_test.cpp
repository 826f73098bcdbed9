// Every form a sector may be stored in, read in every form a reader may want, against sectors made by hand.
#include "opifex/core/image/cd_image.hpp"

#include <gtest/gtest.h>

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;
using cd::Lba;
using Kind = cd::TrackMode::Kind;

/// One sector of a data track, whole and as its user data.
struct Made {
  cd::Sector raw{};
  Bytes user = Bytes(cd::kUserBytes);  ///< what SectorForm::user gives
};

Made make_mode1(Random& random, Lba lba) {
  Made made;
  made.user = random.bytes(cd::kUserBytes);
  cd::make_mode1(made.raw, lba, std::span<const std::byte, cd::kUserBytes>(made.user));
  return made;
}
Made make_form1(Random& random, Lba lba) {
  Made made;
  made.user = random.bytes(cd::kUserBytes);
  cd::make_form1(made.raw, lba, cd::kForm1Data, std::span<const std::byte, cd::kUserBytes>(made.user));
  return made;
}
Made make_form2(Random& random, Lba lba) {
  Made made;
  const Bytes payload = random.bytes(cd::kForm2Bytes);
  cd::make_form2(made.raw, lba, cd::kForm2Empty, std::span<const std::byte, cd::kForm2Bytes>(payload));
  return made;  // it has no 2048 bytes of its own: zeros
}

/// What a stored form keeps of a sector.
Bytes stored(const Made& made, StoredForm form, Random& random) {
  const ByteView raw(made.raw);
  const auto with = [&](std::size_t extra) {
    Bytes bytes(raw.begin(), raw.end());
    const Bytes behind = random.bytes(extra);
    bytes.insert(bytes.end(), behind.begin(), behind.end());
    return bytes;
  };
  switch (form) {
    case StoredForm::raw:
      return with(0);
    case StoredForm::raw_with_pw:
      return with(96);
    case StoredForm::raw_with_q:
      return with(16);
    case StoredForm::mode2:
      return {raw.begin() + 16, raw.end()};
    case StoredForm::form2_user:
      return {raw.begin() + cd::kMode2UserAt, raw.begin() + cd::kMode2UserAt + cd::kForm2Bytes};
    case StoredForm::mode1_user:
    case StoredForm::form1_user:
      return made.user;
  }
  return {};
}

struct FormCase {
  const char* name;
  Kind kind;
  StoredForm form;
  Made (*make)(Random&, Lba);
};

class StoredForms : public testing::TestWithParam<FormCase> {
 protected:
  static constexpr Lba kFirst = 0;
  static constexpr std::uint32_t kSectors = 150;  // more than a batch of the reader

  CdImagePtr image(bool swapped = false, bool scrambled = false) {
    Random random(static_cast<std::uint64_t>(GetParam().form) + 100);
    Bytes file = random.bytes(77);  // the extent begins somewhere
    made_.clear();
    for (std::uint32_t i = 0; i < kSectors; ++i) {
      made_.push_back(GetParam().make(random, kFirst + static_cast<Lba>(i)));
      Bytes bytes = stored(made_.back(), GetParam().form, random);
      if (scrambled) cd::scramble(cd::SectorSpan(std::span(bytes).first<cd::kRawBytes>()));
      if (swapped) cd::swap_words(bytes);
      file.insert(file.end(), bytes.begin(), bytes.end());
    }
    cd::Layout layout;
    cd::Track track;
    track.mode = {GetParam().kind, static_cast<std::uint16_t>(stored_bytes(GetParam().form))};
    track.end_lba = kFirst + static_cast<Lba>(kSectors);
    track.indexes[1] = 0;
    layout.tracks.push_back(track);
    layout.sessions.push_back({.lead_out = track.end_lba});
    layout.lead_out = track.end_lba;
    const Extent extent{.sectors = kSectors,
                        .form = GetParam().form,
                        .swapped = swapped,
                        .scrambled = scrambled,
                        .source = memory_source(std::move(file), "made"),
                        .offset = 77};
    return std::make_shared<CdImage>(std::move(layout), std::vector{extent});
  }

  void expect_all(const CdImage& disc) {
    Bytes raw(kSectors * cd::kRawBytes), user(kSectors * cd::kUserBytes);
    disc.read(SectorForm::raw, kFirst, kSectors, raw);
    disc.read(SectorForm::user, kFirst, kSectors, user);
    for (std::size_t i = 0; i < kSectors; ++i) {
      const auto is = ByteView(raw).subspan(i * cd::kRawBytes, cd::kRawBytes);
      ASSERT_TRUE(std::equal(is.begin(), is.end(), made_[i].raw.begin())) << "sector " << i << " raw";
      const auto of_user = ByteView(user).subspan(i * cd::kUserBytes, cd::kUserBytes);
      ASSERT_TRUE(std::equal(of_user.begin(), of_user.end(), made_[i].user.begin())) << "sector " << i << " user";
    }
  }

  std::vector<Made> made_;
};

TEST_P(StoredForms, GiveTheSectorAndItsUserData) { expect_all(*image()); }

TEST_P(StoredForms, AnyRunIsThatPartOfTheWhole) {
  const auto disc = image();
  Bytes all(kSectors * cd::kRawBytes);
  disc->read(SectorForm::raw, kFirst, kSectors, all);
  Random random(9);
  for (int i = 0; i < 100; ++i) {
    const auto from = static_cast<std::uint32_t>(random.below(kSectors));
    const auto count = static_cast<std::uint32_t>(1 + random.below(kSectors - from));
    Bytes run(count * cd::kRawBytes);
    disc->read(SectorForm::raw, kFirst + static_cast<Lba>(from), count, run);
    ASSERT_TRUE(std::equal(run.begin(), run.end(), all.begin() + static_cast<std::ptrdiff_t>(from * cd::kRawBytes)));
  }
}

TEST_P(StoredForms, AsTheyLieTheyAreTheFilesBytes) {
  const auto disc = image();
  const Extent& e = disc->extents().front();
  Bytes lies(e.size_bytes()), is(e.size_bytes());
  e.source->read_at(e.offset, lies);
  disc->read(SectorForm::stored, kFirst, kSectors, is);
  EXPECT_TRUE(lies == is);
}

TEST_P(StoredForms, SwappedWordsAreSwappedBack) {
  expect_all(*image(stored_bytes(GetParam().form) >= cd::kRawBytes));  // nobody stores user data that way
}

TEST_P(StoredForms, ScrambledSectorsAreDescrambled) { expect_all(*image(false, GetParam().form == StoredForm::raw)); }

TEST_P(StoredForms, UserDataStandsAtItsPlaceOnTheDisc) {
  const SourcePtr data = user_data_source(image(), 1);
  Bytes bytes(3 * cd::kUserBytes);
  data->read_at(10 * cd::kUserBytes + 5, bytes);
  Bytes expected;
  for (std::size_t i = 10; i < 14; ++i) expected.insert(expected.end(), made_[i].user.begin(), made_[i].user.end());
  EXPECT_TRUE(std::equal(bytes.begin(), bytes.end(), expected.begin() + 5));
}

INSTANTIATE_TEST_SUITE_P(All, StoredForms,
                         testing::Values(FormCase{"mode1_raw", Kind::mode1, StoredForm::raw, &make_mode1},
                                         FormCase{"mode1_pw", Kind::mode1, StoredForm::raw_with_pw, &make_mode1},
                                         FormCase{"mode1_q", Kind::mode1, StoredForm::raw_with_q, &make_mode1},
                                         FormCase{"mode1_2048", Kind::mode1, StoredForm::mode1_user, &make_mode1},
                                         FormCase{"form1_raw", Kind::mode2, StoredForm::raw, &make_form1},
                                         FormCase{"form1_2336", Kind::mode2, StoredForm::mode2, &make_form1},
                                         FormCase{"form1_2048", Kind::mode2, StoredForm::form1_user, &make_form1},
                                         FormCase{"form2_raw", Kind::mode2, StoredForm::raw, &make_form2},
                                         FormCase{"form2_2336", Kind::mode2, StoredForm::mode2, &make_form2},
                                         FormCase{"form2_2324", Kind::mode2, StoredForm::form2_user, &make_form2}),
                         [](const auto& each) { return std::string(each.param.name); });

/// Track 1 of data, a gap that no file holds, music behind it.
CdImagePtr with_gap() {
  Random random(4);
  Bytes data, music = random.bytes(20 * cd::kRawBytes);
  for (Lba lba = 0; lba < 30; ++lba) {
    const Made made = make_mode1(random, lba);
    data.insert(data.end(), made.raw.begin(), made.raw.end());
  }
  cd::Layout layout;
  layout.tracks = {{.number = 1, .mode = {Kind::mode1, 2352}, .start_lba = 0, .end_lba = 30, .indexes = {{1, 0}}},
                   {.number = 2,
                    .mode = {Kind::audio, 2352},
                    .pregap_lba = 30,
                    .start_lba = 40,
                    .end_lba = 60,
                    .pregap_unstored = 10,
                    .indexes = {{1, 40}}}};
  layout.sessions.push_back({.last_track = 2, .lead_out = 60});
  layout.lead_out = 60;
  return std::make_shared<CdImage>(
      std::move(layout),
      std::vector<Extent>{{.track = 1, .lba = 0, .sectors = 30, .source = memory_source(data, "data")},
                          {.track = 2, .lba = 40, .sectors = 20, .source = memory_source(music, "music")}});
}

TEST(CdImageGaps, AreMadeUpAsTheirTrackHasThem) {
  const auto disc = with_gap();
  Bytes all(60 * cd::kRawBytes);
  disc->read(SectorForm::raw, 0, 60, all);
  EXPECT_TRUE(all_zero(ByteView(all).subspan(30 * cd::kRawBytes, 10 * cd::kRawBytes)));
  EXPECT_FALSE(all_zero(ByteView(all).subspan(40 * cd::kRawBytes, cd::kRawBytes)));
  EXPECT_EQ(disc->extent_at(35), nullptr);
  EXPECT_EQ(disc->stored_sectors(), 50u);
  Bytes one(cd::kRawBytes);
  EXPECT_THROW(disc->read(SectorForm::stored, 35, 1, one), Error) << "what no file holds does not lie anywhere";
  EXPECT_THROW(disc->read(SectorForm::raw, 60, 1, one), Error) << "behind the lead-out is nothing";
}

TEST(CdImageGaps, ADataGapHasTrueAddressesAndChecksums) {
  auto layout = with_gap()->layout();
  auto extents = with_gap()->extents();
  layout.tracks[1].mode = {Kind::mode1, 2352};
  const CdImage disc(layout, extents);
  for (Lba lba = 30; lba < 40; ++lba) {
    cd::Sector s, again;
    disc.read_sector(lba, s);
    EXPECT_EQ(cd::header_lba(s), lba);
    again = s;
    cd::regenerate_parity(again, cd::SectorKind::mode1);
    EXPECT_TRUE(s == again);
  }
}

TEST(CdImageLayouts, ThatContradictThemselvesAreRefused) {
  const auto good = with_gap();
  const auto code = [&](const std::function<void(std::vector<Extent>&)>& spoil) {
    std::vector<Extent> extents = good->extents();
    spoil(extents);
    try {
      const CdImage disc(good->layout(), extents);
      return std::string();
    } catch (const Error& e) {
      return e.details.code;
    }
  };
  EXPECT_EQ(code([](auto&) {}), "");
  EXPECT_EQ(code([](auto& x) { x[1].lba = 20; }), "bad_layout") << "two files for one sector";
  EXPECT_EQ(code([](auto& x) { x[0].track = 7; }), "bad_layout") << "a track that is not there";
  EXPECT_EQ(code([](auto& x) { x[0].sectors = 31; }), "truncated");
  EXPECT_EQ(code([](auto& x) { x[0].offset = 1; }), "truncated");
  EXPECT_EQ(code([](auto& x) { x[0].offset = UINT64_MAX; }), "truncated") << "no sum wraps around";
  EXPECT_EQ(code([](auto& x) { x[1].sectors = 1'000'000; }), "bad_layout");
}

}  // namespace
}  // namespace opifex
