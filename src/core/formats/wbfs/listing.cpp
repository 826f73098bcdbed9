#include "opifex/core/formats/wbfs/wbfs.hpp"

#include "table.hpp"

namespace opifex {

WbfsListing list_wbfs(const SourcePtr& file) {
  const wbfs::Table table = wbfs::read_table(file);
  WbfsListing listing{.format = "wbfs", .platform = "wii"};
  listing.block_bytes = table.geometry.block_bytes();
  listing.blocks = file->size() / listing.block_bytes;
  for (const wbfs::Disc& d : table.discs)
    listing.discs.push_back({d.slot, d.id, d.title, d.size_bytes, d.stored * listing.block_bytes});
  listing.warnings = table.warnings;
  return listing;
}

}  // namespace opifex
