#include "opifex/core/image/format.hpp"

#include <algorithm>
#include <functional>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/archive.hpp"
#include "opifex/core/io/part_names.hpp"

namespace opifex {

namespace {

const Format& format_that(const std::function<bool(const Format&)>& fits) {
  const auto all = formats();
  const auto at = std::find_if(all.begin(), all.end(), [&](const Format* f) { return fits(*f); });
  if (at == all.end()) throw Error({.code = "internal", .what = "no format of this kind is registered"});
  return **at;
}

}  // namespace

const Format& bare_format(Stored stored) {
  return format_that([=](const Format& f) { return f.is_bare() && f.stored == stored; });
}

const Format& sheet_format(Stored stored) {
  return format_that([=](const Format& f) { return f.shape == Shape::sheet && f.plan_write && f.stored == stored; });
}

bool is_image_name(const std::filesystem::path& path) {
  const std::string extension = fold_case(path.extension().string());
  return std::any_of(formats().begin(), formats().end(), [&](const Format* f) { return f->owns(extension); });
}

bool is_sheet_name(const std::filesystem::path& path) {
  const std::string extension = fold_case(path.extension().string());
  return std::any_of(formats().begin(), formats().end(),
                     [&](const Format* f) { return f->shape == Shape::sheet && f->owns(extension); });
}

const Format& usual_format(bool is_cd) { return is_cd ? sheet_format(Stored::sectors) : bare_format(Stored::blocks); }

const Format* find_format(std::string_view id) {
  for (const Format* format : formats())
    if (format->id == id) return format;
  return nullptr;
}

namespace {

/// A name that is nearly right: another extension, or a slip of the keys.
void refuse_missing(const std::filesystem::path& path) {
  std::error_code ignored;
  if (std::filesystem::exists(path, ignored)) return;
  std::vector<std::string> names;
  const std::filesystem::path folder = path.has_parent_path() ? path.parent_path() : std::filesystem::path(".");
  std::string meant;
  for (std::filesystem::directory_iterator i(folder, ignored), end; i != end; i.increment(ignored)) {
    const std::string name = i->path().filename().string();
    names.push_back(name);
    const bool same_stem = fold_case(i->path().stem().string()) == fold_case(path.filename().string());
    if (same_stem && (meant.empty() || is_sheet_name(name))) meant = name;
  }
  std::sort(names.begin(), names.end());
  if (meant.empty()) meant = nearest_word(path.filename().string(), names);
  throw Error({.code = "no_such_file",
               .what = "there is no file of this name",
               .file = path.string(),
               .hint = meant.empty() ? "check the name; put it in quotes if it holds spaces or &"
                                     : fmt::format("did you mean '{}'?", meant)});
}

}  // namespace

const Format& probe_format(const std::filesystem::path& path, const FileSpace& files) {
  if (files.is_folder(path))
    throw Error({.code = "is_folder",
                 .what = "this is a folder, not an image",
                 .file = path.string(),
                 .hint = "name the image file inside it: the .cue of a set, or the .bin, .iso or .vcd"});
  if (&files == host_files().get()) refuse_missing(path);
  const SourcePtr source = files.open(path);
  const std::string name = fold_case(path.filename().string());
  const Format* best = nullptr;
  int best_bits = 0;
  constexpr int kSure = 20;  // one in a million: who only guesses need not look, and guessing takes reading
  for (const Format* format : formats()) {
    if (best_bits >= kSure && format->is_bare() && format->stored == Stored::sectors) break;
    const int bits = format->probe(*source, name);
    if (bits > best_bits) {
      best = format;
      best_bits = bits;
    }
  }
  if (best) return *best;
  const Bytes head = read_up_to(*source, 0, 16);
  if (&files != host_files().get())
    if (const std::string kind = archive_kind(*source); !kind.empty())
      throw Error({.code = "unknown_format",
                   .cause = Cause::unknown_format,
                   .what = "this is an archive in an archive",
                   .file = path.string(),
                   .found = kind,
                   .hint = "unpack the outer one first"});
  throw Error(
      {.code = source->size() == 0 ? "empty_file" : "unknown_format",
       .cause = source->size() == 0 ? Cause::empty_file : Cause::unknown_format,
       .what = source->size() == 0 ? "the file is empty" : "no known format fits this file",
       .file = path.string(),
       .found = source->size() == 0 ? "0 bytes" : fmt::format("{} bytes that begin {}", source->size(), hex(head)),
       .expected =
           "a cue sheet or track list, a raw or 2048-byte disc image, a VCD, CHD or WBFS, a cartridge's ROM, a floppy",
       .hint = "<job formats> lists what can be read"});
}

namespace {

/// The files a split image is in. All but the last have one size: another one was cut off.
void find_parts(Image& image) {
  const auto set = part_set_of(image.path);
  if (!set || !set->plain_bytes() || set->parts.size() < 2) return;
  std::vector<std::filesystem::path> parts;
  std::uint64_t first = 0;
  for (const std::string& name : set->parts) {
    parts.push_back(image.path.parent_path() / name);
    std::error_code ignored;
    const std::uint64_t size = std::filesystem::file_size(parts.back(), ignored);
    if (parts.size() == 1) first = size;
    const bool last = parts.size() == set->parts.size();
    if (last ? size > first : size != first)
      image.warnings.push_back({"uneven_part",
                                fmt::format("{} has {} bytes, the first part {}: one of them may be cut off",
                                            printable(name), grouped(size), grouped(first)),
                                {},
                                Cause::uneven_part});
  }
  // Two discs may be called like two parts.
  const bool joined = std::any_of(image.files.begin(), image.files.end(), [&](const ImageFile& f) {
    return f.path == image.path && !f.missing && f.size_bytes > first;
  });
  if (joined) image.parts = std::move(parts);
}

}  // namespace

Image open_image(const std::filesystem::path& path, const OpenOptions& options) {
  const auto told = std::find_if(formats().begin(), formats().end(),
                                 [&](const Format* f) { return f->is_told && f->is_told(options.settings); });
  const Format& format = told != formats().end() ? **told : probe_format(path, options.space());
  Image image = format.open(path, options);
  if (!image.format) image.format = &format;
  image.archive = options.archive;
  image.keys = options.keys;
  if (!options.files) find_parts(image);
  return image;
}

std::optional<ImageListing> list_images(const std::filesystem::path& path, const FileSpace& files) {
  const bool could =
      std::any_of(formats().begin(), formats().end(), [](const Format* f) { return f->list != nullptr; });
  if (!could || !files.is_file(path)) return std::nullopt;
  const SourcePtr source = files.open(path);
  const std::string name = fold_case(path.filename().string());
  for (const Format* f : formats()) {
    constexpr int kSureBits = 32;  // a file that only might be of this format is opened as what it is
    if (!f->list || f->probe(*source, name) < kSureBits) continue;
    ImageListing listing = f->list(source);
    if (listing.images.size() > 1) return listing;
  }
  return std::nullopt;
}

void refuse_holes(const Image& image, std::span<const cd::Track> tracks) {
  for (std::size_t i = 1; i < tracks.size(); ++i) {
    const cd::Track &before = tracks[i - 1], &track = tracks[i];
    if (track.pregap_lba == before.end_lba) continue;
    throw Error(
        {.code = "track_gap",
         .what = fmt::format("between tracks {} and {} are sectors that are on no track", before.number, track.number),
         .file = image.path.string(),
         .found = fmt::format("track {} ends at LBA {}, track {} begins at {}", before.number, before.end_lba,
                              track.number, track.pregap_lba),
         .hint = "chd keeps such a gap"});
  }
}

std::uint64_t size_of(const std::vector<Piece>& pieces, const Image& image) {
  std::uint64_t sum = 0;
  for (const Piece& piece : pieces) {
    if (const auto* bytes = std::get_if<Bytes>(&piece)) sum += bytes->size();
    if (const auto* run = std::get_if<SourceRun>(&piece)) sum += run->size_bytes;
    if (const auto* packer = std::get_if<PackerPtr>(&piece)) sum += (*packer)->most_bytes();
    if (const auto* run = std::get_if<SectorRun>(&piece)) {
      const Extent* e = image.cd()->extent_at(run->lba);
      const std::size_t each = run->form == SectorForm::raw    ? cd::kRawBytes
                               : run->form == SectorForm::user ? cd::kUserBytes
                                                               : stored_bytes(e ? e->form : StoredForm::raw);
      sum += std::uint64_t{run->sectors} * each;
    }
  }
  return sum;
}

}  // namespace opifex
