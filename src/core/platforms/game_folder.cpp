// Folders that are one game: what a loader or a dumping console leaves.
#include <algorithm>
#include <map>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/part_names.hpp"
#include "opifex/core/platforms/non_images.hpp"
#include "opifex/core/platforms/sfo.hpp"

#include "disc_view.hpp"
#include "sfo_facts.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kMostFiles = 200'000;

/// A path below `folder` by its names without case; empty if it is not there.
fs::path below(const fs::path& folder, std::initializer_list<std::string_view> names) {
  fs::path at = folder;
  for (const std::string_view wanted : names) {
    std::error_code ignored;
    fs::path found;
    for (fs::directory_iterator i(at, ignored), end; i != end; i.increment(ignored))
      if (fold_case(i->path().filename().string()) == fold_case(wanted) && !i->is_symlink(ignored)) found = i->path();
    if (found.empty()) return {};
    at = found;
  }
  return at;
}

std::optional<Sfo> read_sfo(const fs::path& path) {
  constexpr std::size_t kMost = 1 << 20;
  std::error_code ignored;
  if (path.empty() || !fs::is_regular_file(path, ignored)) return std::nullopt;
  const Bytes bytes = read_up_to(*open_file(path), 0, kMost);
  return parse_sfo(bytes);
}

/// Sizes, and the files that were cut for FAT32.
void measure(const fs::path& folder, NonImage& game) {
  std::map<fs::path, std::vector<std::string>> tails;
  std::error_code ignored;
  std::size_t seen = 0;
  for (fs::recursive_directory_iterator i(folder, fs::directory_options::skip_permission_denied, ignored), end;
       i != end && seen < kMostFiles; i.increment(ignored), ++seen) {
    if (i->is_symlink(ignored) || !i->is_regular_file(ignored)) continue;
    game.size_bytes += i->file_size(ignored);
    if (i->path().extension().string().starts_with(".666"))
      tails[i->path().parent_path()].push_back(i->path().filename().string());
  }
  for (const auto& [place, names] : tails)
    for (const PartSet& set : find_part_sets(names)) {
      if (set.kind != PartKind::fat32_tail) continue;
      NonImage::SplitFile split{(place / set.stem).lexically_relative(folder).generic_string(), set.parts.size(), 0,
                                set.missing.empty() && !set.lonely};
      for (const std::string& part : set.parts) split.size_bytes += fs::file_size(place / part, ignored);
      game.split_files.push_back(std::move(split));
    }
  std::sort(game.split_files.begin(), game.split_files.end(),
            [](const auto& a, const auto& b) { return a.path < b.path; });
}

std::optional<NonImage> by_sfo(const fs::path& folder) {
  struct Place {
    const char *platform, *evidence;
    std::initializer_list<std::string_view> path;
  };
  const Place places[] = {{"ps3", "PS3_GAME/PARAM.SFO", {"PS3_GAME", "PARAM.SFO"}},
                          {"ps4", "sce_sys/param.sfo", {"sce_sys", "param.sfo"}},
                          {"psp", "PSP_GAME/PARAM.SFO", {"PSP_GAME", "PARAM.SFO"}}};
  NonImage game;
  if (!below(folder, {"PS3_DISC.SFB"}).empty()) {
    game.id.platform = "ps3";
    game.id.evidence.emplace_back("PS3_DISC.SFB");
  }
  for (const Place& place : places) {
    const auto sfo = read_sfo(below(folder, place.path));
    if (!sfo) continue;
    game.id.platform = place.platform;
    game.id.evidence.emplace_back(place.evidence);
    take_sfo(*sfo, game);
    break;
  }
  if (game.id.platform.empty()) return std::nullopt;
  if (game.id.platform != "ps4") game.id.serial = with_hyphen(game.id.serial);
  game.id.region = game.id.platform == "ps4" ? region_of_content(game.content_id) : region_of_serial(game.id.serial);
  return game;
}

/// The root of a PS1 or PS2 disc, taken apart.
std::optional<NonImage> by_settings(const fs::path& folder) {
  const fs::path settings = below(folder, {"SYSTEM.CNF"});
  if (settings.empty()) return std::nullopt;
  constexpr std::size_t kMost = 4096;
  const Bytes bytes = read_up_to(*open_file(settings), 0, kMost);
  const std::string text = to_upper_ascii(as_text(bytes));
  const std::size_t boot = text.find("BOOT");
  if (boot == std::string::npos) return std::nullopt;
  NonImage game;
  game.id.platform = text.find("BOOT2") != std::string::npos ? "ps2" : "ps1";
  const std::size_t line = text.find(game.id.platform == "ps2" ? "BOOT2" : "BOOT");
  const std::size_t end = std::min(text.find_first_of("\r\n", line), text.size());
  game.id.serial = serial_of_boot_path(trim(text.substr(line, end - line)));
  game.id.region = region_of_serial(game.id.serial);
  game.id.evidence = {"SYSTEM.CNF"};
  return game;
}

std::optional<NonImage> by_executable(const fs::path& folder) {
  const bool first = !below(folder, {"default.xbe"}).empty(), second = !below(folder, {"default.xex"}).empty();
  if (!first && !second) return std::nullopt;
  NonImage game;
  game.id.platform = second ? "xbox360" : "xbox";
  game.id.evidence = {second ? "default.xex" : "default.xbe"};
  return game;
}

}  // namespace

std::optional<NonImage> identify_game_folder(const fs::path& folder) {
  std::optional<NonImage> game = by_sfo(folder);
  if (!game) game = by_settings(folder);
  if (!game) game = by_executable(folder);
  if (!game) return std::nullopt;
  game->what = "folder";
  game->id.confidence = "certain";
  measure(folder, *game);
  return game;
}

}  // namespace opifex
