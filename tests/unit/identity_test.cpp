#include "opifex/core/platforms/identity.hpp"

#include <gtest/gtest.h>

#include "opifex/core/image/format.hpp"
#include "opifex/core/volumes/iso9660/descriptors.hpp"
#include "opifex/demo/workshop.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

TEST(Identity, SerialsOfBootPaths) {
  EXPECT_EQ(serial_of_boot_path("cdrom:\\PRXS_001.01;1"), "PRXS-00101");
  EXPECT_EQ(serial_of_boot_path("cdrom0:\\DIR\\prxs_123.45"), "PRXS-12345");
  EXPECT_EQ(serial_of_boot_path("PRXS-12345"), "PRXS-12345");
  EXPECT_EQ(serial_of_boot_path("PRXS12345"), "PRXS-12345");
  for (const char* other : {"MAIN.EXE", "PRX_001.01", "PRXS_00A.01", "PRXS_001", ""})
    EXPECT_EQ(serial_of_boot_path(other), "") << other;
}

TEST(Identity, ADemoDiscIsKnownByItsContents) {
  const TempFolder folder;
  const fs::path path = demo::write_disc({.stem = "any name", .volume = "MOTH_LANTERN", .data_sectors = 60},
                                         folder.path(), demo::Files::lone_bin);
  const Identity id = identify_platform(open_image(path));
  EXPECT_EQ(id.platform, "ps1");
  EXPECT_EQ(id.confidence, "certain");
  EXPECT_EQ(id.serial, "PRXS-00101");
  EXPECT_EQ(id.region, "North America");
  EXPECT_EQ(id.volume, "MOTH_LANTERN");
}

TEST(Identity, VectorsAreKnown) {
  const Identity id = identify_platform(open_image(vector_path("cd/disc4/Moth & Lantern.cue")));
  EXPECT_EQ(id.platform, "ps1");
  EXPECT_EQ(id.serial, "PRXS-00101");
  EXPECT_EQ(identify_platform(open_image(vector_path("cd/mode1/Kestrel Circuit.iso"))).volume, "KESTREL_CIRCUIT");
}

TEST(Identity, MusicDiscsAreAudioCds) {
  const Identity listed = identify_platform(open_image(vector_path("cd/cue/good/starts-at-track-5.cue")));
  EXPECT_EQ(listed.platform, "audio-cd");
  EXPECT_EQ(listed.confidence, "certain");
}

/// A PS2-like disc from the demo volume: the settings file's text is replaced in the user data.
TEST(Identity, ThePs2LineWinsOverThePs1Line) {
  const TempFolder folder;
  const fs::path path = demo::write_disc({.stem = "d", .data_sectors = 60}, folder.path(), demo::Files::lone_bin);
  const Image image = open_image(path);
  Bytes disc = read_up_to(*image.user_data(), 0, 60 * 2048);
  std::string text(as_text(disc));
  const std::size_t at = text.find("BOOT = cdrom:\\PRXS_001.01;1\r\n");
  ASSERT_NE(at, std::string::npos);
  text.replace(at, 60, "BOOT2 = cdrom0:\\PRXS_001.01;1\r\nVER = 1.02\r\nVMODE = PAL\r\n   ");
  write_file(folder / "d.iso", text);
  const Identity id = identify_platform(open_image(folder / "d.iso"));
  EXPECT_EQ(id.platform, "ps2");
  EXPECT_EQ(id.version, "1.02");
  EXPECT_EQ(id.confidence, "likely") << "its boot file is no executable of that platform";
}

TEST(Iso9660, BrokenDirectoriesEndTheSearchQuietly) {
  Bytes disc(30 * 2048);
  disc[16 * 2048] = std::byte{1};
  std::copy_n(as_view("CD001").begin(), 5, disc.begin() + 16 * 2048 + 1);
  const std::size_t root = 16 * 2048 + 156;
  store_le32(disc, root + 2, 20);
  store_le32(disc, root + 10, 0xFFFFFFFF);
  const auto find = [&] { return Iso9660::open(memory_source(disc, "d"))->find("SYSTEM.CNF"); };
  EXPECT_FALSE(find()) << "a folder of 4 GiB in a file of 60 KiB";
  disc[20 * 2048] = std::byte{255};  // a record that leaves its block
  EXPECT_FALSE(find());
  disc[20 * 2048] = std::byte{34};
  disc[20 * 2048 + 32] = std::byte{200};  // a name that leaves its record
  EXPECT_FALSE(find());
  store_le32(disc, root + 2, 0xFFFFFFF0);
  EXPECT_FALSE(find()) << "a folder behind the end";
}

}  // namespace
}  // namespace opifex
