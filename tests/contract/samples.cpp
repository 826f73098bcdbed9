#include "samples.hpp"

#include <algorithm>

#include "opifex/core/convert/plan.hpp"
#include "opifex/demo/wii_disc.hpp"
#include "opifex/demo/workshop.hpp"

namespace opifex::testkit {
namespace {

/// Some blocks of a Wii disc with empty ones between them.
Image wii_blocks(const TempFolder& folder) {
  Bytes disc(9 << 20);
  Random random(3);
  for (const std::size_t at : {std::size_t{0}, std::size_t{5} << 20, (std::size_t{9} << 20) - 5000}) {
    const Bytes some = random.bytes(5000);
    std::copy(some.begin(), some.end(), disc.begin() + static_cast<std::ptrdiff_t>(at));
  }
  const std::string_view id = "ZG1EPR";
  std::copy(as_view(id).begin(), as_view(id).end(), disc.begin());
  constexpr std::array<int, 4> kMagic = {0x5D, 0x1C, 0x9E, 0xA3};
  std::transform(kMagic.begin(), kMagic.end(), disc.begin() + 0x18, [](int b) { return static_cast<std::byte>(b); });
  write_file(folder / "source/game.iso", as_text(disc));
  return open_image(folder / "source/game.iso");
}

/// Of formats that are only read.
const std::map<std::string_view, std::string> kReadOnly = {
    {"gdi", "iso/dreamcast"}, {"stfs", "xbox/stfs"}, {"ps1-bare", "memcard/brass.bare.gz"}};
/// Of formats that hold small volumes: each is written from one of its own.
const std::map<std::string_view, std::string> kSmall = {{"adf", "floppycart/tree-ofs.adf.gz"},
                                                        {"ps1-card", "memcard/four.card.gz"},
                                                        {"ps1-single", "memcard/moth.single.gz"},
                                                        {"3do-nvram", "memcard/six.nvram.gz"}};
const std::map<std::string_view, std::string> kVolumes = {{"iso9660", "iso/joliet.iso"},
                                                          {"udf", "iso/udf-2.50.iso.gz"},
                                                          {"opera", "iso/3do.iso"},
                                                          {"gamecube", "wii/gc-moth.iso"},
                                                          {"xdvdfs", "xbox/orchard.iso"},
                                                          {"stfs", "xbox/stfs"},
                                                          {"amiga", "floppycart/tree-ffs.adf.gz"},
                                                          {"ps1-saves", "memcard/four.card.gz"},
                                                          {"3do-saves", "memcard/six.nvram.gz"}};

/// A vector in the test's folder: a file, unpacked, or the leading file of a folder.
fs::path fetched(const std::string& vector, const TempFolder& folder) {
  const fs::path from = vector_path(vector);
  if (fs::is_directory(from)) {
    copy_folder(from, folder / "sample");
    std::vector<fs::path> files;
    for (const auto& entry : fs::directory_iterator(folder / "sample"))
      if (entry.is_regular_file() && (entry.path().extension() == ".gdi" || !entry.path().has_extension()))
        files.push_back(entry.path());
    std::sort(files.begin(), files.end());
    return files.at(0);
  }
  const fs::path to = folder / ("sample/" + (from.extension() == ".gz" ? from.stem() : from.filename()).string());
  write_file(to, from.extension() == ".gz" ? gunzip(from) : read_file(from));
  return to;
}

}  // namespace

Image richest_source(const Format& format, const TempFolder& folder) {
  if (format.holds.game_partition) {
    write_file(folder / "source/game.iso", read_file(vector_path("xbox/modern.iso")));
    return open_image(folder / "source/game.iso");
  }
  if (format.holds.whole_discs) return wii_blocks(folder);
  if (format.holds.roms) {
    write_file(folder / "source/game.gb", gunzip(vector_path("floppycart/moth.gb.gz")));
    return open_image(folder / "source/game.gb");
  }
  if (const auto small = kSmall.find(format.id); small != kSmall.end())
    return open_image(fetched(small->second, folder));
  demo::Recipe recipe{.stem = "game", .data_sectors = 60, .pregap_sectors = 12, .seed = 9};
  if (format.holds.form2) recipe.streamed_sectors = 6;
  if (format.holds.audio && format.holds.track_list) recipe.audio_sectors = {25, 40};
  return open_image(demo::write_disc(recipe, folder / "source", demo::Files::one_bin, Existing::replace));
}

fs::path sample_of(const Format& format, const TempFolder& folder) {
  if (!format.plan_write) return fetched(kReadOnly.at(format.id), folder);
  const Image image = richest_source(format, folder);
  const fs::path to = folder / ("sample/game" + std::string(format.extensions.front()));
  QuietContext context;
  const Conversion conversion = plan_conversion(image, {&format, to}, context);
  const auto written = write_outputs(image, conversion.plan, {}, context);
  return fs::exists(to) ? to : written.back().path;  // some make folders of their own
}

KeyRingPtr keys_for_samples(const TempFolder& folder) {
  write_file(folder / "keys.toml", demo::demo_key_file());
  return KeyRing::read(folder / "keys.toml");
}

fs::path sample_of(const FileSystem& system, const TempFolder& folder) {
  if (system.id != "wii") return fetched(kVolumes.at(system.id), folder);
  demo::WiiRecipe recipe;
  recipe.partitions.push_back({.type = 0, .offset = 0x50000, .clusters = 8, .files = {{"coast.bin", 0x8000, 90'000}}});
  fs::create_directories(folder / "sample");
  demo::write_wii_disc(recipe, folder / "sample/game.iso");
  return folder / "sample/game.iso";
}

}  // namespace opifex::testkit
