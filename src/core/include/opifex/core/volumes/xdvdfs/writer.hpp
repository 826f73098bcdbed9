/// Making an XDVDFS image of files: balanced search trees, everything in one order, nothing from the clock.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/folder_tree.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {

struct XdvdfsNode {
  std::string name;  ///< UTF-8
  std::string path;  ///< for messages
  bool folder = false;
  unsigned attributes = 0;  ///< as stored, without the mark of a folder; 0: the usual
  SourcePtr source = {};    ///< of a file that is not empty
  std::vector<XdvdfsNode> children = {};
};

struct XdvdfsOptions {
  bool padded = true;          ///< rounded up to 64 KiB: some loaders insist on it
  std::uint64_t filetime = 0;  ///< 100 ns since 1601; of the volume
};

struct XdvdfsImage {
  SourcePtr image;  ///< made as it is read; gaps are holes
  std::uint64_t files = 0, folders = 0;
};

/// Error (refused): bad_name (255 bytes of ISO 8859-1 at most), same_names (but for case), too_large (a file of 4 GiB
/// or more, too many names in a folder).
XdvdfsImage make_xdvdfs(XdvdfsNode root, const XdvdfsOptions& options);

/// The files of a folder of the user's.
XdvdfsNode xdvdfs_tree(const FolderTree& tree);
/// The files of a volume. Error (refused) if one of them is not sound, or cannot be written again.
XdvdfsNode xdvdfs_tree(const Volume& volume);

}  // namespace opifex
