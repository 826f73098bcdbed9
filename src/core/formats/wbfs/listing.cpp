#include "listing.hpp"

#include "table.hpp"

namespace opifex::wbfs {

ImageListing list(const SourcePtr& file) {
  const Table table = read_table(file);
  ImageListing listing{.format = "wbfs", .platform = "wii"};
  listing.block_bytes = table.geometry.block_bytes();
  listing.blocks = file->size() / listing.block_bytes;
  for (const Disc& d : table.discs)
    listing.images.push_back({d.slot, d.id, d.title, d.size_bytes, d.stored * listing.block_bytes});
  listing.warnings = table.warnings;
  return listing;
}

}  // namespace opifex::wbfs
