// The blocks of an Amiga floppy, one after the other.
#include "opifex/core/image/format.hpp"

namespace opifex {

extern const Format kAdfFormat;

namespace {

constexpr std::array<std::string_view, 1> kExtensions = {".adf"};
constexpr std::uint32_t kBlock = 512;
constexpr std::uint64_t kUsual = 80, kMost = 84;                     // cylinders
constexpr std::uint64_t kCylinder = 2 * 11 * std::uint64_t{kBlock};  // of two sides at double density
constexpr unsigned kMostKind = 7;                                    // of file system, behind "DOS"

bool is_floppy_size(std::uint64_t bytes, std::uint64_t most_cylinders) {
  for (const std::uint64_t cylinder : {kCylinder, 2 * kCylinder})
    if (bytes % cylinder == 0 && bytes / cylinder >= kUsual && bytes / cylinder <= most_cylinders) return true;
  return false;
}

int probe(const ByteSource& source, std::string_view file_name) {
  if (!is_floppy_size(source.size(), kMost)) return 0;
  const Bytes head = read_up_to(source, 0, 4);
  const bool dos = as_text(head).starts_with("DOS") && std::to_integer<unsigned>(head[3]) <= kMostKind;
  if (dos) return 28;
  // Games with a loader of their own have no file system.
  return file_name.ends_with(kExtensions.front()) && is_floppy_size(source.size(), kUsual) ? 9 : 0;
}

Image open(const std::filesystem::path& path, const OpenOptions& options) {
  Image image;
  image.format = &kAdfFormat;
  image.path = path;
  const SourcePtr source = options.space().open(path);
  image.files.push_back({path, std::string(kAdfFormat.id), source->size(), false, source});
  const bool dos = as_text(read_up_to(*source, 0, 3)) == "DOS";
  image.content = BlockContent{.bytes = source,
                               .medium = BlockMedium::floppy,
                               .block_bytes = kBlock,
                               .system = "amiga",
                               .mark = dos ? "the mark of its boot block" : "its size"};
  return image;
}

constexpr std::array kPlatforms = {Platform{"amiga", "Amiga"}};

}  // namespace

extern const Format kAdfFormat = {.id = "adf",
                                  .title = "blocks of an Amiga floppy",
                                  .extensions = kExtensions,
                                  .probe = &probe,
                                  .open = &open,
                                  .holds = {},
                                  .plan_write = nullptr,
                                  .platforms = kPlatforms};

}  // namespace opifex
