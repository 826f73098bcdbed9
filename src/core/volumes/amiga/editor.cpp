#include "opifex/core/volumes/amiga/editor.hpp"

#include <algorithm>
#include <set>

#include "opifex/core/base/text.hpp"

#include "../edits.hpp"
#include "../names.hpp"
#include "structure.hpp"

namespace opifex::amiga {
namespace {

/// What does not fit, or may not be, in words for whoever asked for it.
[[noreturn]] void refuse(const char* code, std::string what, const std::string& path, std::string hint = {}) {
  throw Error({.code = code, .what = std::move(what), .found = printable(path), .hint = std::move(hint)});
}

std::string as_utf8(std::string_view latin1) { return latin1_text(as_view(latin1)); }

/// A part of a path as it is looked for; nothing if no name can be so.
std::optional<std::string> wanted_name(const std::string& part) {
  auto name = latin1_of(part);
  if (name && name->size() > kLongestName) return std::nullopt;
  return name;
}

/// A name that is to be given. Error (usage, "bad_name") with one that could be taken.
std::string require_name(const std::string& part, const std::string& path) {
  const auto name = latin1_of(part);
  const std::string fault = name ? name_fault(*name) : "it has letters that are not in Latin-1";
  if (fault.empty()) return *name;
  throw Error({.fault = Fault::usage,
               .code = "bad_name",
               .what = "a floppy cannot have this name: " + fault,
               .found = printable(path),
               .expected = "for example " + printable(as_utf8(proposed_name(part))),
               .hint = "<name> gives a file another name"});
}

}  // namespace

ByteView usual_boot_code() {
  // lea name(pc),a1 ; jsr FindResident(a6) ; tst.l d0 ; bne.s found ; moveq #1,d0 ; rts
  // found: movea.l d0,a0 ; movea.l 22(a0),a0 (its start) ; moveq #0,d0 ; rts ; name: "dos.library"
  static constexpr std::array<unsigned char, 38> kCode = {
      0x43, 0xFA, 0x00, 0x18, 0x4E, 0xAE, 0xFF, 0xA0, 0x4A, 0x80, 0x66, 0x04, 0x70, 0x01, 0x4E, 0x75, 0x20, 0x40, 0x20,
      0x68, 0x00, 0x16, 0x70, 0x00, 0x4E, 0x75, 'd',  'o',  's',  '.',  'l',  'i',  'b',  'r',  'a',  'r',  'y',  0};
  return std::as_bytes(std::span(kCode));
}

std::uint64_t blocks_needed(std::span<const VolumeEdit> edits, Kind kind) {
  std::uint64_t needed = 0;
  for (const VolumeEdit& e : edits) {
    if (e.kind == VolumeEdit::Kind::put) needed += cost_of_file(e.contents->size(), kind);
    if (e.kind == VolumeEdit::Kind::make_folder) needed += kind.cached() ? 2u : 1u;
  }
  return needed;
}

Editor::Editor(Bytes image, std::int64_t now) : image_(std::move(image)), now_(Date::of(now)) {
  const ImageFacts facts = examine_image(image_);
  if (facts.kind != ImageKind::volume)
    refuse("not_a_volume", "this floppy has no file system of AmigaDOS that could be changed", "");
  const Disk disk = read_disk(image_);
  refuse_damaged(disk.findings.begin(), disk.findings.end());
  kind_ = disk.kind;
  root_ = disk.root;
  blocks_ = disk.blocks;
  bitmap_ = disk.bitmap;
  maybe_free_ = root_ + 1;
  changed_.assign(blocks_, false);
  if (disk.bitmap_valid) return;
  // A bitmap that is said not to be valid is made of what is in use.
  for (std::uint32_t b = kFirstBlock; b < blocks_; ++b) mark(b, disk.owner[b] == 0);
  store(root_, at::kBitmapFlag, kBitmapIsValid);
}

Editor::Editor(Bytes image, const Disk& mended)
    : image_(std::move(image)),
      kind_(mended.kind),
      root_(mended.root),
      blocks_(mended.blocks),
      bitmap_(mended.bitmap),
      maybe_free_(mended.root + 1),
      changed_(mended.blocks, false) {}

std::span<std::byte> Editor::at_block(std::uint32_t b) { return block_of(std::span(image_), b); }
ByteView Editor::at_block(std::uint32_t b) const { return block_of(ByteView(image_), b); }
std::uint32_t Editor::field(std::uint32_t b, std::size_t at) const { return word(at_block(b), at); }
void Editor::store(std::uint32_t b, std::size_t at, std::uint32_t value) {
  store_be32(at_block(b), at, value);
  changed_[b] = true;
}
EntryType Editor::type_of(std::uint32_t b) const {
  return static_cast<EntryType>(static_cast<std::int32_t>(field(b, at::kKind)));
}
bool Editor::is_folder(std::uint32_t b) const {
  return type_of(b) == EntryType::folder || type_of(b) == EntryType::root;
}
std::string Editor::name_of(std::uint32_t b) const { return counted_text(at_block(b), at::kName, kLongestName); }

std::uint32_t Editor::free_blocks() const {
  std::uint32_t count = 0;
  for (std::uint32_t b = kFirstBlock; b < blocks_; ++b) count += is_marked_free(at_block(bitmap_), b) ? 1u : 0u;
  return count;
}

// ---- finding

std::optional<Editor::Place> Editor::find_in(std::uint32_t folder, std::string_view name) const {
  Place place{.folder = folder, .slot = slot_of(name, kind_)};
  const std::string wanted = folded(name, kind_);
  for (std::uint32_t b = field(folder, at::kTable + 4 * place.slot); b != 0; b = field(b, at::kChain)) {
    if (folded(name_of(b), kind_) == wanted) {
      place.block = b;
      return place;
    }
    place.before = b;
  }
  return std::nullopt;
}

std::optional<Editor::Place> Editor::find(const std::string& path) const {
  Place place{.folder = 0, .block = root_};
  for (const std::string& part : path_parts(path)) {
    const auto name = wanted_name(part);
    if (!name || !is_folder(place.block)) return std::nullopt;
    const auto next = find_in(place.block, *name);
    if (!next) return std::nullopt;
    place = *next;
  }
  return place;
}

Editor::Place Editor::require(const std::string& path) const {
  const auto place = find(path);
  if (!place || place->block == root_) refuse_no_such_path(path);
  return *place;
}

std::pair<std::uint32_t, std::string> Editor::split(const std::string& path) const {
  std::vector<std::string> parts = path_parts(path);
  if (parts.empty()) refuse_no_such_path(path);
  if (parts.size() > kDeepest) refuse("too_deep", fmt::format("folders are nested deeper than {}", kDeepest), path);
  const std::string name = require_name(parts.back(), path);
  parts.pop_back();
  std::string above;
  for (const std::string& part : parts) above += (above.empty() ? "" : "/") + part;
  const auto folder = find(above);
  if (!folder) refuse("no_such_path", "there is no folder of this name on the floppy", above, "<folder> makes one");
  if (!is_folder(folder->block)) refuse("not_a_folder", "this is no folder that files could go into", above);
  return {folder->block, name};
}

// ---- blocks

void Editor::mark(std::uint32_t b, bool free) {
  const auto [at, mask] = bit_of(b);
  const std::uint32_t bits = field(bitmap_, at);
  store(bitmap_, at, free ? bits | mask : bits & ~mask);
}

std::uint32_t Editor::take_block() {
  // From the root upwards, then from the front: what belongs together lies near the directory.
  const auto take = [&](std::uint32_t from, std::uint32_t end) -> std::uint32_t {
    for (std::uint32_t b = from; b < end; ++b)
      if (is_marked_free(at_block(bitmap_), b)) return b;
    return 0;
  };
  std::uint32_t b = take(maybe_free_, blocks_);
  maybe_free_ = b == 0 ? blocks_ : b + 1;
  if (b == 0) b = take(kFirstBlock, root_);
  if (b == 0) refuse_full(1, 0, "block");
  mark(b, false);
  const std::span<std::byte> block = at_block(b);
  std::fill(block.begin(), block.end(), std::byte{0});
  changed_[b] = true;
  return b;
}

void Editor::give_back(std::uint32_t b) {
  if (b > root_) maybe_free_ = std::min(maybe_free_, b);
  mark(b, true);
  changed_[b] = false;  // what is free keeps the bytes it had
}

void Editor::require_room(std::span<const VolumeEdit> edits) const {
  std::uint64_t room = free_blocks();
  for (const VolumeEdit& e : edits) {
    const bool goes = e.kind == VolumeEdit::Kind::drop || (e.kind == VolumeEdit::Kind::put && e.replace);
    const auto place = goes ? find(e.path) : std::nullopt;
    if (!place || place->block == root_) continue;
    std::vector<std::uint32_t> all = {place->block};
    if (type_of(place->block) == EntryType::folder) collect(place->block, all);
    for (const std::uint32_t b : all) room += Disk::blocks_of(entry_of(b));
  }
  if (const std::uint64_t needed = blocks_needed(edits, kind_); needed > room) refuse_full(needed, room, "block");
}

// ---- the changes

std::vector<EditStep> Editor::apply(std::span<const VolumeEdit> edits) {
  const Bytes before_all = image_;
  std::vector<EditStep> steps;
  const auto run = [&] {
    for (const VolumeEdit& edit : edits) {
      const std::int64_t before = free_blocks();
      EditStep step = apply_one(edit);
      step.blocks = before - static_cast<std::int64_t>(free_blocks());
      steps.push_back(std::move(step));
    }
    // What went into a new folder made it younger than it is.
    for (const VolumeEdit& edit : edits) {
      const auto folder =
          edit.kind == VolumeEdit::Kind::make_folder && edit.kept.modified ? find(edit.path) : std::nullopt;
      if (folder) store_date(at_block(folder->block), at::kDate, Date::of(*edit.kept.modified, edit.kept.hundredths));
    }
    rebuild_caches();
  };
  with_all_room(run, [&] {
    image_ = before_all;
    require_room(edits);
  });
  seal_all();
  return steps;
}

EditStep Editor::apply_one(const VolumeEdit& edit) {
  EditStep step{.kind = edit.kind, .path = plain_path(edit.path), .text = edit.text};
  if (edit.kind == VolumeEdit::Kind::move) step.text = plain_path(edit.text);
  if (edit.contents) step.size_bytes = edit.contents->size();
  switch (edit.kind) {
    case VolumeEdit::Kind::put:
      put(edit);
      break;
    case VolumeEdit::Kind::drop:
      drop(edit);
      break;
    case VolumeEdit::Kind::make_folder:
      make_folder(edit);
      break;
    case VolumeEdit::Kind::move:
      move(edit);
      break;
    case VolumeEdit::Kind::relabel:
      relabel(edit.text);
      break;
    case VolumeEdit::Kind::comment: {
      const Place place = require(edit.path);
      set_comment(place.block, edit.text, edit.path);
      touch(place.folder);
      break;
    }
    case VolumeEdit::Kind::protect:
      protect(edit);
      break;
    case VolumeEdit::Kind::boot:
      install_boot(edit);
      break;
    case VolumeEdit::Kind::undelete:
    case VolumeEdit::Kind::bytes:
      refuse_kind(edit.kind, "a floppy");
  }
  return step;
}

void Editor::put(const VolumeEdit& edit) {
  const auto [folder, name] = split(edit.path);
  if (const auto there = find_in(folder, name)) {
    if (is_folder(there->block)) refuse("exists", "a folder has this name", edit.path);
    if (!edit.replace) refuse_exists(edit.path);
    VolumeEdit old{.kind = VolumeEdit::Kind::drop, .path = edit.path};
    drop(old);
  }
  const std::uint32_t header = new_header(folder, name, EntryType::file, edit.kept);
  write_contents(header, *edit.contents);
  link_in(folder, header);
}

void Editor::make_folder(const VolumeEdit& edit) {
  const auto [folder, name] = split(edit.path);
  if (find_in(folder, name)) refuse_exists(edit.path);
  const std::uint32_t header = new_header(folder, name, EntryType::folder, edit.kept);
  link_in(folder, header);
  touched_.push_back(header);  // its cache is made with the others
}

std::uint32_t Editor::new_header(std::uint32_t folder, const std::string& name, EntryType type, const KeptFacts& kept) {
  const std::uint32_t b = take_block();
  store(b, at::kType, kTypeHeader);
  store(b, at::kOwn, b);
  store(b, at::kParent, folder);
  store(b, at::kKind, static_cast<std::uint32_t>(type));
  store(b, at::kProtection, kept.protection.value_or(0));
  Fields header(at_block(b));
  header.byte(at::kName, static_cast<unsigned>(name.size()));
  header.bytes(at::kName + 1, as_view(name));
  store_date(at_block(b), at::kDate, kept.modified ? Date::of(*kept.modified, kept.hundredths) : now_);
  if (!kept.comment.empty()) set_comment(b, kept.comment, as_utf8(name));
  return b;
}

void Editor::write_contents(std::uint32_t header, const ByteSource& contents) {
  const std::uint32_t payload = kind_.payload();
  // At once: a file may be opened anew for each piece of it. It is no larger than the floppy.
  if (cost_of_file(contents.size(), kind_) > free_blocks())
    refuse_full(cost_of_file(contents.size(), kind_), free_blocks(), "block");
  const Bytes bytes = read_up_to(contents, 0, static_cast<std::size_t>(contents.size()));
  store(header, at::kSize, static_cast<std::uint32_t>(contents.size()));
  std::uint32_t list = header, before = 0;
  std::uint32_t in_list = 0, number = 0;
  for (std::uint64_t done = 0; done < contents.size(); ++number) {
    if (in_list == kTableSlots) {
      const std::uint32_t next = take_block();
      store(next, at::kType, kTypeList);
      store(next, at::kOwn, next);
      store(next, at::kParent, header);
      store(next, at::kKind, static_cast<std::uint32_t>(EntryType::file));
      store(list, at::kExtension, next);
      list = next;
      in_list = 0;
    }
    const std::uint32_t b = take_block();
    store(list, pointer_at(in_list), b);
    store(list, at::kHighSeq, ++in_list);
    if (number == 0) store(header, at::kFirstData, b);
    const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(payload, contents.size() - done));
    Fields(at_block(b)).bytes(kind_.fast() ? 0 : at::kData, ByteView(bytes).subspan(static_cast<std::size_t>(done), n));
    done += n;
    if (kind_.fast()) {
      changed_[b] = false;  // it has no checksum
      continue;
    }
    store(b, at::kType, kTypeData);
    store(b, at::kOwn, header);
    store(b, at::kSequence, number + 1);
    store(b, at::kUsed, static_cast<std::uint32_t>(n));
    if (before != 0) store(before, at::kNext, b);
    before = b;
  }
}

void Editor::collect(std::uint32_t folder, std::vector<std::uint32_t>& all) const {
  for (const std::uint32_t b : entries_of(folder)) {
    all.push_back(b);
    if (type_of(b) == EntryType::folder) collect(b, all);
  }
}

void Editor::refuse_linked(std::uint32_t b, const std::string& path) const {
  const bool is_target = type_of(b) == EntryType::file || type_of(b) == EntryType::folder;
  if (is_target && field(b, at::kLinks) != 0)
    refuse("has_links", "other names link to it, and would lead nowhere", path, "take the links off first");
}

void Editor::drop(const VolumeEdit& edit) {
  const Place place = require(edit.path);
  std::vector<std::uint32_t> all = {place.block};
  if (type_of(place.block) == EntryType::folder) collect(place.block, all);
  if (all.size() > 1 && !edit.with_all)
    refuse("not_empty", fmt::format("there {} in this folder", all.size() == 2 ? "is something" : "are things"),
           edit.path, "<with-all> takes them off, too");
  // Links among what goes let go of their targets first.
  for (const std::uint32_t b : all)
    if (type_of(b) == EntryType::file_link || type_of(b) == EntryType::folder_link) drop_link(b);
  for (const std::uint32_t b : all) refuse_linked(b, edit.path);
  unlink(place);
  for (const std::uint32_t b : all) free_entry(b);
  touch(place.folder);
}

/// Takes it out of its target's list.
void Editor::drop_link(std::uint32_t link) {
  std::uint32_t holder = field(link, at::kTarget);
  std::set<std::uint32_t> seen;
  while (holder >= kFirstBlock && holder < blocks_ && seen.insert(holder).second) {
    if (field(holder, at::kLinks) == link) return store(holder, at::kLinks, field(link, at::kLinks));
    holder = field(holder, at::kLinks);
  }
}

void Editor::free_entry(std::uint32_t b) {
  const Entry entry = entry_of(b);
  for (const auto* list : {&entry.data, &entry.extensions, &entry.caches})
    for (const std::uint32_t part : *list) give_back(part);
  give_back(b);
  std::erase(touched_, b);
}

void Editor::move(const VolumeEdit& edit) {
  const Place place = require(edit.path);
  const auto [folder, name] = split(edit.text);
  if (const auto there = find_in(folder, name); there && there->block != place.block) refuse_exists(edit.text);
  for (std::uint32_t above = folder; above != root_; above = field(above, at::kParent))
    if (above == place.block) refuse("into_itself", "a folder cannot go into itself", edit.text);
  unlink(place);
  const std::span<std::byte> header = at_block(place.block);
  std::fill_n(header.begin() + at::kName, 1 + kLongestName, std::byte{0});
  Fields(header).byte(at::kName, static_cast<unsigned>(name.size()));
  Fields(header).bytes(at::kName + 1, as_view(name));
  store(place.block, at::kParent, folder);
  link_in(folder, place.block);
  touch(place.folder);
}

void Editor::relabel(const std::string& label) {
  const std::string name = require_name(label, label);
  const std::span<std::byte> root = at_block(root_);
  std::fill_n(root.begin() + at::kName, 1 + kLongestName, std::byte{0});
  Fields(root).byte(at::kName, static_cast<unsigned>(name.size()));
  Fields(root).bytes(at::kName + 1, as_view(name));
  store_date(root, at::kChanged, now_);
  changed_[root_] = true;
}

void Editor::set_comment(std::uint32_t b, const std::string& comment, const std::string& path) {
  const auto text = latin1_of(comment);
  if (!text || text->size() > kLongestComment || text->find('\0') != std::string::npos)
    throw Error({.fault = Fault::usage,
                 .code = "bad_comment",
                 .what = "a floppy cannot keep this comment",
                 .found = printable(path) + ": " + printable(comment),
                 .expected = fmt::format("at most {} letters of Latin-1", kLongestComment)});
  const std::span<std::byte> header = at_block(b);
  std::fill_n(header.begin() + at::kComment, 1 + kLongestComment, std::byte{0});
  Fields(header).byte(at::kComment, static_cast<unsigned>(text->size()));
  Fields(header).bytes(at::kComment + 1, as_view(*text));
  changed_[b] = true;
}

void Editor::protect(const VolumeEdit& edit) {
  const Place place = require(edit.path);
  const auto bits = parse_protection(edit.text, field(place.block, at::kProtection));
  if (!bits)
    throw Error({.fault = Fault::usage,
                 .code = "bad_protection",
                 .what = "these are no protection bits",
                 .found = printable(edit.text),
                 .expected = "the eight letters hsparwed with - in place of each that is not, or 0x and digits"});
  store(place.block, at::kProtection, *bits);
  touch(place.folder);
}

void Editor::install_boot(const VolumeEdit& edit) {
  constexpr std::size_t kCode = 12, kMost = kBootBytes - kCode;
  Bytes code;
  if (edit.text == "standard") code.assign(usual_boot_code().begin(), usual_boot_code().end());
  if (edit.contents) {
    code = read_up_to(*edit.contents, 0, kBootBytes + 1);
    // A whole boot block: its mark and its root are this disk's own.
    if (code.size() == kBootBytes && as_text(code).starts_with("DOS")) code.erase(code.begin(), code.begin() + kCode);
    if (code.size() > kMost || code.empty())
      throw Error({.fault = Fault::usage,
                   .code = "bad_boot",
                   .what = "this is no boot code",
                   .file = edit.contents->name(),
                   .found = bytes_text(edit.contents->size()),
                   .expected = fmt::format("1 to {} bytes, or a boot block of {}", kMost, kBootBytes)});
  }
  const std::span<std::byte> boot = std::span(image_).first(kBootBytes);
  std::fill(boot.begin() + kCode, boot.end(), std::byte{0});
  Fields(boot).bytes(kCode, code);
  store_be32(boot, kBootSumAt, 0);
  if (!code.empty()) store_be32(boot, kBootSumAt, boot_sum(boot));
}

}  // namespace opifex::amiga
