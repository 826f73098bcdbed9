#include "opifex/core/volumes/file_system.hpp"

#include "opifex/core/io/folder_tree.hpp"
#include "opifex/core/volumes/xdvdfs/volume.hpp"
#include "opifex/core/volumes/xdvdfs/writer.hpp"

namespace opifex {
namespace {

SourcePtr make_of_folder(const std::filesystem::path& folder, std::vector<std::string>& notices) {
  const FolderTree tree = read_folder(folder);
  notices.insert(notices.end(), tree.notices.begin(), tree.notices.end());
  return make_xdvdfs(xdvdfs_tree(tree), {.padded = false}).image;
}

constexpr FolderBuilder kBuilder{.make = &make_of_folder};

}  // namespace

// The disc of these consoles begins with a small one for video players: it is not what the user asks for.
extern const FileSystem kXdvdfs = {.id = "xdvdfs",
                                   .title = "XDVDFS (Xbox)",
                                   .short_id = "xdvdfs",
                                   .company = Company::none,
                                   .often_trimmed = true,
                                   .read = [](const VolumePlace& place) { return read_xdvdfs(place.disc); },
                                   .build = &kBuilder};

}  // namespace opifex
