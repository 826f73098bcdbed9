// Patches: known answers written out by hand, random files against what the patch has to make of them, and damage.
#include "opifex/core/convert/patch.hpp"

#include <gtest/gtest.h>

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

Bytes unhex(std::string_view digits) {
  Bytes out;
  for (std::size_t i = 0; i + 1 < digits.size(); i += 2)
    out.push_back(static_cast<std::byte>(std::stoi(std::string(digits.substr(i, 2)), nullptr, 16)));
  return out;
}
Bytes joined(std::initializer_list<std::string_view> hex_parts) {
  std::string all;
  for (const std::string_view part : hex_parts) all += part;
  return unhex(all);
}
/// "PATCH" and "EOF".
constexpr std::string_view kPatch = "5041544348", kEof = "454F46";

TEST(Ips, RecordsRunsAndCutsAreKnownAnswers) {
  const Bytes source = to_bytes("0123456789");
  EXPECT_EQ(apply_patch(joined({kPatch, "0000020002", "4142", kEof}), source, "p").bytes, to_bytes("01AB456789"));
  EXPECT_EQ(apply_patch(joined({kPatch, "000004", "0000", "0003", "58", kEof}), source, "p").bytes,
            to_bytes("0123XXX789"))
      << "a run";
  EXPECT_EQ(apply_patch(joined({kPatch, "00000C0001", "5A", kEof}), source, "p").bytes,
            to_bytes(std::string("0123456789\0\0Z", 13)))
      << "behind the end zeros fill the gap";
  EXPECT_EQ(apply_patch(joined({kPatch, "0000000001", "58", kEof, "000004"}), source, "p").bytes, to_bytes("X123"));
  const PatchFacts facts = read_patch(joined({kPatch, "0000000001", "58", kEof, "000004"}), "p");
  EXPECT_EQ(facts.truncates_to, 4u);
  EXPECT_EQ(facts.records, 1u);
  EXPECT_EQ(fit_of(facts, *memory_source(source, "p")), PatchFit::unknown) << "there is nothing to tell by";
}

TEST(Ips, ARecordAtThePlaceThatReadsEofIsNoEnd) {
  // Two records, the first at 0x454F46.
  const Bytes patch = joined({kPatch, kEof, "0001", "41", "0000000001", "42", kEof});
  const Bytes out = apply_patch(patch, Bytes(0x460000), "p").bytes;
  EXPECT_EQ(out[0x454F46], std::byte{0x41});
  EXPECT_EQ(out[0], std::byte{0x42});
  // And none is ever written so.
  Bytes target(0x460000);
  target[0x454F46] = std::byte{7};
  const Bytes made = make_patch(PatchKind::ips, Bytes(0x460000), target);
  EXPECT_EQ(apply_patch(made, Bytes(0x460000), "p").bytes, target);
  EXPECT_NE(as_text(made).substr(5, 3), "EOF");
}

TEST(Bps, EveryCommandIsAKnownAnswer) {
  // Source "ABCDEFGH", target "ABCDxyEFxyEFxy": read 4, carry "xy", copy EF of the source, copy six bytes
  // from where four are there: the copy runs into what it writes.
  const Bytes source = to_bytes("ABCDEFGH"), target = to_bytes("ABCDxyEFxyEFxy");
  Bytes patch = to_bytes("BPS1");
  const auto number = [&](std::uint64_t n) {  // below 128
    patch.push_back(static_cast<std::byte>(0x80 | n));
  };
  number(8);
  number(14);
  number(0);
  number((4 - 1) << 2 | 0);
  number((2 - 1) << 2 | 1);
  patch.insert(patch.end(), {std::byte{'x'}, std::byte{'y'}});
  number((2 - 1) << 2 | 2);
  number(4 << 1);
  number((6 - 1) << 2 | 3);
  number(4 << 1);
  // By any other implementation of CRC-32.
  const auto crc = [&](ByteView bytes) {
    std::uint32_t c = 0xFFFFFFFF;
    for (const std::byte b : bytes) {
      c ^= std::to_integer<std::uint32_t>(b);
      for (int i = 0; i < 8; ++i) c = c >> 1 ^ ((c & 1) != 0 ? 0xEDB88320u : 0u);
    }
    c = ~c;
    for (int i = 0; i < 4; ++i) patch.push_back(static_cast<std::byte>(c >> 8 * i & 0xFF));
  };
  crc(source);
  crc(target);
  crc(Bytes(patch));
  EXPECT_EQ(apply_patch(patch, source, "p").bytes, target);
  const PatchFacts facts = read_patch(patch, "p");
  EXPECT_EQ(facts.source_bytes, 8u);
  EXPECT_EQ(facts.target_bytes, 14u);
  EXPECT_EQ(facts.records, 4u);
  EXPECT_EQ(error_code([&] { apply_patch(patch, target, "p"); }), "patched_already");
  EXPECT_EQ(error_code([&] { apply_patch(patch, to_bytes("ABCDEFGI"), "p"); }), "wrong_source");
}

/// A file and one that was made of it: edits, moved blocks, another length.
std::pair<Bytes, Bytes> related(Random& random) {
  const Bytes source = random.bytes(1 + random.below(20'000));
  Bytes target = source;
  for (std::uint64_t edits = random.below(8); edits > 0 && !target.empty(); --edits) {
    const std::size_t at = random.below(target.size()),
                      n = std::min<std::size_t>(random.below(600), target.size() - at);
    const auto from = target.begin() + static_cast<std::ptrdiff_t>(at), end = from + static_cast<std::ptrdiff_t>(n);
    switch (random.below(5)) {
      case 0: {
        const Bytes fresh = random.bytes(n);
        std::copy(fresh.begin(), fresh.end(), from);
        break;
      }
      case 1:
        std::fill(from, end, std::byte{0x5A});
        break;
      case 2:
        target.erase(from, end);
        break;
      case 3: {
        const Bytes piece(from, end);
        target.insert(target.begin() + static_cast<std::ptrdiff_t>(random.below(target.size())), piece.begin(),
                      piece.end());
        break;
      }
      default:
        target.resize(random.below(2) == 0 ? at : target.size() + n, std::byte{7});
    }
  }
  return {source, target};
}

TEST(Patches, WhatIsMadeMakesTheTargetOfTheSourceAndOfNothingElse) {
  Random random(51);
  for (int round = 0; round < 300; ++round) {
    const auto [source, target] = related(random);
    for (const PatchKind kind : {PatchKind::ips, PatchKind::ups, PatchKind::bps}) {
      SCOPED_TRACE(fmt::format("{} round {}", to_string(kind), round));
      const Bytes patch = make_patch(kind, source, target);
      EXPECT_EQ(read_patch(patch, "p").kind, kind);
      ASSERT_EQ(apply_patch(patch, source, "p").bytes, target);
      if (kind == PatchKind::ips) continue;
      Bytes other = source;
      other[random.below(other.size())] ^= std::byte{1};
      if (other == target) continue;
      EXPECT_EQ(error_code([&] { apply_patch(patch, other, "p"); }), "wrong_source");
      if (kind == PatchKind::bps || source == target) continue;
      const Patched back = apply_patch(patch, target, "p");
      EXPECT_TRUE(back.turned_back);
      EXPECT_EQ(back.bytes, source);
    }
  }
}

TEST(Patches, AFlippedBitIsFoundWhereverItIs) {
  Random random(52);
  const auto [source, target] = related(random);
  for (const PatchKind kind : {PatchKind::ups, PatchKind::bps}) {
    const Bytes patch = make_patch(kind, source, target);
    for (std::size_t at = 0; at < patch.size(); at += 1 + patch.size() / 300) {
      Bytes damaged = patch;
      damaged[at] ^= std::byte{static_cast<unsigned char>(1u << at % 8)};
      EXPECT_NE(error_code([&] { apply_patch(damaged, source, "p"); }), "") << to_string(kind) << " at " << at;
    }
    for (std::size_t n = 0; n < patch.size(); n += 1 + patch.size() / 300)
      EXPECT_NE(error_code([&] { apply_patch(ByteView(patch).first(n), source, "p"); }), "") << n;
  }
  // IPS has no checksum: a cut one is found, a flipped one may not be.
  const Bytes ips = make_patch(PatchKind::ips, source, target);
  for (std::size_t n = 0; n + 3 < ips.size(); ++n)
    EXPECT_NE(error_code([&] { read_patch(ByteView(ips).first(n), "p"); }), "") << n;
}

TEST(Patches, HostileNumbersAreRefused) {
  Random random(53);
  for (int round = 0; round < 3000; ++round) {
    Bytes patch = to_bytes(round % 3 == 0 ? "PATCH" : round % 3 == 1 ? "UPS1" : "BPS1");
    const Bytes noise = random.bytes(random.below(80));
    patch.insert(patch.end(), noise.begin(), noise.end());
    try {
      EXPECT_LE(apply_patch(patch, Bytes(100), "p").bytes.size(), kMostPatchedBytes);
    } catch (const Error& e) {
      EXPECT_EQ(e.details.fault, Fault::refused) << e.what();
    }
  }
}

TEST(Replacements, KeepTheLengthAndSayWhere) {
  const Replacement r = parse_replacement("CD2=CD3", false);
  EXPECT_EQ(find_all(as_view("CD2 .. CD2CD2"), r), (std::vector<std::uint64_t>{0, 7, 10}));
  EXPECT_EQ(parse_replacement("41 42=4344", true).with, to_bytes("CD"));
  for (const char* bad : {"CD2", "=A", "AB=A", "A="})
    EXPECT_EQ(error_code([&] { parse_replacement(bad, false); }), "usage") << bad;
  for (const char* bad : {"4=5", "4G=41", "41"})
    EXPECT_EQ(error_code([&] { parse_replacement(bad, true); }), "usage") << bad;
  EXPECT_EQ(find_all(as_view("aaaa"), parse_replacement("aa=bb", false)).size(), 2u) << "never one within another";
}

}  // namespace
}  // namespace opifex
