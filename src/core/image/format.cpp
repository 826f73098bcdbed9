#include "opifex/core/image/format.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"

namespace opifex {

int Image::main_data_track() const {
  const cd::Track* track = cd ? cd->layout().first_data_track() : nullptr;
  return track ? track->number : 0;
}

SourcePtr Image::user_data() const {
  if (blocks) return blocks;
  const int track = main_data_track();
  return track == 0 ? nullptr : user_data_source(cd, track);
}

std::uint64_t Image::size_bytes() const {
  std::uint64_t sum = 0;
  for (const ImageFile& file : files) sum += file.size_bytes;
  return sum;
}

const Format* find_format(std::string_view id) {
  for (const Format* format : formats())
    if (format->id == id) return format;
  return nullptr;
}

const Format& probe_format(const std::filesystem::path& path) {
  if (std::filesystem::is_directory(path))
    throw Error({.code = "is_folder",
                 .what = "this is a folder, not an image",
                 .file = path.string(),
                 .hint = "name the image file inside it: the .cue of a set, or the .bin, .iso or .vcd"});
  const SourcePtr source = open_file(path);
  const std::string name = fold_case(path.filename().string());
  const Format* best = nullptr;
  int best_bits = 0;
  for (const Format* format : formats()) {
    const int bits = format->probe(*source, name);
    if (bits > best_bits) {
      best = format;
      best_bits = bits;
    }
  }
  if (best) return *best;
  const Bytes head = read_up_to(*source, 0, 16);
  throw Error(
      {.code = source->size() == 0 ? "empty_file" : "unknown_format",
       .what = source->size() == 0 ? "the file is empty" : "no known format fits this file",
       .file = path.string(),
       .found = source->size() == 0 ? "0 bytes" : fmt::format("{} bytes that begin {}", source->size(), hex(head)),
       .expected = "a cue sheet, a raw or 2048-byte disc image, or a VCD",
       .hint = "opifex formats lists what can be read"});
}

Image open_image(const std::filesystem::path& path, const OpenOptions& options) {
  const Format& format = probe_format(path);
  Image image = format.open(path, options);
  if (!image.format) image.format = &format;
  return image;
}

std::uint64_t size_of(const std::vector<Piece>& pieces, const Image& image) {
  std::uint64_t sum = 0;
  for (const Piece& piece : pieces) {
    if (const auto* bytes = std::get_if<Bytes>(&piece)) sum += bytes->size();
    if (const auto* run = std::get_if<SourceRun>(&piece)) sum += run->size_bytes;
    if (const auto* run = std::get_if<SectorRun>(&piece)) {
      const Extent* e = image.cd->extent_at(run->lba);
      const std::size_t each = run->form == SectorForm::raw    ? cd::kRawBytes
                               : run->form == SectorForm::user ? cd::kUserBytes
                                                               : stored_bytes(e ? e->form : StoredForm::raw);
      sum += std::uint64_t{run->sectors} * each;
    }
  }
  return sum;
}

}  // namespace opifex
