// The directories of a volume that is changed: chains of names, the lists of caches, and the sums of all that changed.
#include <algorithm>

#include "opifex/core/volumes/amiga/editor.hpp"

#include "structure.hpp"

namespace opifex::amiga {

void Editor::link_in(std::uint32_t folder, std::uint32_t b) {
  const std::size_t slot = at::kTable + 4 * slot_of(name_of(b), kind_);
  store(b, at::kChain, 0);
  if (field(folder, slot) == 0) {
    store(folder, slot, b);
  } else {
    std::uint32_t last = field(folder, slot);
    while (field(last, at::kChain) != 0) last = field(last, at::kChain);
    store(last, at::kChain, b);
  }
  touch(folder);
}

void Editor::unlink(const Place& place) {
  const std::uint32_t next = field(place.block, at::kChain);
  if (place.before == 0)
    store(place.folder, at::kTable + 4 * place.slot, next);
  else
    store(place.before, at::kChain, next);
}

void Editor::touch(std::uint32_t folder) {
  store_date(at_block(folder), at::kDate, now_);
  changed_[folder] = true;
  store_date(at_block(root_), at::kChanged, now_);
  changed_[root_] = true;
  touched_.push_back(folder);
  // The date of a folder stands in the cache of the one above it.
  if (folder != root_) touched_.push_back(field(folder, at::kParent));
}

std::vector<std::uint32_t> Editor::entries_of(std::uint32_t folder) const {
  std::vector<std::uint32_t> entries;
  for (unsigned slot = 0; slot < kTableSlots; ++slot)
    for (std::uint32_t b = field(folder, at::kTable + 4 * slot); b != 0; b = field(b, at::kChain)) entries.push_back(b);
  return entries;
}

Entry Editor::head_of(std::uint32_t b) const {
  Entry e{.block = b, .type = type_of(b)};
  e.name = name_of(b);
  e.comment = counted_text(at_block(b), at::kComment, kLongestComment);
  e.protection = field(b, at::kProtection);
  e.date = date_at(at_block(b), at::kDate);
  if (e.type == EntryType::file) e.size_bytes = field(b, at::kSize);
  return e;
}

std::vector<std::uint32_t> Editor::caches_of(std::uint32_t folder) const {
  std::vector<std::uint32_t> caches;
  if (kind_.cached())
    for (std::uint32_t c = field(folder, at::kExtension); c != 0; c = field(c, at::kNext)) caches.push_back(c);
  return caches;
}

/// With all of its blocks: of volumes without damage alone, whose lists come to an end.
Entry Editor::entry_of(std::uint32_t b) const {
  Entry e = head_of(b);
  if (is_folder(b)) e.caches = caches_of(b);
  if (e.type != EntryType::file) return e;
  for (std::uint32_t list = b; list != 0; list = field(list, at::kExtension)) {
    if (list != b) e.extensions.push_back(list);
    for (std::uint32_t k = 0; k < field(list, at::kHighSeq); ++k) e.data.push_back(field(list, pointer_at(k)));
  }
  return e;
}

void Editor::rebuild_caches() {
  if (!kind_.cached()) return;
  std::sort(touched_.begin(), touched_.end());
  touched_.erase(std::unique(touched_.begin(), touched_.end()), touched_.end());
  for (const std::uint32_t folder : touched_) rebuild_cache(folder);
}

void Editor::rebuild_caches_of(std::vector<std::uint32_t> folders) {
  touched_ = std::move(folders);
  rebuild_caches();
  seal_all();
}

/// The list is made anew in the blocks it has; more are taken, or the last ones given back.
void Editor::rebuild_cache(std::uint32_t folder) {
  const std::vector<std::uint32_t> old = caches_of(folder);
  std::size_t used = 0;
  std::uint32_t block = 0;
  std::size_t at = kBlockBytes;
  const auto next_block = [&] {
    const std::uint32_t b = used < old.size() ? old[used] : take_block();
    ++used;
    const std::span<std::byte> bytes = at_block(b);
    std::fill(bytes.begin(), bytes.end(), std::byte{0});
    store(b, at::kType, kTypeCache);
    store(b, at::kOwn, b);
    store(b, at::kDirectory, folder);
    block == 0 ? store(folder, at::kExtension, b) : store(block, at::kNext, b);
    block = b;
    at = at::kFirstRecord;
  };
  next_block();
  for (const std::uint32_t b : entries_of(folder)) {
    Bytes record = cache_record(head_of(b));
    const std::span<const std::byte> owner = at_block(b).subspan(at::kProtection - 4, 4);
    std::copy(owner.begin(), owner.end(), record.begin() + 12);
    if (at + record.size() > kBlockBytes) next_block();
    Fields(at_block(block)).bytes(at, record);
    store(block, at::kRecords, field(block, at::kRecords) + 1);
    at += record.size();
  }
  for (std::size_t i = used; i < old.size(); ++i) give_back(old[i]);
}

void Editor::seal_all() {
  for (std::uint32_t b = kFirstBlock; b < blocks_; ++b)
    if (changed_[b]) seal(at_block(b), b == bitmap_ ? at::kBitmapSum : at::kSum);
}

}  // namespace opifex::amiga
