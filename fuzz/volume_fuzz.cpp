// The file systems: directories and the first bytes of every file.
#include "opifex/core/io/output.hpp"
#include "opifex/core/volumes/disc_use.hpp"
#include "opifex/core/volumes/iso9660/volume.hpp"
#include "opifex/core/volumes/opera/volume.hpp"
#include "opifex/core/volumes/udf/volume.hpp"
#include "opifex/core/volumes/xdvdfs/volume.hpp"

#include "fuzz.hpp"

using namespace opifex;

namespace {

void look_into(const std::optional<Volume>& volume) {
  if (!volume) return;
  constexpr std::uint64_t kLook = 4096;
  for (const VolumeEntry& e : volume->entries) {
    if (e.kind != EntryKind::file) continue;
    fuzz::tolerate([&] {
      const SourcePtr file = volume->open(e);
      Bytes head(static_cast<std::size_t>(std::min(kLook, file->size())));
      file->read_at(0, head);
      if (file->size() > kLook) file->read_at(file->size() - kLook, head);
    });
  }
}

/// As a partition without encryption, and as a disc whose key is never right.
void look_into_wii(const SourcePtr& disc) {
  if (const auto console = read_console_volume(disc, {2, disc->size()})) {
    look_into(console->volume);
    use_of_gamecube(*console);
  }
  static const KeyRingPtr keys = [] {
    const auto file = std::filesystem::temp_directory_path() / "opifex-fuzz-keys.toml";
    write_whole_file(file, "[common-keys]\nwii = \"00000000000000000000000000000000\"\n", Existing::replace);
    auto ring = KeyRing::read(file);
    std::filesystem::remove(file);
    return ring;
  }();
  const auto wii = read_wii_disc(disc, keys.get());
  if (!wii) return;
  fuzz::tolerate([&] { read_wii_volume(disc, *wii); });
  fuzz::tolerate([&] { use_of_wii(disc, *wii); });
  looks_scrubbed(*disc, *wii);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const SourcePtr disc = memory_source(fuzz::bytes_of(data, size), "fuzz.iso");
  fuzz::tolerate([&] { look_into(read_iso9660(disc, 0)); });
  fuzz::tolerate([&] { look_into(read_iso9660(disc, 0, IsoTree::primary)); });
  look_into(read_udf(disc));
  look_into(read_opera(disc));
  look_into(read_gamecube(disc));
  look_into_wii(disc);
  look_into(read_xdvdfs(disc));
  return 0;
}
