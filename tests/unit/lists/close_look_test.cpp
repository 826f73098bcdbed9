// Why something is not known. An explanation would be false if the bytes, put right as it says, were not the entry's:
// every one found is carried out here and compared.
#include "opifex/core/lists/close_look.hpp"

#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/lists/read_list.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

std::string rom_line(const std::string& name, const Bytes& content, unsigned which) {
  std::string line = fmt::format("<rom name=\"{}\" size=\"{}\"", name, content.size());
  if ((which & 1) != 0) line += fmt::format(" crc=\"{}\"", digest_of("crc32", content));
  if ((which & 2) != 0) line += fmt::format(" md5=\"{}\"", digest_of("md5", content));
  if ((which & 4) != 0) line += fmt::format(" sha1=\"{}\"", digest_of("sha1", content));
  return line + "/>";
}

KnownListPtr list_of(const std::vector<Bytes>& contents, unsigned which) {
  std::string text = "<?xml version=\"1.0\"?><datafile><game name=\"Disc\">";
  for (std::size_t i = 0; i < contents.size(); ++i) text += rom_line(fmt::format("t{}.bin", i), contents[i], which);
  return read_list(*memory_source(to_bytes(text + "</game></datafile>"), "list"), "list");
}

Bytes piece_of(const Bytes& all, std::int64_t from, std::int64_t to) {
  Bytes out;
  for (std::int64_t i = from; i < to; ++i)
    out.push_back(i < 0 || i >= static_cast<std::int64_t>(all.size()) ? std::byte{0}
                                                                      : all[static_cast<std::size_t>(i)]);
  return out;
}

Bytes joined(std::initializer_list<Bytes> parts) {
  Bytes all;
  for (const Bytes& part : parts) all.insert(all.end(), part.begin(), part.end());
  return all;
}

/// The stretch put right as the explanation says.
Bytes put_right(const NearMiss& miss, const Bytes& all, const LookAt& at) {
  const auto b = static_cast<std::int64_t>(at.begin), e = static_cast<std::int64_t>(at.end), n = miss.amount;
  const Bytes here = piece_of(all, b, e);
  const Bytes filler(static_cast<std::size_t>(std::abs(n)), miss.filler == "FF" ? std::byte{0xFF} : std::byte{0});
  switch (miss.kind) {
    case NearKind::audio_offset:
      return piece_of(all, b + n * 4, e + n * 4);
    case NearKind::too_long:
      return piece_of(all, b, e - n);
    case NearKind::leading:
      return piece_of(all, b + n, e);
    case NearKind::too_short:
      return miss.filler == "in the track behind" ? piece_of(all, b, e + n) : joined({here, filler});
    case NearKind::pregap:
      return miss.filler == "in the track before" ? piece_of(all, b - n, e) : joined({filler, here});
    case NearKind::byte_order: {
      Bytes turned = here;
      for (std::size_t i = 0; i < turned.size(); i += static_cast<std::size_t>(n))
        std::reverse(turned.begin() + static_cast<std::ptrdiff_t>(i),
                     turned.begin() + static_cast<std::ptrdiff_t>(i) + n);
      return turned;
    }
  }
  return {};
}

class CloseLooks : public testing::Test {
 protected:
  /// What comes out; each explanation is held against the truth.
  CloseLook look(const std::vector<Bytes>& entries, const Bytes& all, LookAt at, unsigned which = 7) {
    at.all = memory_source(all, "here");
    if (at.end == 0) at.end = all.size();
    if (at.audio && at.music_end == 0) at.music_end = all.size();
    const KnownListPtr list = list_of(entries, which);
    const EntriesBySize by_size(*list);
    Progress progress;
    JobContext context{progress, 1};
    const std::vector<std::uint32_t> sets{0};
    CloseLook found = look_closer(by_size, sets, at, context);
    for (const NearMiss& miss : found.found) {
      EXPECT_EQ(put_right(miss, all, at), entries.at(miss.entry)) << to_string(miss.kind) << " " << miss.amount;
      EXPECT_EQ(miss.proof, (which & 4) != 0 ? "sha1" : (which & 2) != 0 ? "md5" : "crc32");
    }
    return found;
  }
  static const NearMiss* of_kind(const CloseLook& look, NearKind kind) {
    const auto at = std::find_if(look.found.begin(), look.found.end(), [&](const auto& m) { return m.kind == kind; });
    return at == look.found.end() ? nullptr : &*at;
  }
  static std::int64_t amount(const CloseLook& look, NearKind kind) {
    const NearMiss* miss = of_kind(look, kind);
    return miss ? miss->amount : INT64_MIN;
  }
  Random random_{20};
};

TEST_F(CloseLooks, MusicIsFoundAtEveryShiftUpToTheLastAndNotBeyond) {
  const Bytes disc = random_.bytes(3 * 2352 * 20);
  const std::size_t track = 2352 * 20;
  std::vector<std::int64_t> shifts{1, -1, 12, kMostShift, -kMostShift, kMostShift + 1, -kMostShift - 1};
  for (int i = 0; i < 20; ++i) shifts.push_back(static_cast<std::int64_t>(random_.below(10'000)) - 5'000);
  for (const std::int64_t shift : shifts) {
    if (shift == 0) continue;
    const Bytes moved = piece_of(disc, -shift * 4, static_cast<std::int64_t>(disc.size()) - shift * 4);
    const Bytes entry = piece_of(disc, track, 2 * track);
    const CloseLook found = look({entry}, moved, {.begin = track, .end = 2 * track, .unit_bytes = 2352, .audio = true});
    EXPECT_EQ(amount(found, NearKind::audio_offset), std::abs(shift) > kMostShift ? INT64_MIN : shift);
  }
}

TEST_F(CloseLooks, BeyondTheMusicThereIsSilenceAndNoData) {
  // Data, then music that is moved to the front by 30 samples: what is lost there was silence.
  const Bytes data = random_.bytes(2352 * 10), music = joined({Bytes(30 * 4), random_.bytes(2352 * 10 - 30 * 4)});
  const Bytes moved = piece_of(music, 30 * 4, static_cast<std::int64_t>(music.size()) + 30 * 4);
  const Bytes all = joined({data, moved});
  const LookAt at{
      .begin = data.size(), .unit_bytes = 2352, .audio = true, .music_begin = data.size(), .music_end = all.size()};
  LookAt whole = at;
  whole.end = all.size();
  whole.all = memory_source(all, "here");
  const KnownListPtr list = list_of({music}, 7);
  Progress progress;
  JobContext context{progress, 1};
  const CloseLook found = look_closer(EntriesBySize(*list), std::vector<std::uint32_t>{0}, whole, context);
  EXPECT_EQ(amount(found, NearKind::audio_offset), -30);
}

TEST_F(CloseLooks, WithoutACrcNoShiftIsFoundAndThatIsSaid) {
  const Bytes disc = random_.bytes(2352 * 8);
  const Bytes moved = piece_of(disc, -40, static_cast<std::int64_t>(disc.size()) - 40);
  const Bytes entry = piece_of(disc, 2352 * 2, 2352 * 4);
  const CloseLook found =
      look({entry}, moved, {.begin = 2352 * 2, .end = 2352 * 4, .unit_bytes = 2352, .audio = true}, 4);
  EXPECT_TRUE(found.found.empty());
  EXPECT_TRUE(
      std::any_of(found.tried.begin(), found.tried.end(), [](const auto& t) { return t.find("no CRC-32") != t.npos; }));
}

TEST_F(CloseLooks, WhatIsTooMuchOrTooLittleIsFoundAtEitherEnd) {
  for (int round = 0; round < 200; ++round) {
    const unsigned which = 1 + static_cast<unsigned>(random_.below(7));
    const Bytes entry = random_.bytes(100 + random_.below(5'000));
    const std::size_t n = 1 + random_.below(600);
    const std::byte fill = random_.below(2) == 0 ? std::byte{0} : std::byte{0xFF};
    const Bytes run(n, fill), other = random_.bytes(n + 2);
    EXPECT_EQ(amount(look({entry}, joined({entry, run}), {}, which), NearKind::too_long), static_cast<std::int64_t>(n));
    const CloseLook noise = look({entry}, joined({entry, other}), {}, which);
    ASSERT_TRUE(of_kind(noise, NearKind::too_long));
    EXPECT_EQ(of_kind(noise, NearKind::too_long)->filler, "data");
    EXPECT_EQ(amount(look({entry}, joined({other, entry}), {}, which), NearKind::leading),
              static_cast<std::int64_t>(other.size()));
    EXPECT_EQ(amount(look({joined({entry, run})}, entry, {}, which), NearKind::too_short),
              static_cast<std::int64_t>(n));
  }
}

TEST_F(CloseLooks, PregapsThatAreMissingOrElsewhereAreFound) {
  const std::size_t unit = 2352;
  for (int round = 0; round < 50; ++round) {
    const std::size_t gap = unit * (1 + random_.below(8));
    const Bytes before = random_.bytes(unit * 10), track = random_.bytes(unit * (1 + random_.below(6)));
    const LookAt at{.begin = before.size(), .end = before.size() + track.size(), .unit_bytes = unit};
    const CloseLook silent = look({joined({Bytes(gap), track})}, joined({before, track}), at);
    EXPECT_EQ(amount(silent, NearKind::pregap), static_cast<std::int64_t>(gap));
    const Bytes end =
        piece_of(before, static_cast<std::int64_t>(before.size() - gap), static_cast<std::int64_t>(before.size()));
    const CloseLook elsewhere = look({joined({end, track})}, joined({before, track}), at);
    ASSERT_TRUE(of_kind(elsewhere, NearKind::pregap));
    EXPECT_EQ(of_kind(elsewhere, NearKind::pregap)->filler, "in the track before");
  }
}

TEST_F(CloseLooks, TheOtherByteOrderIsFound) {
  for (const std::size_t word : {std::size_t{2}, std::size_t{4}}) {
    const Bytes entry = random_.bytes(4096);
    Bytes turned = entry;
    for (std::size_t i = 0; i < turned.size(); i += word)
      std::reverse(turned.begin() + static_cast<std::ptrdiff_t>(i),
                   turned.begin() + static_cast<std::ptrdiff_t>(i + word));
    EXPECT_EQ(amount(look({entry}, turned, {}), NearKind::byte_order), static_cast<std::int64_t>(word));
  }
}

TEST_F(CloseLooks, OtherContentIsLikeNothing) {
  for (int round = 0; round < 100; ++round) {
    std::vector<Bytes> entries;
    for (std::uint64_t i = 0; i < 1 + random_.below(6); ++i) entries.push_back(random_.bytes(1 + random_.below(6'000)));
    Bytes here = entries[0];
    if (random_.below(2) == 0) here = joined({here, Bytes(1 + random_.below(600))});
    here[random_.below(entries[0].size())] ^= std::byte{1};
    const bool audio = random_.below(2) == 0;
    EXPECT_TRUE(look(entries, here, {.audio = audio}).found.empty()) << round;
  }
}

TEST_F(CloseLooks, NothingAndNoEntriesAreNoHarm) {
  EXPECT_TRUE(look({random_.bytes(10)}, random_.bytes(1), {}).found.empty());
  EXPECT_TRUE(look({}, random_.bytes(1), {.audio = true}).found.empty());
}

}  // namespace
}  // namespace opifex
