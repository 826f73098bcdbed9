#include <algorithm>
#include <charconv>

#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/ps1card/card.hpp"

#include "../edits.hpp"
#include "frames.hpp"

namespace opifex::ps1card {
namespace {

/// A save as it comes in: a single one, or bare blocks with a name of the user's.
struct Incoming {
  std::string name;
  Bytes blocks, rest;  // rest: what its directory frame has behind the name
};

std::string stem_of(const std::string& path) {
  const std::size_t slash = path.rfind('/');
  const std::string file = slash == std::string::npos ? path : path.substr(slash + 1);
  const std::size_t dot = file.rfind('.');
  return dot == std::string::npos || dot == 0 ? file : file.substr(0, dot);
}

std::string require_name(const std::string& name) {
  const bool good = !name.empty() && name.size() <= kLongestName && std::all_of(name.begin(), name.end(), &is_plain);
  if (good) return name;
  std::string proposal = "BE";
  for (const char c : name)
    if (is_plain(c) && proposal.size() < kLongestName) proposal += c;
  throw Error(
      {.fault = Fault::usage,
       .code = "bad_name",
       .what = "a memory card cannot have this name",
       .found = printable(name),
       .expected = "1 to 20 letters without blanks: two of the region, ten of the game's code, up to eight more",
       .hint = fmt::format("<name> NAME gives it one, for example {}", printable(proposal))});
}

[[noreturn]] void refuse_save(const char* code, const char* what, const VolumeEdit& edit, std::string found) {
  throw Error({.code = code, .what = what, .file = edit.contents->name(), .found = std::move(found)});
}

Incoming incoming(const VolumeEdit& edit) {
  constexpr std::size_t kMost = kFrameBytes + kSaveBlocks * kSaveBlockBytes;
  Bytes bytes = read_up_to(*edit.contents, 0, kMost + 1);
  const bool single = bytes.size() % kSaveBlockBytes == kFrameBytes && bytes.size() > kFrameBytes;
  if (single) {
    const Card card = read_single(bytes);
    refuse_damaged(card.findings.begin(), card.findings.end());
  }
  Incoming in{.name = edit.named ? edit.path : single ? name_in(bytes) : stem_of(edit.path), .blocks = {}, .rest = {}};
  require_name(in.name);
  if (!single && (bytes.empty() || bytes.size() % kSaveBlockBytes != 0 || bytes.size() > kMost))
    refuse_save("bad_size", "this is no save of this console", edit, bytes_text(edit.contents->size()));
  if (single) in.rest.assign(bytes.begin() + at::kRest, bytes.begin() + at::kXor);
  in.blocks.assign(bytes.begin() + (single ? kFrameBytes : 0), bytes.end());
  if (as_text(ByteView(in.blocks).first(2)) != "SC")
    refuse_save("not_a_save", "this is no save: it does not begin as one does", edit,
                hex(ByteView(in.blocks).first(2)));
  return in;
}

}  // namespace

Editor::Editor(ByteView card) : image_(card.begin(), card.end()), card_(read_card(card)) {
  refuse_damaged(card_.findings.begin(), card_.findings.end());
}

std::span<std::byte> Editor::frame(unsigned number) {
  return std::span(image_).subspan(number * kFrameBytes, kFrameBytes);
}

void Editor::reread() { card_ = read_card(image_); }

const Save& Editor::require(const std::string& name) const {
  for (const Save& save : card_.saves)
    if (save.name == name || shown_name(save.name) == name) return save;
  refuse_no_such_path(name);
}

EditStep Editor::apply(const VolumeEdit& edit) {
  EditStep step{.kind = edit.kind, .path = edit.path, .text = edit.text};
  const auto before = static_cast<std::int64_t>(card_.free_blocks);
  switch (edit.kind) {
    case VolumeEdit::Kind::put:
      put(edit, step);
      break;
    case VolumeEdit::Kind::drop:
      drop(edit.path, step);
      break;
    case VolumeEdit::Kind::undelete:
      undelete(edit.path, step);
      break;
    case VolumeEdit::Kind::move:
      step.path = shown_name(require(edit.path).name);
      step.text = shown_name(edit.text);
      rename(edit.path, edit.text);
      break;
    default:
      refuse_kind(edit.kind, "a memory card");
  }
  reread();
  step.blocks = before - static_cast<std::int64_t>(card_.free_blocks);
  return step;
}

/// Never used ones first, then those of deleted saves; never one with a broken frame.
std::vector<unsigned> Editor::choose_blocks(std::size_t count) const {
  std::vector<unsigned> chosen;
  for (const bool unused : {true, false})
    for (unsigned f = 1; f <= kSaveBlocks && chosen.size() < count; ++f) {
      const std::uint32_t state = state_of(frame_of(image_, f));
      const bool fits = unused ? state == kFree : state >= kDeletedFirst && state <= kDeletedLast;
      if (fits && !has_broken_frame(image_, f)) chosen.push_back(f);
    }
  if (chosen.size() < count) refuse_full(count, chosen.size(), "block");
  return chosen;
}

void Editor::write_free(unsigned number) {
  const std::span<std::byte> f = frame(number);
  std::fill(f.begin(), f.end(), std::byte{0});
  Fields fields(f);
  fields.le(at::kState, kFree, 4);
  fields.le(at::kNext, kNoNext, 2);
  seal(f);
}

void Editor::put(const VolumeEdit& edit, EditStep& step) {
  const Incoming in = incoming(edit);
  step.path = shown_name(in.name);
  step.size_bytes = in.blocks.size();
  const bool there =
      std::any_of(card_.saves.begin(), card_.saves.end(), [&](const Save& s) { return s.name == in.name; });
  if (there && !edit.replace) refuse_exists(in.name);
  if (there) {
    EditStep ignored;
    drop(in.name, ignored);
    reread();
  }
  const std::vector<unsigned> blocks = choose_blocks(in.blocks.size() / kSaveBlockBytes);
  // What is left of a deleted save that loses a block is of no use: its frames become free ones.
  for (const Save& gone : card_.deleted) {
    const auto taken = [&](unsigned b) { return std::find(blocks.begin(), blocks.end(), b) != blocks.end(); };
    if (std::any_of(gone.chain.begin(), gone.chain.end(), taken))
      for (const unsigned b : gone.chain) write_free(b);
  }
  for (std::size_t i = 0; i < blocks.size(); ++i) {
    Fields(image_).bytes(blocks[i] * kSaveBlockBytes,
                         ByteView(in.blocks).subspan(i * kSaveBlockBytes, kSaveBlockBytes));
    const std::span<std::byte> f = frame(blocks[i]);
    std::fill(f.begin(), f.end(), std::byte{0});
    Fields fields(f);
    const bool last = i + 1 == blocks.size();
    fields.le(at::kState, i == 0 ? kFirst : last ? kLast : kMiddle, 4);
    fields.le(at::kNext, last ? kNoNext : blocks[i + 1] - 1, 2);
    if (i == 0) {
      fields.le(at::kSize, in.blocks.size(), 4);
      fields.bytes(at::kName, as_view(in.name));
      fields.bytes(at::kRest, in.rest);
    }
    seal(f);
  }
}

void Editor::drop(const std::string& name, EditStep& step) {
  const Save save = require(name);
  step.path = shown_name(save.name);
  step.size_bytes = save.chain.size() * kSaveBlockBytes;
  for (const unsigned b : save.chain) {
    Fields(frame(b)).le(at::kState, state_of(frame(b)) + kDeletedBy, 4);
    seal(frame(b));
  }
}

/// By its name, or by the number of its first frame where several have the name.
void Editor::undelete(const std::string& which, EditStep& step) {
  unsigned number = 0;
  std::from_chars(which.data(), which.data() + which.size(), number);
  std::vector<const Save*> found;
  for (const Save& save : card_.deleted)
    if (save.name == which || shown_name(save.name) == which || std::to_string(save.first) == which)
      found.push_back(&save);
  if (found.empty()) refuse_no_such_path(which);
  if (found.size() > 1)
    throw Error({.fault = Fault::usage,
                 .code = "several_saves",
                 .what = "several deleted saves have this name",
                 .found = fmt::format("{}, entries {} and {}", printable(which), found[0]->first, found[1]->first),
                 .hint = "name the number of the entry"});
  const Save save = *found.front();
  if (!save.flaw.empty())
    throw Error(
        {.code = "not_whole", .what = "the save cannot come back: " + save.flaw, .found = shown_name(save.name)});
  if (std::any_of(card_.saves.begin(), card_.saves.end(), [&](const Save& s) { return s.name == save.name; }))
    refuse_exists(shown_name(save.name));
  step.path = shown_name(save.name);
  step.size_bytes = save.chain.size() * kSaveBlockBytes;
  for (const unsigned b : save.chain) {
    Fields(frame(b)).le(at::kState, state_of(frame(b)) - kDeletedBy, 4);
    seal(frame(b));
  }
}

void Editor::rename(const std::string& name, const std::string& to) {
  const Save save = require(name);
  require_name(to);
  if (to != save.name &&
      std::any_of(card_.saves.begin(), card_.saves.end(), [&](const Save& s) { return s.name == to; }))
    refuse_exists(to);
  const std::span<std::byte> f = frame(save.first);
  std::fill(f.begin() + at::kName, f.begin() + at::kRest, std::byte{0});
  Fields(f).bytes(at::kName, as_view(to));
  seal(f);
}

void require_room(ByteView card, std::span<const VolumeEdit> edits) {
  const Card now = read_card(card);
  std::uint64_t room = now.usable_blocks, needed = 0;
  for (const VolumeEdit& e : edits) {
    if (e.kind == VolumeEdit::Kind::put) needed += e.contents->size() / kSaveBlockBytes;
    const bool goes = e.kind == VolumeEdit::Kind::drop || (e.kind == VolumeEdit::Kind::put && e.replace);
    if (!goes) continue;
    const std::string name = e.kind == VolumeEdit::Kind::drop || e.named ? e.path : incoming(e).name;
    for (const Save& s : now.saves)
      if (s.name == name) room += s.chain.size();
  }
  if (needed > room) refuse_full(needed, room, "block");
}

}  // namespace opifex::ps1card
