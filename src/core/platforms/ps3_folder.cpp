// The folder of a PS3 game as an image again: plain, and never the pressed disc.
#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/platforms/non_images.hpp"
#include "opifex/core/platforms/ps3_disc.hpp"

#include "disc_view.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

/// TITLE_ID of PS3_DISC.SFB: records of 32 bytes from 20h, until an empty name.
std::string id_of_sfb(const fs::path& file) {
  constexpr std::size_t kMost = 64 << 10, kRecords = 0x20, kRecord = 32, kNameBytes = 16;
  std::error_code ignored;
  if (!fs::is_regular_file(file, ignored)) return {};
  const Bytes sfb = read_up_to(*open_file(file), 0, kMost);
  const auto text_at = [&](std::size_t at, std::size_t size) {
    const std::string_view text = as_text(ByteView(sfb).subspan(at, std::min(size, sfb.size() - at)));
    return std::string(trim(text.substr(0, text.find('\0'))));
  };
  for (std::size_t at = kRecords; at + kRecord <= sfb.size() && sfb[at] != std::byte{0}; at += kRecord) {
    const std::size_t offset = load_be32(sfb, at + 16), size = load_be32(sfb, at + 20);
    if (text_at(at, kNameBytes) == "TITLE_ID" && offset < sfb.size() && size <= kRecord) return text_at(offset, size);
  }
  return {};
}

/// Sectors 0 and 1: one plain region over everything, and the title id.
Bytes first_sectors(std::uint64_t sectors, const std::string& title_id) {
  constexpr std::size_t kSystemArea = 16 * 2048, kSector1 = 2048, kIdAt = 16, kIdBytes = 32;
  Bytes area(kSystemArea);
  const auto put = [&](std::size_t at, std::uint64_t value) {
    boost::endian::store_big_u32(raw_bytes_mut(std::span(area).subspan(at, 4)), static_cast<std::uint32_t>(value));
  };
  put(0, 1);
  put(12, sectors - 1);
  const std::string_view name = "PlayStation3";
  std::copy_n(as_view(name).begin(), name.size(), area.begin() + kSector1);
  std::string id = title_id.substr(0, kIdBytes);
  id.resize(kIdBytes, ' ');
  std::copy_n(as_view(id).begin(), kIdBytes, area.begin() + kSector1 + kIdAt);
  return area;
}

}  // namespace

std::optional<IsoOptions> ps3_iso_options(const fs::path& folder, IsoOptions options) {
  const auto game = identify_game_folder(folder);
  if (!game || game->id.platform != "ps3" || game->id.serial.empty()) return std::nullopt;
  const std::string of_disc = id_of_sfb(folder / "PS3_DISC.SFB");
  const std::string id = of_disc.empty() ? game->id.serial : of_disc;
  if (options.volume_id.empty()) options.volume_id = "PS3VOLUME";
  options.names = IsoNames::relaxed;
  options.join_parts = true;
  if (options.system_area.empty())
    options.make_system_area = [id](std::uint64_t sectors) { return first_sectors(sectors, id); };
  return options;
}

}  // namespace opifex
