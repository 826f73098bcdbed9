#include "opifex/core/image/image.hpp"

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

std::string describe_blocks(const BlockContent& blocks) {
  const auto of_blocks = [&](std::string_view what) {
    return fmt::format("{} of {}-byte blocks", what, blocks.block_bytes);
  };
  switch (blocks.medium) {
    case BlockMedium::disc:
      return of_blocks("a disc");
    case BlockMedium::floppy:
      return of_blocks("a floppy disk");
    case BlockMedium::memory_card:
      return of_blocks("a memory card");
    case BlockMedium::drive:
      break;
  }
  return "a drive";
}

}  // namespace

std::string describe(const Content& content) {
  return std::visit(Overloaded{[](const NoContent&) { return std::string("nothing"); },
                               [](const CdContent&) { return std::string("a CD"); },
                               [](const BlockContent& blocks) { return describe_blocks(blocks); },
                               [](const RomContent&) { return std::string("a ROM"); },
                               [](const FileContent& files) { return fmt::format("a {} of files", files.what); }},
                    content);
}

const CdImagePtr& Image::cd() const {
  static const CdImagePtr kNone;
  const auto* disc = std::get_if<CdContent>(&content);
  return disc ? disc->sectors : kNone;
}

const SourcePtr& Image::blocks() const {
  static const SourcePtr kNone;
  if (const auto* disc = std::get_if<CdContent>(&content)) return disc->cooked;
  const auto* blocks = std::get_if<BlockContent>(&content);
  return blocks && blocks->is_disc() ? blocks->bytes : kNone;
}

int Image::main_data_track() const {
  const cd::Track* track = cd() ? cd()->layout().first_data_track() : nullptr;
  return track ? track->number : 0;
}

SourcePtr Image::user_data() const {
  if (blocks()) return blocks();
  const int track = main_data_track();
  return track == 0 ? nullptr : user_data_source(cd(), track);
}

void Image::warn_of_partial_sector() {
  complete = false;
  warnings.push_back(
      {"partial_sector", "the file ends within a block of 2048 bytes: it was cut off", {}, Cause::incomplete});
}

void Image::take_blocks(SourcePtr source) {
  const std::uint64_t rest = source->size() % cd::kUserBytes;
  const std::uint64_t padding = rest == 0 ? 0 : cd::kUserBytes - rest;
  const std::string whole = source->name();
  if (padding != 0) source = concat_source({std::move(source), zero_source(padding)}, whole);
  content = BlockContent{.bytes = std::move(source), .padding = padding};
}

SourcePtr Image::stored_blocks() const {
  const auto* disc = std::get_if<BlockContent>(&content);
  if (!disc || disc->padding == 0) return blocks();
  return slice_source(disc->bytes, 0, disc->bytes->size() - disc->padding);
}

std::uint64_t Image::size_bytes() const {
  std::uint64_t sum = 0;
  for (const ImageFile& file : files) sum += file.size_bytes;
  return sum;
}

const ImageFile* Image::file_of(const cd::Track& track) const {
  if (!cd()) return nullptr;
  for (const Extent& e : cd()->extents())
    if (e.track == track.number && track.start_lba >= e.lba && track.start_lba < e.end()) return &files.at(e.file);
  return nullptr;
}

}  // namespace opifex
