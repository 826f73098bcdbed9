#include "loader_places.hpp"

#include <algorithm>

#include <sys/stat.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/stage/naming.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kLongestFolder = 60;  // UTF-16 units that loaders show and take
constexpr const char* kWiiFolder = "wbfs";
constexpr const char* kGameCubeFolder = "games";

bool is_loader_folder(const fs::path& folder) {
  const std::string name = fold_case(folder.filename().string());
  return name == kWiiFolder || name == kGameCubeFolder;
}

bool is_mount_point(const fs::path& folder) {
  struct stat here {
  }, above{};
  return ::stat(folder.c_str(), &here) == 0 && ::stat((folder / "..").c_str(), &above) == 0 &&
         here.st_dev != above.st_dev;
}

/// "Title [ID6]" or "ID6_Title" or "ID6".
bool names_id(const std::string& name, const std::string& id) {
  const std::string folded = fold_case(name), wanted = fold_case(id);
  return folded == wanted || folded.ends_with("[" + wanted + "]") || folded.starts_with(wanted + "_");
}

class Judge {
 public:
  Judge(const fs::path& place, const Identity& id) : id_(id) {
    for (const fs::path& part : place) parts_.push_back(part.string());
  }

  std::vector<Warning> wii() {
    if (!lies_below(kWiiFolder, 3)) return std::move(out_);
    const std::string stem = fs::path(parts_.back()).stem().string();
    const bool in_folder = parts_.size() == 3;
    if (in_folder) check_folder(parts_[1]);
    // In a folder of its own the file is called by the id alone.
    const bool fits = in_folder ? fold_case(stem) == fold_case(id_.serial) : names_id(stem, id_.serial);
    if (!fits)
      warn("wrong_name", fmt::format("its name does not hold its id: loaders look for {}{}", id_.serial,
                                     fold_case(fs::path(parts_.back()).extension().string())));
    return std::move(out_);
  }

  std::vector<Warning> gamecube() {
    if (!lies_below(kGameCubeFolder, 3)) return std::move(out_);
    if (parts_.size() != 3) {
      warn("wrong_folder",
           fmt::format("a GameCube game lies in a folder of its own: /games/{} [{}]/game.iso", id_.title, id_.serial));
      return std::move(out_);
    }
    check_folder(parts_[1]);
    const char* const wanted = id_.disc == "2" ? "disc2.iso" : "game.iso";
    if (fold_case(parts_.back()) != wanted)
      warn("wrong_name", fmt::format("disc {} of a GameCube game is called {}", id_.disc, wanted));
    return std::move(out_);
  }

 private:
  void warn(const char* code, std::string message) { out_.push_back({code, std::move(message)}); }

  bool lies_below(const char* folder, std::size_t most) {
    const bool below = parts_.size() > 1 && fold_case(parts_.front()) == folder && parts_.size() <= most;
    if (!below)
      warn("wrong_folder", parts_.size() > most && fold_case(parts_.front()) == folder
                               ? fmt::format("too deep: loaders look one folder below /{}", folder)
                               : fmt::format("loaders look below /{}", folder));
    return below;
  }

  void check_folder(const std::string& name) {
    if (!names_id(name, id_.serial))
      warn("wrong_folder_name",
           fmt::format("the folder does not name the game's id: {} [{}] would", id_.title, id_.serial));
    if (utf16_units(name) > kLongestFolder)
      warn("long_folder_name", fmt::format("the folder's name has {} characters: loaders take about {}",
                                           utf16_units(name), kLongestFolder));
  }

  const Identity& id_;
  std::vector<std::string> parts_;
  std::vector<Warning> out_;
};

}  // namespace

std::optional<fs::path> loader_drive(const fs::path& folder) {
  std::error_code ignored;
  const fs::path whole = fs::weakly_canonical(folder, ignored);
  if (is_loader_folder(whole)) return whole.parent_path();
  for (fs::directory_iterator i(whole, ignored), end; i != end; i.increment(ignored))
    if (i->is_directory(ignored) && is_loader_folder(i->path())) return whole;
  return is_mount_point(whole) ? std::optional(whole) : std::nullopt;
}

std::vector<Warning> place_warnings(const fs::path& place, const Identity& id) {
  if (id.serial.empty()) return {};
  if (id.platform == "wii") return Judge(place, id).wii();
  if (id.platform == "gamecube") return Judge(place, id).gamecube();
  return {};
}

}  // namespace opifex
