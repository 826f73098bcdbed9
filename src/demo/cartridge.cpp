// Quarry Lights, a cartridge that does not exist, in a reader that does not either.
#include "cartridge.hpp"

#include <algorithm>

#include "opifex/core/formats/rom/rom.hpp"

namespace opifex::demo {
namespace {

namespace fs = std::filesystem;

/// Bytes that follow from a seed alone.
class Stream {
 public:
  explicit Stream(std::uint64_t seed) : state_(seed) {}
  std::byte next() {
    state_ = state_ * 6364136223846793005u + 1442695040888963407u;
    return static_cast<std::byte>(state_ >> 56);
  }

 private:
  std::uint64_t state_;
};

Bytes some_bytes(std::size_t n, std::uint64_t seed) {
  Stream stream(seed);
  Bytes bytes(n);
  for (std::byte& b : bytes) b = stream.next();
  return bytes;
}

/// 64 KiB, MBC1 with RAM and a battery; the logo is left out, so that no console would start it.
Bytes quarry_rom() {
  constexpr std::size_t kBytes = 64 << 10, kHeader = 0x100, kTitle = 0x134, kType = 0x147, kRomSize = 0x148,
                        kRamSize = 0x149, kRegion = 0x14A, kHeaderEnd = 0x150;
  Bytes rom = some_bytes(kBytes, 41);
  std::fill(rom.begin() + kHeader, rom.begin() + kHeaderEnd, std::byte{0});
  Fields fields(rom);
  fields.bytes(kTitle, as_view("QUARRY LIGHTS"));
  fields.byte(kType, 0x03);
  fields.byte(kRomSize, 1);
  fields.byte(kRamSize, 2);
  fields.byte(kRegion, 1);
  return *rom::with_right_checksums(*rom::find_machine("gb"), rom);
}

/// Three places in which somebody has played.
Bytes quarry_save(std::string_view player) {
  constexpr std::size_t kBytes = 8192, kPlace = 0x400, kPlayed = 96;
  Bytes save(kBytes, std::byte{0xFF});
  for (std::size_t i = 0; i < 3; ++i) {
    const Bytes played = some_bytes(kPlayed, 50 + i);
    std::copy(played.begin(), played.end(), save.begin() + static_cast<std::ptrdiff_t>(i * kPlace));
    Fields(save).bytes(i * kPlace, as_view("LANTERN "));
    Fields(save).bytes(i * kPlace + 8, as_view(player));
  }
  return save;
}

}  // namespace

void make_cartridge(const fs::path& folder, Existing existing) {
  const fs::path reader = folder / "reader";
  const auto put = [&](const char* name, std::string_view text) { write_whole_file(reader / name, text, existing); };
  put("quarry.gb", as_text(quarry_rom()));
  put("quarry.sav", as_text(quarry_save("MARA   ")));
  put("finished.sav", as_text(quarry_save("ILSE   ")));
  constexpr std::string_view kInside = "[cartridge]\nrom = \"quarry.gb\"\nsave = \"quarry.sav\"\n";
  put("dirty.toml",
      std::string("# Years in a drawer: no contact at all.\nfaults = [\"no-contact\"]\n") + std::string(kInside));
  put("wiped.toml",
      std::string("# Wiped with a sleeve: one data line still flickers.\nseed = 4\nfaults = [\"dirty:5=0.00005\"]\n") +
          std::string(kInside));
  put("clean.toml", std::string("# Cleaned with isopropyl alcohol.\n") + std::string(kInside));
}

}  // namespace opifex::demo
