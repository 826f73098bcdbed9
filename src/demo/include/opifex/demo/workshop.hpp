/// Discs made from nothing: the demo workshop of the Lantern Street Arcade Museum, and test discs of any size. The same
/// recipe gives the same bytes on every machine.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/core/io/output.hpp"

namespace opifex::demo {

struct Recipe {
  std::string stem;             ///< of the files: "Moth & Lantern"
  std::string volume = "DEMO";  ///< volume identifier
  std::string boot_file = "PRXS_001.01";
  std::string region = "Amer  ica";    ///< as licence texts write it; empty: no licence text
  std::uint32_t data_sectors = 300;    ///< at least 40
  std::uint32_t streamed_sectors = 0;  ///< of these, Form 2 audio at the end
  std::vector<std::uint32_t> audio_sectors = {};
  std::uint32_t pregap_sectors = 150;  ///< stored silence before the first audio track
  std::uint64_t seed = 1;
};

enum class Files { bin_per_track, one_bin, lone_bin };

/// Writes the disc into `folder`. Returns the leading file: the sheet, or the lone bin.
std::filesystem::path write_disc(const Recipe& recipe, const std::filesystem::path& folder, Files files,
                                 Existing existing = Existing::keep);

/// Moth & Lantern (a bin for each track), Kestrel Circuit disc 1 (one bin) and disc 2 (a bin without a sheet).
std::vector<Recipe> workshop_recipes();
void build_workshop(const std::filesystem::path& folder, Existing existing);
/// The same with what the demo walks through: a scratched copy, a Wii disc with its key, two drives that do not exist,
/// a known list, copies with late music and with odd names.
void build_museum(const std::filesystem::path& folder, Existing existing);

}  // namespace opifex::demo
