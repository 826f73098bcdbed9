// The blocks of an Amiga floppy, one after the other.
#include "opifex/core/image/format.hpp"

#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/amiga/disk.hpp"

namespace opifex {

extern const Format kAdfFormat;

namespace {

using amiga::ImageKind;

constexpr std::array<std::string_view, 1> kExtensions = {".adf"};

amiga::ImageFacts facts_of(const ByteSource& source) {
  return amiga::examine_image(read_up_to(source, 0, static_cast<std::size_t>(amiga::kMostImageBytes) + 1));
}

int probe(const ByteSource& source, std::string_view file_name) {
  const bool named = file_name.ends_with(kExtensions.front());
  const Bytes head = read_up_to(source, 0, 16);
  const amiga::ImageFacts front = amiga::examine_image(head);
  if (front.kind == ImageKind::extended) return 64;
  // A floppy that was cut, or copied with something behind it, says so by its name alone.
  if (!amiga::is_image_size(source.size())) return front.dos && named ? 26 : 0;
  if (front.dos) return 28;
  // Games with a loader of their own have no file system.
  return named ? 9 : 0;
}

/// What a copy that ended early, or went on too long, looks like.
void warn_of_size(Image& image, std::uint64_t size) {
  constexpr std::uint64_t kUsual = 80 * amiga::kCylinderBytes;
  image.complete = false;
  image.warnings.push_back(
      {"size",
       fmt::format("{} bytes are no floppy: one has {} bytes at double density, {} at high density, "
                   "or up to 84 cylinders of {} or {}",
                   grouped(size), grouped(kUsual), grouped(2 * kUsual), grouped(amiga::kCylinderBytes),
                   grouped(2 * amiga::kCylinderBytes)),
       "copy the floppy again: the file was cut, or something was added to it", Cause::incomplete});
}

Image open(const std::filesystem::path& path, const OpenOptions& options) {
  Image image;
  image.format = &kAdfFormat;
  image.path = path;
  const SourcePtr source = options.space().open(path);
  image.files.push_back({path, std::string(kAdfFormat.id), source->size(), false, source});
  const amiga::ImageFacts facts = facts_of(*source);
  if (facts.kind == ImageKind::other_size) warn_of_size(image, source->size());
  image.content = BlockContent{.bytes = source,
                               .medium = BlockMedium::floppy,
                               .block_bytes = amiga::kBlockBytes,
                               .system = "amiga",
                               .mark = facts.kind == ImageKind::extended ? "the mark of an extended image"
                                       : facts.dos                       ? "the mark of its boot block"
                                                                         : "its size"};
  return image;
}

WritePlan plan_write(const Image& image, const std::filesystem::path& out, const Settings&) {
  const auto& blocks = std::get<BlockContent>(image.content);
  if (facts_of(*blocks.bytes).kind == ImageKind::extended)
    throw Error({.code = "extended_image",
                 .what = "an extended image holds tracks as they were read: their blocks are not opened",
                 .file = image.path.string()});
  WritePlan plan;
  plan.copies = true;
  plan.steps.push_back(
      fmt::format("copy the {} of the floppy", plural(blocks.bytes->size() / amiga::kBlockBytes, "block")));
  plan.outputs.push_back(
      {.path = out, .pieces = {SourceRun{blocks.bytes, 0, blocks.bytes->size()}}, .size_bytes = blocks.bytes->size()});
  return plan;
}

constexpr std::array kPlatforms = {Platform{"amiga", "Amiga"}};

}  // namespace

extern const Format kAdfFormat = {.id = "adf",
                                  .title = "blocks of an Amiga floppy",
                                  .extensions = kExtensions,
                                  .probe = &probe,
                                  .open = &open,
                                  .holds = {.floppies = true},
                                  .plan_write = &plan_write,
                                  .platforms = kPlatforms,
                                  .volume = "amiga"};

}  // namespace opifex
