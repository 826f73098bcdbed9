// Small files with facts: PARAM.SFO, packages, boot sectors, GD-ROM track lists, block tables, lists of titles.
#include <sys/mman.h>
#include <unistd.h>

#include "opifex/core/image/format.hpp"
#include "opifex/core/platforms/non_images.hpp"
#include "opifex/core/platforms/title_list.hpp"

#include "fuzz.hpp"

using namespace opifex;

namespace {

/// The input as the list, and one track of zeros for every other name.
class OneList final : public FileSpace {
 public:
  explicit OneList(SourcePtr list) : list_(std::move(list)) {}
  SourcePtr open(const std::filesystem::path& path) const override { return path == "f/list.gdi" ? list_ : track_; }
  bool is_file(const std::filesystem::path&) const override { return true; }
  bool is_folder(const std::filesystem::path&) const override { return false; }
  std::vector<std::filesystem::path> entries(const std::filesystem::path&) const override { return {}; }
  bool same_file(const std::filesystem::path& a, const std::filesystem::path& b) const override { return a == b; }

 private:
  SourcePtr list_;
  SourcePtr track_ = memory_source(Bytes(std::size_t{2352} * 2048), "track");
};

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const SourcePtr source = memory_source(fuzz::bytes_of(data, size), "list.gdi");
  fuzz::tolerate([&] { identify_non_image(*source); });
  fuzz::tolerate([&] {
    OpenOptions options;
    options.files = std::make_shared<const OneList>(source);
    options.allow_missing = true;
    const Image image = find_format("gdi")->open("f/list.gdi", options);
    identify_platform(image);
  });
  fuzz::tolerate([&] {
    OpenOptions options;
    options.files = std::make_shared<const OneList>(source);
    const Image image = find_format("wbfs")->open("f/list.gdi", options);
    read_up_to(*image.blocks(), image.blocks()->size() - 4096, 4096);
    image.blocks()->next_data(0);
  });
  const int fd = ::memfd_create("titles", MFD_CLOEXEC);
  if (fd < 0) return 0;
  if (::write(fd, data, size) == static_cast<ssize_t>(size))
    fuzz::tolerate([&] { TitleList::read("/proc/self/fd/" + std::to_string(fd)).find("PRXS-00101"); });
  ::close(fd);
  return 0;
}
