// Xbox and Xbox 360: the game partition and the executable in its root.
#include <algorithm>
#include <array>

#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/stfs/content_header.hpp"
#include "opifex/core/volumes/xdvdfs/executable.hpp"
#include "opifex/core/volumes/xdvdfs/volume.hpp"

#include "disc_view.hpp"

namespace opifex {
namespace {

/// Title id, region and the rest, as the executable says.
void take_executable(Identity& id, const Volume& volume) {
  id.files = static_cast<std::uint64_t>(std::count_if(volume.entries.begin(), volume.entries.end(),
                                                      [](const VolumeEntry& e) { return e.kind == EntryKind::file; }));
  const auto executable = executable_of(volume);
  if (!executable) return;
  if (executable->title_id) {
    id.serial = id.title_id = title_id_text(*executable->title_id);
    id.short_id = short_title_id(*executable->title_id, executable->second);
  }
  if (executable->media_id) id.media_id = title_id_text(*executable->media_id);
  id.title = executable->name;
  id.version = executable->version;
  id.region = executable->region;
  id.disc = disc_text(executable->disc, executable->discs);
}

}  // namespace

/// The executable in the root decides; before the game partition lies a small disc for video players.
namespace {

std::optional<Identity> identify_xbox(const DiscView& view) {
  const auto offset = view.start == 0 ? find_game_partition(*view.disc) : std::nullopt;
  if (!offset) return std::nullopt;
  const auto volume = read_xdvdfs(view.disc);
  const bool second = volume && volume->find("default.xex") != nullptr;
  const bool first = volume && volume->find("default.xbe") != nullptr;
  Identity id = known_as(second ? "xbox360" : "xbox", "certain",
                         fmt::format("a game partition at {:#x}{}", *offset, *offset == 0 ? " (bare)" : ""));
  if (first || second) id.evidence.push_back(second ? "default.xex" : "default.xbe");
  if (volume) take_executable(id, *volume);
  // Pressed discs of each generation have one size.
  constexpr std::array<std::uint64_t, 3> kFull = {7'825'162'240, 7'838'695'424, 8'738'846'720};
  const bool full = std::find(kFull.begin(), kFull.end(), view.disc->size()) != kFull.end();
  const std::uint64_t end = *offset + (volume ? volume->blocks : 0) * 2048;
  id.state = full ? "full" : view.disc->size() < end ? "truncated" : "trimmed";
  return id;
}

constexpr std::array kXboxPlatforms = {Platform{"xbox", "Xbox"}, Platform{"xbox360", "Xbox 360"}};

}  // namespace

extern const Detector kXbox = {kXboxPlatforms, &identify_xbox};

Identity of_content_package(const Image& image, Identity id) {
  const ContentHeader h = read_content_header(*image.files.front().source);
  const bool first = h.content_type == kContentOriginal;
  if (id.platform.empty()) {
    id.platform = first ? "xbox" : "xbox360";
    id.confidence = "certain";
    id.evidence.push_back("a content package's header");
  }
  if (id.serial.empty()) id.serial = title_id_text(h.title_id);
  id.title_id = id.serial;
  if (id.short_id.empty()) id.short_id = short_title_id(h.title_id, !first);
  if (h.media_id != 0) id.media_id = title_id_text(h.media_id);
  if (!h.name().empty()) id.title = h.name();
  id.disc = disc_text(h.disc, h.discs);
  id.category = h.type_name();
  if (id.state == "trimmed") id.state.clear();  // a container holds no more than the game
  return id;
}

}  // namespace opifex
