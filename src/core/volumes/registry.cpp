// The list of file systems, in the order in which a place is asked for them: one line each.
#include <algorithm>

#include "opifex/core/volumes/file_system.hpp"

#define OPIFEX_FILE_SYSTEMS(SYSTEM)        \
  SYSTEM(kXdvdfs)   /* volumes/xdvdfs */   \
  SYSTEM(kGameCube) /* volumes/gamecube */ \
  SYSTEM(kWii)      /* volumes/wii */      \
  SYSTEM(kIso9660)  /* volumes/iso9660 */  \
  SYSTEM(kUdf)      /* volumes/udf */      \
  SYSTEM(kOpera)    /* volumes/opera */    \
  SYSTEM(kStfs)     /* volumes/stfs */     \
  SYSTEM(kAmiga)    /* volumes/amiga */    \
  SYSTEM(kPs1Card)  /* volumes/ps1card */  \
  SYSTEM(kNvram)    /* volumes/nvram */

namespace opifex {

#define OPIFEX_DECLARE(name) extern const FileSystem name;
OPIFEX_FILE_SYSTEMS(OPIFEX_DECLARE)
#undef OPIFEX_DECLARE

std::span<const FileSystem* const> file_systems() {
#define OPIFEX_ADDRESS(name) &name,
  static constexpr std::array kSystems = {OPIFEX_FILE_SYSTEMS(OPIFEX_ADDRESS)};
#undef OPIFEX_ADDRESS
  return kSystems;
}

const FileSystem* file_system_of(const Volume& volume) {
  // "iso9660+joliet", "udf-1.02": what follows the id is a variant.
  const std::string_view system = volume.system;
  const auto fits = [&](const FileSystem* f) {
    if (!system.starts_with(f->id)) return false;
    return system.size() == f->id.size() || system[f->id.size()] == '+' || system[f->id.size()] == '-';
  };
  const auto at = std::find_if(file_systems().begin(), file_systems().end(), fits);
  return at == file_systems().end() ? nullptr : *at;
}

std::string name_of(const Volume& volume) {
  const FileSystem* system = file_system_of(volume);
  constexpr std::string_view kArchive = "archive-";
  if (volume.system.starts_with(kArchive)) return volume.system.substr(kArchive.size()) + " archive";
  if (!system) return volume.system;
  return system->name_of ? system->name_of(volume.system) : std::string(system->title);
}

}  // namespace opifex
