#include "opifex/core/volumes/file_system.hpp"

#include "opifex/core/volumes/gamecube/volume.hpp"
#include "opifex/core/volumes/gamecube/writer.hpp"

namespace opifex {
namespace {

std::optional<std::vector<ByteRange>> used_ranges(const VolumePlace& place) {
  auto console = read_console_volume(place.disc);
  if (!console || !console->listed) return std::nullopt;
  return std::move(console->used);
}

constexpr Setting kFull{.name = "full", .help = "for gamecube-iso: filled up to the size of a pressed disc"};
constexpr std::array kSettings = {&kFull};

FolderImage plan_folder(const std::filesystem::path& folder, const std::filesystem::path& out, const Settings& settings,
                        std::int64_t) {
  GameCubeBuild build = plan_gamecube(folder, out, {.full = settings.flag(kFull)});
  return {std::move(build.plan), std::move(build.notices)};
}

// Offsets in these two are the image's own.
constexpr std::array<std::string_view, 2> kMadeAnew = {"system/header.bin", "system/files.fst"};
constexpr FolderBuilder kBuilder{.settings = kSettings, .plan = &plan_folder, .made_anew = kMadeAnew};

}  // namespace

extern const FileSystem kGameCube = {.id = "gamecube",
                                     .title = "GameCube",
                                     .short_id = "gamecube",
                                     .company = Company::none,
                                     .often_trimmed = true,
                                     .read = [](const VolumePlace& place) { return read_gamecube(place.disc); },
                                     .used = &used_ranges,
                                     .build = &kBuilder};

}  // namespace opifex
