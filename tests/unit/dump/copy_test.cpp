#include <gtest/gtest.h>

#include "opifex/core/dump/folder_copy.hpp"
#include "opifex/core/dump/naming.hpp"
#include "opifex/core/platforms/ps3_disc.hpp"

#include "testkit.hpp"

namespace opifex::dump {
namespace {

using testkit::TempFolder;

/// A file with a scratch: some of its bytes cannot be read.
class Scratched final : public ByteSource {
 public:
  Scratched(SourcePtr file, std::uint64_t from, std::uint64_t to) : file_(std::move(file)), from_(from), to_(to) {}
  std::uint64_t size() const override { return file_->size(); }
  std::string name() const override { return file_->name(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (offset < to_ && offset + out.size() > from_)
      throw Error({.fault = Fault::device,
                   .code = "read_failed",
                   .cause = Cause::unreadable,
                   .what = "scratch",
                   .file = name()});
    file_->read_at(offset, out);
  }

 private:
  SourcePtr file_;
  std::uint64_t from_, to_;
};

TEST(CopyFolder, UnreadableBytesAreNamedAndFilled) {
  TempFolder folder;
  std::filesystem::create_directories(folder / "disc");
  const std::string content(testkit::Random(1).bytes(20'000).size(), 'x');
  testkit::write_file(folder / "disc/GAME.DAT", content);
  testkit::QuietContext context;
  const FolderCopy copy = copy_folder(folder / "disc", folder / "out", Existing::keep, context, [](const auto& path) {
    return std::make_shared<Scratched>(open_file(path), 5000, 5100);
  });
  ASSERT_EQ(copy.files.size(), 1u);
  EXPECT_FALSE(copy.complete());
  ASSERT_EQ(copy.files[0].unreadable.size(), 1u);
  EXPECT_EQ(copy.files[0].unreadable[0].first, 4096u) << "the block of 2048 bytes that holds the scratch";
  EXPECT_EQ(copy.files[0].unreadable[0].size_bytes, 2048u);
  const std::string written = testkit::read_file(folder / "out/GAME.DAT");
  EXPECT_EQ(written.substr(0, 4096), content.substr(0, 4096));
  EXPECT_EQ(written.substr(4096, 2048), std::string(2048, '\x55'));
  EXPECT_EQ(written.substr(6144), content.substr(6144));
}

TEST(DumpName, ComesFromTheDiscAndKeepsSetsTogether) {
  const auto name = [](const char* title, const char* serial = "") {
    Medium medium;
    medium.identity.title = title;
    medium.identity.serial = serial;
    medium.fingerprint = "0123456789abcdef";
    return name_of(medium);
  };
  EXPECT_EQ(name("MOTH_LANTERN").stem, "MOTH_LANTERN");
  EXPECT_EQ(name("KESTREL_CIRCUIT_2").stem, "KESTREL_CIRCUIT (Disc 2)");
  EXPECT_EQ(name("KESTREL_CIRCUIT_2").set, "KESTREL_CIRCUIT");
  EXPECT_EQ(name("Kestrel Disc1").stem, "Kestrel (Disc 1)");
  EXPECT_EQ(name("", "PRXS-00101").stem, "PRXS-00101");
  EXPECT_EQ(name("").stem, "Disc 01234567");
  EXPECT_EQ(name("../a/b:c").stem, "_.._a_b_c") << "no name leaves its folder";
}

TEST(Ps3Disc, RefusesMapsThatContradictThemselves) {
  const auto disc = [](std::vector<std::uint32_t> numbers) {
    Bytes b(4096);
    for (std::size_t i = 0; i < numbers.size(); ++i)
      for (std::size_t k = 0; k < 4; ++k) b[i * 4 + k] = static_cast<std::byte>(numbers[i] >> (24 - 8 * k) & 255);
    const std::string_view mark("PlayStation3\0\0\0\0PRUS-00001      ", 32);
    std::copy_n(as_view(mark).begin(), mark.size(), b.begin() + 2048);
    return memory_source(std::move(b), "disc");
  };
  const auto good = read_ps3_disc(*disc({2, 0, 0, 10, 20, 30}));
  ASSERT_TRUE(good);
  EXPECT_EQ(good->title_id, "PRUS-00001");
  EXPECT_FALSE(good->is_encrypted(10));
  EXPECT_TRUE(good->is_encrypted(11));
  EXPECT_TRUE(good->is_encrypted(19));
  EXPECT_FALSE(good->is_encrypted(20));
  EXPECT_FALSE(read_ps3_disc(*disc({2, 0, 0, 10, 11, 30}))->has_encrypted()) << "regions that touch are allowed";
  for (const auto& bad : std::vector<std::vector<std::uint32_t>>{
           {0}, {256, 0, 0, 10}, {1, 0, 3, 10}, {1, 0, 0xFFFFFFFF, 1}, {2, 0, 0, 10, 10, 30}, {2, 0, 0, 10, 20, 15}})
    EXPECT_THROW(read_ps3_disc(*disc(bad)), Error);
  EXPECT_FALSE(read_ps3_disc(*memory_source(Bytes(4096), "no mark")));
  EXPECT_FALSE(read_ps3_disc(*memory_source(Bytes(100), "short")));
}

TEST(Ps3Disc, KeyFilesAreReadWithoutEverShowingTheirContents) {
  TempFolder folder;
  const auto find = [&](const std::string& text) {
    testkit::write_file(folder / "keys.toml", text);
    return !KeyRing::read(folder / "keys.toml")->disc_keys({"PRUS-00001"}).empty();
  };
  EXPECT_TRUE(find("[disc-keys]\n\"PRUS-00001\" = \"00112233445566778899AABBCCDDEEFF\"\n"));
  EXPECT_TRUE(find("[disc-keys]\n\"prus-00001\" = \"0x00:11:22:33 44556677 8899aabbccddeeff\"\n"));
  EXPECT_FALSE(find("[disc-keys]\n\"PRUS-00002\" = \"00112233445566778899AABBCCDDEEFF\"\n"));
  for (const char* bad :
       {"[disc-keys]\n\"PRUS-00001\" = \"5EC2E7\"\n", "[disc-keys]\n\"PRUS-00001\" = 5\n",
        "[disc-keys]\n\"PRUS-00001\" = \"5EC2E75EC2E75EC2E75EC2E75EC2E75EC2E7\"\n", "5EC2E7", "[other]\n"}) {
    try {
      find(bad);
      ADD_FAILURE() << bad;
    } catch (const Error& e) {
      EXPECT_EQ(e.details.code, "bad_key_file");
      EXPECT_EQ(std::string(e.what()).find("5EC2E7"), std::string::npos) << e.what();
    }
  }
}

}  // namespace
}  // namespace opifex::dump
