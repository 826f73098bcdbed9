#include "stream.hpp"

#include "opifex/core/image/container.hpp"
#include "opifex/core/image/format.hpp"

namespace opifex {
namespace {

bool lies_as_it_is(const Extent& e, const ImageFile& file) {
  return e.source == file.source && !e.swapped && !e.scrambled;
}

/// Bytes of a disc, cut where clusters that can be verified begin and end.
void add_disc(Stream& stream, const ByteSource& disc, std::uint64_t size, const WiiTree* tree) {
  std::uint64_t done = 0;
  for (const ByteRange& run : tree ? tree->cluster_runs() : std::vector<ByteRange>{}) {
    if (run.first < done) continue;  // partitions that overlap: told already
    stream.add({0, run.first - done, &disc, done});
    StreamRun clusters{0, run.end - run.first, &disc, run.first};
    clusters.clusters = true;
    stream.add(clusters);
    done = run.end;
  }
  stream.add({0, size - done, &disc, done});
}

}  // namespace

bool holds_disc(const Image& image) { return image.container && image.blocks(); }

Stream make_stream(const Image& image, const WiiTree* tree) {
  Stream stream;
  std::vector<const Extent*> later;
  for (std::size_t f = 0; f < image.files.size(); ++f) {
    const ImageFile& file = image.files[f];
    const std::uint64_t begin = stream.size_bytes;
    std::uint64_t offset = 0;
    if (image.cd())
      for (const Extent& e : image.cd()->extents()) {
        if (e.file != f) continue;
        if (!lies_as_it_is(e, file)) {
          later.push_back(&e);
          continue;
        }
        stream.add({0, e.offset - offset, file.source.get(), offset});
        stream.add_to_track(e.track, stream.size_bytes, stream.size_bytes + e.size_bytes());
        stream.add({0, e.size_bytes(), file.source.get(), e.offset, &e, e.lba});
        offset = e.offset + e.size_bytes();
      }
    const bool is_disc = tree && image.files.size() == 1 && !image.container && offset == 0;
    if (is_disc)
      add_disc(stream, *file.source, file.size_bytes, tree);
    else if (!file.missing)
      stream.add({0, file.size_bytes - offset, file.source.get(), offset});
    stream.files.emplace_back(begin, stream.size_bytes);
  }
  if (holds_disc(image)) {
    const std::uint64_t begin = stream.size_bytes;
    if (image.container->decodes_blocks())
      stream.add({.size_bytes = image.stored_blocks()->size(), .source = image.blocks().get(), .decoded = true});
    else
      add_disc(stream, *image.blocks(), image.blocks()->size(), tree);
    stream.disc = {begin, stream.size_bytes};
  }
  for (const Extent* e : later) {
    stream.add_to_track(e->track, stream.size_bytes, stream.size_bytes + e->size_bytes());
    stream.add({0, e->size_bytes(), e->source.get(), e->offset, e, e->lba, true});
  }
  return stream;
}

}  // namespace opifex
