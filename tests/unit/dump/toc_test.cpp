#include "opifex/core/dump/toc.hpp"

#include <gtest/gtest.h>

#include "opifex/core/cd/subchannel.hpp"

namespace opifex::dump {
namespace {

struct Entry {
  int session, control, point;
  cd::Msf at;
};

Bytes full_toc(const std::vector<Entry>& entries, bool bcd = false) {
  const auto number = [&](int v) { return bcd ? cd::to_bcd(v) : static_cast<std::byte>(v); };
  Bytes reply(4);
  for (const Entry& e : entries) {
    const int point = bcd && e.point < 0xA0 ? std::to_integer<int>(cd::to_bcd(e.point)) : e.point;
    for (const int b : {e.session, 0x10 | e.control, 0, point, 0, 0, 0, 0}) reply.push_back(static_cast<std::byte>(b));
    for (const int b : {e.at.minute, e.at.second, e.at.frame}) reply.push_back(number(b));
  }
  return reply;
}

const std::vector<Entry> kTwoSessions = {{1, 0, 0xA0, {1, 0, 0}}, {1, 0, 0xA1, {2, 0, 0}}, {1, 0, 0xA2, {12, 0, 0}},
                                         {1, 0, 1, {0, 2, 0}},    {1, 0, 2, {4, 30, 12}},  {2, 4, 0xA2, {30, 10, 50}},
                                         {2, 4, 3, {14, 32, 0}}};

TEST(Toc, EndsTheLastTrackOfASessionAtThatSessionsLeadOut) {
  const Toc toc = parse_full_toc(full_toc(kTwoSessions));
  ASSERT_EQ(toc.tracks.size(), 3u);
  EXPECT_EQ(toc.tracks[0].start, 0);
  EXPECT_EQ(toc.end_of(0), cd::lba_of({4, 30, 12}));
  EXPECT_EQ(toc.end_of(1), cd::lba_of({12, 0, 0})) << "not at the next track's start, 11400 sectors on";
  EXPECT_TRUE(toc.tracks[2].is_data());
  EXPECT_EQ(toc.tracks[2].session, 2);
  EXPECT_EQ(toc.end(), cd::lba_of({30, 10, 50}));
}

TEST(Toc, UnderstandsDrivesThatAnswerInBcd) {
  const Toc toc = parse_full_toc(full_toc(kTwoSessions, true));
  EXPECT_EQ(toc.end_of(1), cd::lba_of({12, 0, 0}));
  ASSERT_EQ(toc.warnings.size(), 1u);
  EXPECT_EQ(toc.warnings[0].code, "toc_in_bcd");
}

TEST(Toc, RefusesAnswersThatMakeNoSense) {
  const auto refused = [](std::vector<Entry> entries) {
    try {
      parse_full_toc(full_toc(entries));
      return false;
    } catch (const Error& e) {
      return e.details.code == "bad_toc";
    }
  };
  EXPECT_TRUE(refused({}));
  EXPECT_TRUE(refused({{1, 0, 1, {0, 2, 0}}})) << "no lead-out";
  EXPECT_TRUE(refused({{1, 0, 1, {5, 2, 0}}, {1, 0, 2, {4, 2, 0}}, {1, 0, 0xA2, {12, 0, 0}}})) << "descending";
  EXPECT_TRUE(refused({{1, 0, 1, {13, 2, 0}}, {1, 0, 0xA2, {12, 0, 0}}})) << "behind the lead-out";
  EXPECT_TRUE(refused({{3, 0, 1, {0, 2, 0}}, {1, 0, 0xA2, {12, 0, 0}}})) << "a session that is not there";
  EXPECT_TRUE(refused({{1, 0, 1, {0, 2, 0}}, {1, 0, 0xA2, {12, 77, 0}}})) << "77 seconds";
  EXPECT_NO_THROW(parse_full_toc(full_toc(kTwoSessions)));
  Bytes cut = full_toc(kTwoSessions);
  for (std::size_t n = 0; n < cut.size(); ++n) {
    try {
      parse_full_toc(ByteView(cut).first(n));
    } catch (const Error&) {  // refused or read as far as it goes, but never past its end
    }
  }
}

TEST(Toc, PlainTocFindsTheSessionsByTheGapBetweenThem) {
  Bytes plain = {std::byte{0}, std::byte{0}, std::byte{1}, std::byte{2}};
  const auto add = [](Bytes& to, int control, int number, std::uint32_t lba) {
    for (const std::uint32_t b : {0u, 0x10u | static_cast<unsigned>(control), static_cast<unsigned>(number), 0u,
                                  lba >> 24, lba >> 16 & 255, lba >> 8 & 255, lba & 255})
      to.push_back(static_cast<std::byte>(b));
  };
  add(plain, 0, 1, 0);
  add(plain, 4, 2, 31400);
  add(plain, 4, 0xAA, 50000);
  Bytes sessions = {std::byte{0}, std::byte{0}, std::byte{1}, std::byte{2}};
  add(sessions, 4, 2, 31400);
  const Toc toc = parse_plain_toc(plain, sessions);
  EXPECT_EQ(toc.end_of(0), 20000);
  EXPECT_EQ(toc.tracks[1].session, 2);
  EXPECT_EQ(toc.end_of(1), 50000);
  EXPECT_EQ(parse_plain_toc(plain, {}).end_of(0), 31400) << "without sessions nothing better is known";
}

Bytes pack(int type, int track, int number, const char* text, bool right_crc = true) {
  Bytes p(18);
  p[0] = static_cast<std::byte>(type);
  p[1] = static_cast<std::byte>(track);
  p[2] = static_cast<std::byte>(number);
  for (std::size_t i = 0; i < 12; ++i) p[4 + i] = static_cast<std::byte>(text[i]);
  const unsigned crc = static_cast<std::uint16_t>(~cd::q_crc(ByteView(p).first(16)));
  p[16] = static_cast<std::byte>(crc >> 8);
  p[17] = static_cast<std::byte>((crc & 255) ^ (right_crc ? 0u : 1u));
  return p;
}

TEST(CdText, StringsRunOnOverPacksAndATabRepeatsTheOneBefore) {
  Bytes reply(4);
  const auto add = [&](const Bytes& p) { reply.insert(reply.end(), p.begin(), p.end()); };
  add(pack(0x80, 0, 0, "Moth & Lante"));
  add(pack(0x80, 0, 1, "rn\0Harbour\0\t\0\0"));
  add(pack(0x80, 2, 2, "\0\0\0\0\0\0\0\0\0\0\0\0"));
  add(pack(0x81, 0, 2, "Palisade Row"));
  add(pack(0x81, 0, 3, "\0\t\0\t\0\0\0\0\0\0\0\0"));
  add(pack(0x82, 0, 4, "Never read\0\0", false));
  const auto texts = parse_cd_text(reply);
  EXPECT_EQ(cd::find_text(texts.at(0), "TITLE"), "Moth & Lantern");
  EXPECT_EQ(cd::find_text(texts.at(1), "TITLE"), "Harbour");
  EXPECT_EQ(cd::find_text(texts.at(2), "TITLE"), "Harbour");
  EXPECT_EQ(cd::find_text(texts.at(1), "PERFORMER"), "Palisade Row");
  EXPECT_FALSE(cd::find_text(texts.at(0), "SONGWRITER")) << "its checksum is wrong";
}

}  // namespace
}  // namespace opifex::dump
