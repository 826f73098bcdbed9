// The game partition of an Xbox disc, bare.
#include "opifex/core/image/format.hpp"

#include <algorithm>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/formats/xiso/losses.hpp"
#include "opifex/core/image/shared_settings.hpp"
#include "opifex/core/volumes/xdvdfs/volume.hpp"
#include "opifex/core/volumes/xdvdfs/writer.hpp"

namespace opifex {

extern const Format kXisoFormat;

namespace {

namespace fs = std::filesystem;

constexpr std::array<std::string_view, 1> kExtensions = {".iso"};
constexpr std::uint64_t kPadding = 65536;

int probe(const ByteSource& source, std::string_view) {
  return as_text(read_up_to(source, kXdvdfsMarkAt, kXdvdfsMark.size())) == kXdvdfsMark ? 160 : 0;
}

Image open(const fs::path& path, const OpenOptions& options) {
  Image image;
  image.path = path;
  const SourcePtr source = options.space().open(path);
  image.files.push_back({path, "xiso", source->size(), false, source});
  image.take_blocks(source);
  if (std::get<BlockContent>(image.content).padding != 0) image.warn_of_partial_sector();
  return image;
}

/// The partition as it is, up to its last used sector.
SourcePtr trimmed(const SourcePtr& disc, std::uint64_t place, bool padded) {
  const auto volume = read_xdvdfs(disc);
  const std::uint64_t end = game_bytes(*volume, *disc, place);
  const SourcePtr game = slice_source(disc, place, end);
  const std::uint64_t rest = end % kPadding;
  // What is missing at the end is damage: zeros in its place would look like the file.
  const bool cut =
      std::any_of(volume->entries.begin(), volume->entries.end(), [](const VolumeEntry& e) { return !e.sound; });
  return padded && !cut && rest != 0 ? concat_source({game, zero_source(kPadding - rest)}, disc->name()) : game;
}

SourcePtr rebuilt(const SourcePtr& disc, bool padded) {
  const auto volume = read_xdvdfs(disc);
  return make_xdvdfs(xdvdfs_tree(*volume), {.padded = padded, .filetime = volume->created}).image;
}

/// NAME.1.iso, NAME.2.iso .., also of a whole disc.
std::string part_name(std::string_view stem, std::string_view extension, std::size_t part) {
  return fmt::format("{}.{}{}", stem, part + 1, extension);
}
bool is_xbox_disc(const ByteSource& disc) { return find_game_partition(disc).has_value(); }
constexpr PartNaming kPartNames = {.name = &part_name, .knows = &is_xbox_disc};

WritePlan plan_write(const Image& image, const fs::path& out, const Settings& settings) {
  const auto place = image.blocks() ? find_game_partition(*image.blocks()) : std::nullopt;
  if (!place)
    throw Error({.code = "no_game_partition",
                 .what = "there is no game partition of an Xbox disc in this image",
                 .file = image.path.string(),
                 .hint = "<job identify> says what it is"});
  const bool rebuild = settings.flag(kRebuild), padded = !settings.flag(kMinimal);
  const SourcePtr game = rebuild ? rebuilt(image.blocks(), padded) : trimmed(image.blocks(), *place, padded);
  WritePlan plan;
  plan.steps.push_back(rebuild
                           ? fmt::format("pack the files of the game partition anew into {}", out.filename().string())
                           : fmt::format("copy the game partition from {:#x}, up to its last used sector, to {}",
                                         *place, out.filename().string()));
  plan.outputs.push_back({out, {SourceRun{game, 0, game->size()}}, game->size(), 0, &kPartNames});
  return plan;
}

constexpr std::array kSettings = {&kRebuild, &kMinimal};

}  // namespace

extern const Format kXisoFormat = {.id = "xiso",
                                   .title = "game partition of an Xbox or Xbox 360 disc",
                                   .extensions = kExtensions,
                                   .probe = &probe,
                                   .open = &open,
                                   .holds = {.blocks = true, .game_partition = true, .whole_discs = true},
                                   .plan_write = &plan_write,
                                   .settings = kSettings,
                                   .part_names = &kPartNames,
                                   .own_losses = &game_partition_losses};

}  // namespace opifex
