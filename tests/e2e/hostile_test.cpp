// What was made to harm: tables that multiply a few bytes, and text that would steer a terminal, a page or a script.
#include <functional>

#include "opifex/core/base/crc16.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/chd/chd.hpp"

#include "../../src/core/formats/chd/map_writer.hpp"
#include "program.hpp"

namespace opifex::testkit {
namespace {

#if defined(__SANITIZE_ADDRESS__)
constexpr bool kSanitized = true;  // its shadow needs more than any limit allows
#else
constexpr bool kSanitized = false;
#endif

class Hostile : public Program {
 protected:
  /// The program with as much memory as an input of this size may cost: 64 MiB and 8 bytes for each of its own, beside
  /// what it takes for nothing (a stack for each thread, libraries).
  Outcome within_limits(const std::string& input, const std::string& words) {
    constexpr std::uint64_t kForNothing = 48 << 20, kFixed = 64 << 20, kForAByte = 8;
    const std::uint64_t most = kForNothing + kFixed + kForAByte * fs::file_size(*this / input);
    const std::string limit = kSanitized ? "" : "ulimit -d " + std::to_string(most / 1024) + " && ";
    return run_program("/bin/sh", {"-c", limit + "exec \"$0\" " + words, OPIFEX_PROGRAM}, folder.path());
  }
  void expect_no_harm(const std::string& input) {
    for (const char* command :
         {"identify", "files", "files --json", "check --hashes none", "extract --into x --plan"}) {
      const Outcome run = within_limits(input, std::string(command) + " " + input);
      EXPECT_TRUE(run.exit_code >= 0 && run.exit_code <= 4) << command << " " << input << ": " << run.exit_code;
      EXPECT_FALSE(contains(run.err, "internal fault") || contains(run.err, "memory")) << command << run.err;
    }
  }
};

void put(std::string& image, std::size_t at, std::uint64_t value, int bytes) {
  for (int i = 0; i < bytes; ++i) image[at + static_cast<std::size_t>(i)] = static_cast<char>(value >> (8 * i) & 255);
}

/// A CHD of a few hundred KiB at most that claims 2^26 hunks of 4 KiB, each told by `kind_of`.
std::string claims_many_hunks(std::uint32_t count, const std::function<chd::Hunk(std::uint32_t)>& hunk_of) {
  constexpr std::uint32_t kHunk = 4096, kHead = 124;
  chd::HunkMap hunks;
  hunks.push_back({chd::HunkKind::stored, true, kHunk, crc16(Bytes(kHunk), chd::kCrcStart), kHead});
  for (std::uint32_t n = 1; n < count; ++n) hunks.push_back(hunk_of(n));
  Bytes head = to_bytes("MComprHD");
  chd::put_be(head, kHead, 4);
  chd::put_be(head, 5, 4);
  for (const char* codec : {"zlib", "", "", ""}) {
    const Bytes name = to_bytes(codec);
    head.insert(head.end(), name.begin(), name.end());
    head.resize((head.size() + 3) / 4 * 4);
  }
  head.resize(32);
  chd::put_be(head, std::uint64_t{count} * kHunk, 8);
  chd::put_be(head, kHead + kHunk, 8);
  chd::put_be(head, 0, 8);
  chd::put_be(head, kHunk, 4);
  chd::put_be(head, kHunk, 4);
  head.resize(kHead + kHunk);
  const Bytes map = chd::make_map(hunks, kHead, 1);
  head.insert(head.end(), map.begin(), map.end());
  return std::string(as_text(head));
}

TEST_F(Hostile, AMapThatClaimsMillionsOfHunks) {
  constexpr std::uint32_t kMost = kSanitized ? 1 << 22 : 1 << 26;
  write_file(*this / "copies.chd", claims_many_hunks(kMost, [](std::uint32_t) {
    return chd::Hunk{chd::HunkKind::same, false, 0, 0, 0};
  }));
  ASSERT_LT(fs::file_size(*this / "copies.chd"), 1u << 20);
  const Outcome run = within_limits("copies.chd", "identify copies.chd --json");
  EXPECT_EQ(run.exit_code, 0) << run.err;
  EXPECT_TRUE(contains(run.out, std::to_string(std::uint64_t{kMost} * 4096))) << run.out;
  // Runs cannot help where every hunk leads elsewhere: a bit each, a hundred times more in memory.
  constexpr std::uint32_t kJumping = 1 << 22;
  write_file(*this / "jumping.chd", claims_many_hunks(kJumping, [](std::uint32_t n) {
    return chd::Hunk{chd::HunkKind::same, false, 0, 0, n % 3 == 0 ? 1u : 0u};
  }));
  for (const char* command : {"identify jumping.chd", "files jumping.chd"}) {
    const Outcome jumping = within_limits("jumping.chd", command);
    EXPECT_EQ(jumping.exit_code, 3) << jumping.out;
    EXPECT_TRUE(contains(jumping.err, "than a file of this size can hold")) << jumping.err;
  }
}

/// The table of one folder: a chain of entries to the right, each of a sector of the volume.
struct Named {
  std::string name;
  std::uint32_t sector;
  bool folder;
};
void put_table(std::string& image, std::uint32_t sector, const std::vector<Named>& entries) {
  std::size_t at = std::size_t{sector} * 2048;
  const std::size_t start = at;
  for (std::size_t i = 0; i < entries.size(); ++i) {
    const std::size_t size = (14 + entries[i].name.size() + 3) / 4 * 4;
    put(image, at, 0, 2);
    put(image, at + 2, i + 1 < entries.size() ? (at + size - start) / 4 : 0, 2);
    put(image, at + 4, entries[i].sector, 4);
    put(image, at + 8, 2048, 4);
    image[at + 12] = entries[i].folder ? '\x10' : '\0';
    image[at + 13] = static_cast<char>(entries[i].name.size());
    image.replace(at + 14, entries[i].name.size(), entries[i].name);
    at += size;
  }
}

/// 62 folders in each other with names of 255 letters, and ten thousand files in the last ones: each path has 16 KiB.
std::string deep_and_wide() {
  constexpr std::uint32_t kRoot = 33, kDeep = 62, kWide = 80;
  std::string image((kRoot + kDeep + kWide + 2) * 2048, '\0');
  const std::string mark = "MICROSOFT*XBOX*MEDIA";
  image.replace(32 * 2048, mark.size(), mark);
  image.replace(32 * 2048 + 0x7EC, mark.size(), mark);
  put(image, 32 * 2048 + 0x14, kRoot, 4);
  put(image, 32 * 2048 + 0x18, 2048, 4);
  for (std::uint32_t s = kRoot; s < kRoot + kDeep; ++s) put_table(image, s, {{std::string(255, 'A'), s + 1, true}});
  std::vector<Named> folders, files;
  for (std::uint32_t i = 0; i < kWide; ++i) folders.push_back({fmt::format("B{:03}", i), kRoot + kDeep + 1 + i, true});
  put_table(image, kRoot + kDeep, folders);
  for (std::uint32_t i = 0; i < 100; ++i) files.push_back({fmt::format("F{:03}", i), kRoot, false});
  for (std::uint32_t i = 0; i < kWide; ++i) put_table(image, kRoot + kDeep + 1 + i, files);
  return image;
}

TEST_F(Hostile, PathsThatGrowWithEveryFolder) {
  write_file(*this / "deep.iso", deep_and_wide());
  expect_no_harm("deep.iso");
  EXPECT_TRUE(contains(cli({"files", "deep.iso"}).err, "list more than an image of this size can hold"));
}

TEST_F(Hostile, EveryVectorCutAndBlownUpStaysWithinItsMemory) {
  // Counts and sizes near the start of a table become the greatest there are.
  Random random(11);
  for (const char* name : {"iso/joliet.iso", "iso/rockridge.iso", "iso/3do.iso", "wii/gc-moth.iso", "wii/wii-tiny.iso",
                           "xbox/tiny.iso", "xbox/stfs/ARCADE", "chd/cd-mixed.chd", "iso/archive.zip"}) {
    const std::string bytes = read_file(vector_path(name));
    for (int i = 0; i < 6; ++i) {
      std::string mutated = bytes;
      for (int k = 0; k < 4; ++k) {
        const std::size_t at = random.below(std::min<std::size_t>(mutated.size(), 100'000) - 4);
        put(mutated, at, 0x7FFF'FFFF, 4);
      }
      write_file(*this / "m.img", mutated);
      expect_no_harm("m.img");
    }
  }
}

/// What a terminal would obey or a reader would be misled by; an own list, not the program's.
std::string steering(const std::string& text) {
  for (std::size_t i = 0; i < text.size();) {
    const auto c = static_cast<unsigned char>(text[i]);
    if ((c < 0x20 && c != '\n') || c == 0x7F) return fmt::format("byte {:#04x} at {}", c, i);
    if (c < 0x80) {
      ++i;
      continue;
    }
    const std::size_t length = c >= 0xF0 ? 4 : c >= 0xE0 ? 3 : c >= 0xC2 ? 2 : 0;
    if (length == 0 || i + length > text.size()) return fmt::format("no UTF-8 at {}", i);
    std::uint32_t point = c & (0xFFu >> (length + 1));
    for (std::size_t k = 1; k < length; ++k) {
      const auto next = static_cast<unsigned char>(text[i + k]);
      if ((next & 0xC0) != 0x80) return fmt::format("no UTF-8 at {}", i);
      point = point << 6 | (next & 0x3F);
    }
    const bool marks = (point >= 0x202A && point <= 0x202E) || (point >= 0x2066 && point <= 0x2069) ||
                       point == 0x200E || point == 0x200F || point == 0x061C;
    if (point < 0xA0 || marks || point == 0x2028 || point == 0x2029) return fmt::format("U+{:04X} at {}", point, i);
    i += length;
  }
  return "";
}

/// Runs of text in a file: where its fields are, whatever its format.
std::vector<std::pair<std::size_t, std::size_t>> text_fields(const std::string& bytes) {
  std::vector<std::pair<std::size_t, std::size_t>> fields;
  for (std::size_t i = 0; i < bytes.size();) {
    std::size_t n = 0;
    while (i + n < bytes.size() && bytes[i + n] >= 0x21 && bytes[i + n] < 0x7F) ++n;
    if (n >= 4) fields.emplace_back(i, n);
    i += n + 1;
  }
  return fields;
}

class HostileText : public Hostile, public testing::WithParamInterface<const char*> {
 protected:
  void expect_harmless(const std::vector<std::string>& words) {
    const Outcome run = cli(words);
    EXPECT_TRUE(run.exit_code >= 0 && run.exit_code <= 4) << words[0] << ": " << run.exit_code << run.err;
    EXPECT_EQ(steering(run.out), "") << words[0] << "\n" << printable_lines(run.out);
    EXPECT_EQ(steering(run.err), "") << words[0] << "\n" << printable_lines(run.err);
    if (words.back() == "--json" && run.exit_code <= 1) {
      EXPECT_NO_THROW(static_cast<void>(run.json()));
    }
  }
};

TEST_P(HostileText, InAnyFieldIsShownNotObeyed) {
  const fs::path source = vector_path(GetParam());
  ASSERT_TRUE(fs::exists(source)) << source;
  std::string name = source.filename().string(), whole = read_file(source);
  if (source.extension() == ".gz") {
    name = source.stem().string();
    whole = gunzip(source);
  }
  const bool is_list = name.ends_with(".cue") || name.ends_with(".gdi");
  for (const auto& beside : fs::directory_iterator(source.parent_path()))
    if (is_list && beside.path() != source && beside.is_regular_file())
      fs::copy_file(beside.path(), *this / beside.path().filename().string());
  const auto fields = text_fields(whole);
  ASSERT_FALSE(fields.empty());
  const std::vector<std::string> harms = {"\x1b[2J",
                                          "\x1b]0;x\x07",
                                          "\xC2\x9B"
                                          "2J",
                                          "\xE2\x80\xAE"
                                          "x",
                                          "\x7F\x08\r",
                                          "\xFF\xFE",
                                          "\xE2\x81\xA6"
                                          "x",
                                          "`x`$(x)",
                                          "'\"<b>"};
  Random random(5);
  constexpr std::size_t kTries = kSanitized ? 6 : 12;
  for (std::size_t i = 0; i < kTries; ++i) {
    // The first fields are headers and labels: each of them; others by chance.
    const auto& [at, size] = fields[i < kTries / 2 && i < fields.size() ? i : random.below(fields.size())];
    const std::string& harm = harms[random.below(harms.size())];
    std::string hostile = whole;
    for (std::size_t k = 0; k + harm.size() <= size; k += harm.size()) hostile.replace(at + k, harm.size(), harm);
    if (size < harm.size()) hostile.replace(at, size, harm.substr(0, size));
    write_file(*this / name, hostile);
    SCOPED_TRACE(fmt::format("{} at {}: {}", name, at, printable(harm)));
    expect_harmless({"identify", name});
    expect_harmless({"identify", name, "--json"});
    expect_harmless({"files", name});
    expect_harmless({"check", name, "--hashes", "none", "--json"});
    expect_harmless({"convert", name, "--to", "cue", "--out", "made/", "--plan"});
    if (HasFailure()) return;
  }
}

INSTANTIATE_TEST_SUITE_P(Fields, HostileText,
                         testing::Values("iso/joliet.iso", "iso/rockridge.iso", "iso/3do.iso", "iso/saturn.iso",
                                         "iso/megacd.bin", "iso/ps1.iso", "iso/psp.iso", "iso/psp.sfo", "iso/ps3.pkg",
                                         "iso/udf-1.02.iso.gz", "iso/archive.zip", "iso/archive.tar",
                                         "iso/archive-rar5.rar", "iso/dreamcast/disc.gdi", "chd/cd-mixed.cue",
                                         "chd/cd-mixed.chd", "chd/hd.chd", "wii/gc-moth.iso", "wii/wii-tiny.iso",
                                         "xbox/tiny.iso", "xbox/stfs/ARCADE", "xbox/god-original/ORIGINAL",
                                         "cd/disc4/moth.vcd.gz"),
                         [](const auto& one) {
                           std::string name = one.param;
                           for (char& c : name)
                             if (std::isalnum(static_cast<unsigned char>(c)) == 0) c = '_';
                           return name;
                         });

}  // namespace
}  // namespace opifex::testkit
