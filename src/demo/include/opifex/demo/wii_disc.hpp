/// Made-up Wii discs, encrypted and hashed like pressed ones, of any size, with a made-up common key.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/core/base/cipher.hpp"
#include "opifex/core/io/output.hpp"

namespace opifex::demo {

struct WiiPartitionRecipe {
  std::uint32_t type = 0;          ///< 0 data, 1 update, 2 channel
  std::uint64_t offset = 0xF8000;  ///< bytes; a multiple of 0x8000, at least 0x50000
  std::uint64_t clusters = 8;      ///< of 0x8000 bytes
  std::string title = "Tidewater Courier";
  struct File {
    std::string path;                          ///< folders before it are made: "maps/coast.bin"
    std::uint64_t offset = 0, size_bytes = 0;  ///< in the partition's data; the offset is a multiple of 4
  };
  std::vector<File> files = {};  ///< by path; their bytes follow from the seed
};
struct WiiRecipe {
  std::string id = "ZW7EPR", title = "Tidewater Courier";
  std::vector<WiiPartitionRecipe> partitions = {};
  std::uint64_t disc_bytes = 0;  ///< of the image, the rest a hole; 0: it ends with the last partition
  std::uint64_t seed = 1;
};

/// "LanternStreetKey" as bytes: nobody's real key.
AesKey demo_common_key();
/// A key file that holds it.
std::string demo_key_file();

void write_wii_disc(const WiiRecipe& recipe, const std::filesystem::path& path, Existing existing = Existing::keep);

}  // namespace opifex::demo
