/// The files and folders that an ISO 9660 image is made of, as they lie in a folder of the host.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/core/volumes/iso9660/writer.hpp"

namespace opifex {

struct IsoNode {
  std::string name;                          // of the host, UTF-8
  std::string path;                          // from the folder on
  std::vector<std::filesystem::path> hosts;  // a file that was cut has several
  bool folder = false;
  std::uint64_t size_bytes = 0;
  std::int64_t time = 0;
  std::vector<std::size_t> children = {};
  std::size_t parent = 0;
  std::uint64_t sector = 0;  // of the data
};

struct IsoNodes {
  std::vector<IsoNode> nodes;  // the root first, then folder by folder, names in the order of their bytes
  std::size_t files = 0, folders = 0;
  std::vector<std::string> notices;  // what is left out
};

/// Error: not_a_folder, missing_part (of files cut for FAT32, which become one again), too_many_folders.
IsoNodes read_iso_nodes(const std::filesystem::path& folder, const IsoOptions& options);

}  // namespace opifex
