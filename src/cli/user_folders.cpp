#include "user_folders.hpp"

#include <cstdlib>

namespace opifex::cli {
namespace {

/// Relative paths are to be ignored (section 3 of the specification).
std::filesystem::path folder_in(const char* variable) {
  const char* value = std::getenv(variable);
  const std::filesystem::path path = value ? value : "";
  return path.is_absolute() ? path : std::filesystem::path();
}

}  // namespace

std::filesystem::path list_cache_folder() {
  if (const auto cache = folder_in("XDG_CACHE_HOME"); !cache.empty()) return cache / "opifex" / "lists";
  if (const auto home = folder_in("HOME"); !home.empty()) return home / ".cache" / "opifex" / "lists";
  return {};
}

std::filesystem::path shelf_file() {
  if (const auto data = folder_in("XDG_DATA_HOME"); !data.empty()) return data / "opifex" / "shelf.sqlite";
  if (const auto home = folder_in("HOME"); !home.empty()) return home / ".local" / "share" / "opifex" / "shelf.sqlite";
  return {};
}

}  // namespace opifex::cli
