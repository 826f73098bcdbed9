#include <array>
#include <fstream>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/io/output.hpp"
#include "opifex/core/lists/write_list.hpp"
#include "opifex/demo/wii_disc.hpp"
#include "opifex/demo/workshop.hpp"

#include "cartridge.hpp"
#include "small_media.hpp"

namespace opifex::demo {
namespace {

namespace fs = std::filesystem;

/// Damages what a scratch would: a few bytes of one sector.
void scratch(const fs::path& file) {
  constexpr std::streamoff kSector = 40, kInside = 600, kBytes = 24;
  std::fstream f(file, std::ios::in | std::ios::out | std::ios::binary);
  f.seekp(kSector * 2352 + kInside);
  f << std::string(kBytes, '\x2A');
  if (!f)
    throw Error({.fault = Fault::device,
                 .code = "write_failed",
                 .what = "cannot damage the demo's copy",
                 .file = file.string()});
}

void make_scratched_copy(const fs::path& folder) {
  const fs::path copies = folder / "scratched", name = "Kestrel Circuit (Disc 1)";
  fs::create_directories(copies);
  for (const char* extension : {".cue", ".bin"})
    fs::copy_file((folder / name).concat(extension), (copies / name).concat(extension),
                  fs::copy_options::overwrite_existing);
  scratch((copies / name).concat(".bin"));
}

/// A game on a Wii disc of one layer, most of it a hole, beside the update that such discs carry.
void make_wii_disc(const fs::path& folder, Existing existing) {
  constexpr std::uint64_t kGameAt = 0xF80'0000, kSingleLayer = 4'699'979'776;
  WiiRecipe recipe;
  recipe.partitions.push_back(
      {.type = 1, .offset = 0x50000, .clusters = 1, .title = "Tidewater Courier update", .files = {}});
  recipe.partitions.push_back({.type = 0,
                               .offset = kGameAt,
                               .clusters = 130,
                               .title = recipe.title,
                               .files = {{"coast.bin", 0x8000, 900'000},
                                         {"letters/harbor.txt", 0x10'0000, 4'000},
                                         {"letters/quarry.txt", 0x10'1000, 3'000},
                                         {"music/crossing.bin", 0x20'0000, 1'500'000}}});
  recipe.disc_bytes = kSingleLayer;
  write_wii_disc(recipe, folder / "Tidewater Courier.iso", existing);
  write_whole_file(folder / "keys.toml", demo_key_file(), existing);
}

/// Two copies of Moth & Lantern in drives that do not exist.
void describe_drives(const fs::path& folder, Existing existing) {
  const auto drive = [&](const char* name, const char* defects) {
    write_whole_file(folder / name, std::string("seed = 7\n[disc]\nimage = \"Moth & Lantern.cue\"\n") + defects,
                     existing);
  };
  drive("scratched.toml",
        "# A ring that cannot be read, music that reads differently each time, and sectors that only need patience.\n"
        "[[defects]]\nkind = \"unreadable\"\nlba = [120, 139]\n"
        "[[defects]]\nkind = \"c2\"\nlba = [980, 989]\nbytes = 60\n"
        "[[defects]]\nkind = \"weak\"\nlba = [200, 215]\np = 0.3\n");
  drive("worn.toml",
        "[[defects]]\nkind = \"unreadable\"\nlba = [40, 59]\n[[defects]]\nkind = \"unreadable\"\nlba = [700, 712]\n");
}

std::string tune_bytes(std::size_t size, std::uint32_t seed) {
  std::string bytes(size, '\0');
  for (char& c : bytes) {
    seed = seed * 1664525 + 1013904223;
    c = static_cast<char>(seed >> 24);
  }
  return bytes;
}

/// Nine Bells Harbor: what goes onto its floppy, and a copy of it that a worn drive wrote wrong.
void make_floppy(const fs::path& folder, Existing existing) {
  write_whole_file(folder / "harbor/readme", "Nine Bells Harbor\nPalisade Row, for the Lantern Street Arcade Museum\n",
                   existing);
  write_whole_file(folder / "harbor/Ships/lantern boat", tune_bytes(21'000, 9), existing);
  write_whole_file(folder / "harbor/Ships/tide barge", tune_bytes(33'500, 10), existing);
  write_whole_file(folder / "tunes/harbor.mod", tune_bytes(58'000, 11), existing);
  write_whole_file(folder / "tunes/fog horn.mod", tune_bytes(41'000, 12), existing);
  write_whole_file(folder / "worn/Nine Bells Harbor.adf", as_text(worn_floppy()), existing);
}

/// Three saves, as three games of the museum wrote them.
void make_card(const fs::path& folder, Existing existing) {
  write_whole_file(folder / "Lantern Street.mcr", as_text(card_of_three_saves()), existing);
}

std::string text_of(const fs::path& path) {
  const SourcePtr file = open_file(path);
  return std::string(as_text(read_up_to(*file, 0, static_cast<std::size_t>(file->size()))));
}

constexpr std::array kMothFiles = {"Moth & Lantern.cue", "Moth & Lantern (Track 1).bin", "Moth & Lantern (Track 2).bin",
                                   "Moth & Lantern (Track 3).bin", "Moth & Lantern (Track 4).bin"};

/// What the collectors of other towns have of the same publisher.
void make_list(const fs::path& folder, Existing existing) {
  MadeSet set{.name = "Moth & Lantern (Europe)"};
  for (const char* name : kMothFiles) {
    std::string listed = name;
    listed.insert(std::string_view("Moth & Lantern").size(), " (Europe)");
    std::string text = text_of(folder / name);
    // Their sheet names their files.
    if (listed.ends_with(".cue"))
      for (std::size_t at = 0; (at = text.find("Lantern (T", at)) != text.npos; at += 20)
        text.insert(at + 7, " (Europe)");
    MadeEntry entry{.name = listed, .size_bytes = text.size()};
    for (const char* hash : {"crc32", "md5", "sha1"}) entry.hashes.push_back({hash, digest_of(hash, as_view(text))});
    set.entries.push_back(std::move(entry));
  }
  write_whole_file(folder / "palisade.dat", list_text("Palisade Row - Discs", {std::move(set)}), existing);
}

/// The same disc out of a drive that gives music twelve samples late; and under the names of a hurried afternoon.
void make_odd_copies(const fs::path& folder, Existing existing) {
  constexpr std::size_t kLate = 12 * 4;
  std::string music;
  for (std::size_t track = 2; track <= 4; ++track) music += text_of(folder / kMothFiles[track]);
  music = std::string(kLate, '\0') + music.substr(0, music.size() - kLate);
  std::size_t at = 0;
  std::string sheet = text_of(folder / kMothFiles[0]);
  write_whole_file(folder / "late" / kMothFiles[0], sheet, existing);
  for (std::size_t track = 1; track <= 4; ++track) {
    const std::string bytes = text_of(folder / kMothFiles[track]), odd = fmt::format("dump7_{}.bin", track);
    write_whole_file(folder / "unsorted" / odd, bytes, existing);
    write_whole_file(folder / "late" / kMothFiles[track], track == 1 ? bytes : music.substr(at, bytes.size()),
                     existing);
    at += track == 1 ? 0 : bytes.size();
    sheet.replace(sheet.find(kMothFiles[track]), std::string_view(kMothFiles[track]).size(), odd);
  }
  write_whole_file(folder / "unsorted/dump7.cue", sheet, existing);
  write_whole_file(folder / "unsorted/dump7.txt", "bought at the flea market, one owner\n", existing);
}

}  // namespace

void build_museum(const fs::path& folder, Existing existing) {
  build_workshop(folder, existing);
  make_scratched_copy(folder);
  make_wii_disc(folder, existing);
  describe_drives(folder, existing);
  make_cartridge(folder, existing);
  make_floppy(folder, existing);
  make_card(folder, existing);
  make_list(folder, existing);
  make_odd_copies(folder, existing);
}

}  // namespace opifex::demo
