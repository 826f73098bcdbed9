#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/nvram/nvram.hpp"

#include "../edits.hpp"
#include "layout.hpp"

namespace opifex::nvram {
namespace {

void require_name(const std::string& name) {
  const bool good = !name.empty() && name.size() <= kLongestName && name.find('/') == std::string::npos &&
                    std::all_of(name.begin(), name.end(), &is_plain);
  if (good) return;
  std::string proposal;
  for (const char c : name)
    if (proposal.size() < kLongestName) proposal += is_plain(c) && c != '/' ? c : '_';
  throw Error({.fault = Fault::usage,
               .code = "bad_name",
               .what = "the save memory cannot have this name",
               .found = printable(name),
               .expected = fmt::format("1 to {} letters of ASCII without /, for example {}", kLongestName,
                                       proposal.empty() ? "save" : proposal),
               .hint = "<name> gives a file another name"});
}

std::uint64_t bytes_needed(std::uint64_t size) { return kFileHeader + round_up<std::uint64_t>(size, 4); }

}  // namespace

Editor::Editor(ByteView image) : image_(image.begin(), image.end()), memory_(read_memory(image)) {
  refuse_damaged(memory_.findings.begin(), memory_.findings.end());
}

void Editor::reread() { memory_ = read_memory(image_); }

const Block* Editor::find(const std::string& name) const {
  for (const Block& b : memory_.blocks)
    if (b.is_file && (folded(b.name) == folded(name) || shown_name(b.name) == name)) return &b;
  return nullptr;
}

EditStep Editor::apply(const VolumeEdit& edit) {
  // What is there is called as it is listed; what comes, as it will be.
  const Block* there = edit.kind == VolumeEdit::Kind::put ? nullptr : find(edit.path);
  EditStep step{.kind = edit.kind, .path = shown_name(there ? there->name : edit.path), .text = edit.text};
  if (edit.kind == VolumeEdit::Kind::move) step.text = shown_name(edit.text);
  switch (edit.kind) {
    case VolumeEdit::Kind::put:
      put(edit, step);
      break;
    case VolumeEdit::Kind::drop:
      step.size_bytes = drop(edit.path);
      break;
    case VolumeEdit::Kind::move:
      rename(edit.path, edit.text);
      break;
    default:
      refuse_kind(edit.kind, "the save memory");
  }
  reread();
  return step;
}

void Editor::put(const VolumeEdit& edit, EditStep& step) {
  require_name(edit.path);
  if (find(edit.path)) {
    if (!edit.replace) refuse_exists(edit.path);
    drop(edit.path);
    reread();
  }
  const std::uint64_t need = bytes_needed(edit.contents->size());
  std::uint32_t largest = 0, id = 0;
  const Block* room = nullptr;
  for (const Block& b : memory_.blocks) {
    if (b.is_file) id = std::max(id, b.id);
    if (b.is_file) continue;
    largest = std::max(largest, b.size_bytes);
    if (!room && b.size_bytes >= need) room = &b;
  }
  if (!room) refuse_full(need, largest, "byte");
  const std::uint32_t at = room->offset, all = room->size_bytes, forward = field(at + at::kForward);
  const std::uint32_t rest = all - static_cast<std::uint32_t>(need);
  const std::uint32_t size = rest < kFreeHeader ? all : static_cast<std::uint32_t>(need);
  if (size != all) {
    const std::uint32_t behind = at + size;
    store(behind, kFreeMark);
    store(behind + at::kForward, forward);
    store(behind + at::kBackward, at);
    store(behind + at::kSize, rest);
    store(behind + at::kHeader, kFreeHeader);
    store(at + at::kForward, behind);
    store(forward + at::kBackward, behind);
  }
  std::fill_n(image_.begin() + at + kFreeHeader, size - kFreeHeader, std::byte{0});
  store(at, kFileMark);
  store(at + at::kSize, size);
  store(at + at::kHeader, kFileHeader);
  store(at + at::kByteCount, static_cast<std::uint32_t>(edit.contents->size()));
  store(at + at::kId, edit.kept.id.value_or(id + 1));
  store(at + at::kType, edit.kept.type.value_or(0));
  Fields(image_).bytes(at + at::kName, as_view(edit.path));
  edit.contents->read_at(0,
                         std::span(image_).subspan(at + kFileHeader, static_cast<std::size_t>(edit.contents->size())));
  step.size_bytes = edit.contents->size();
}

/// The block turns free, and joins those that touch it: the next one, then the one before.
std::uint64_t Editor::drop(const std::string& name) {
  const Block* block = find(name);
  if (!block) refuse_no_such_path(name);
  const std::uint32_t b = block->offset;
  store(b, kFreeMark);
  store(b + at::kHeader, kFreeHeader);
  const auto join = [&](std::uint32_t first, std::uint32_t second) {
    const bool both = field(first) == kFreeMark && field(second) == kFreeMark;
    if (!both || first + field(first + at::kSize) != second) return false;
    const std::uint32_t after = field(second + at::kForward);
    store(first + at::kSize, field(first + at::kSize) + field(second + at::kSize));
    store(first + at::kForward, after);
    store(after + at::kBackward, first);
    return true;
  };
  join(b, field(b + at::kForward));
  join(field(b + at::kBackward), b);
  return block->byte_count;
}

void Editor::rename(const std::string& name, const std::string& to) {
  const Block* block = find(name);
  if (!block) refuse_no_such_path(name);
  require_name(to);
  if (const Block* there = find(to); there && there != block) refuse_exists(to);
  std::fill_n(image_.begin() + block->offset + at::kName, kNameBytes, std::byte{0});
  Fields(image_).bytes(block->offset + at::kName, as_view(to));
}

void require_room(ByteView image, std::span<const VolumeEdit> edits) {
  const Memory now = read_memory(image);
  std::uint64_t room = 0, needed = 0;
  for (const Block& b : now.blocks)
    if (!b.is_file) room += b.size_bytes;
  for (const VolumeEdit& e : edits) {
    if (e.kind == VolumeEdit::Kind::put) needed += bytes_needed(e.contents->size());
    if (e.kind != VolumeEdit::Kind::drop && !(e.kind == VolumeEdit::Kind::put && e.replace)) continue;
    for (const Block& b : now.blocks)
      if (b.is_file && folded(b.name) == folded(e.path)) room += b.size_bytes;
  }
  if (needed > room) refuse_full(needed, room, "byte");
}

}  // namespace opifex::nvram
