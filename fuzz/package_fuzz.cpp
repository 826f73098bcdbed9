// Content packages, installed games (a header, then its data file) and executables of Xbox consoles.
#include <map>

#include "opifex/core/image/container.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/volumes/stfs/volume.hpp"
#include "opifex/core/volumes/xdvdfs/executable.hpp"

#include "fuzz.hpp"

using namespace opifex;

namespace {

/// A header and a data file that are nowhere.
class MemoryFiles final : public FileSpace {
 public:
  std::map<std::filesystem::path, SourcePtr> files;
  SourcePtr open(const std::filesystem::path& path) const override {
    const auto at = files.find(path);
    if (at == files.end()) throw Error({.code = "no_such_file", .what = "no such file"});
    return at->second;
  }
  bool is_file(const std::filesystem::path& path) const override { return files.contains(path); }
  bool is_folder(const std::filesystem::path& path) const override { return path == "game.data"; }
  std::vector<std::filesystem::path> entries(const std::filesystem::path& folder) const override {
    std::vector<std::filesystem::path> found;
    for (const auto& [path, file] : files)
      if (path.parent_path() == folder) found.push_back(path);
    if (folder.empty() && files.size() > 1) found.emplace_back("game.data");
    return found;
  }
  bool same_file(const std::filesystem::path& a, const std::filesystem::path& b) const override { return a == b; }
};

void open_package(const Bytes& header, const Bytes& data) {
  const auto space = std::make_shared<MemoryFiles>();
  space->files["game"] = memory_source(header, "game");
  if (!data.empty()) space->files["game.data/Data0000"] = memory_source(data, "Data0000");
  OpenOptions options;
  options.files = space;
  options.allow_missing = true;
  fuzz::tolerate([&] {
    const Image image = find_format("god")->open("game", options);
    Progress progress;
    JobContext context{progress, 1};
    if (image.container) {
      image.container->facts();
      image.container->verify(context, nullptr);
    }
  });
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const Bytes bytes = fuzz::bytes_of(data, size);
  const SourcePtr file = memory_source(bytes, "fuzz");
  fuzz::tolerate([&] { read_xbox_executable(*file); });
  fuzz::tolerate([&] {
    const StfsPackage package = read_stfs(file);
    Progress progress;
    JobContext context{progress, 1};
    verify_stfs(file, package, context);
  });
  constexpr std::size_t kHeader = 0xB000;
  open_package(bytes, {});
  if (bytes.size() > kHeader)
    open_package({bytes.begin(), bytes.begin() + kHeader}, {bytes.begin() + kHeader, bytes.end()});
  return 0;
}
