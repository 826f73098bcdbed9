#include "edits.hpp"

#include <cstring>
#include <map>

#include "opifex/core/base/text.hpp"

namespace opifex {

std::vector<std::string> path_parts(const std::string& path) {
  std::vector<std::string> parts;
  for (std::size_t at = 0; at <= path.size();) {
    const std::size_t end = std::min(path.find('/', at), path.size());
    if (end > at) parts.push_back(path.substr(at, end - at));
    at = end + 1;
  }
  return parts;
}

std::string plain_path(const std::string& path) {
  std::string plain;
  for (const std::string& part : path_parts(path)) plain += (plain.empty() ? "" : "/") + part;
  return plain;
}

void refuse_no_such_path(const std::string& path) {
  throw Error({.fault = Fault::usage,
               .code = "no_such_path",
               .what = "nothing in the image has this name",
               .found = printable(path),
               .hint = "<job files> shows what is in it"});
}

void refuse_kind(VolumeEdit::Kind kind, std::string_view where) {
  const auto what = [&]() -> std::string_view {
    switch (kind) {
      case VolumeEdit::Kind::make_folder:
        return "folders";
      case VolumeEdit::Kind::relabel:
        return "a label";
      case VolumeEdit::Kind::comment:
        return "comments";
      case VolumeEdit::Kind::protect:
        return "protection bits";
      case VolumeEdit::Kind::undelete:
        return "a way back for what was deleted";
      case VolumeEdit::Kind::boot:
        return "boot code";
      default:
        return "changes of this kind";
    }
  };
  throw Error({.fault = Fault::usage,
               .code = "not_possible",
               .what = fmt::format("{} has not {}", where, what()),
               .hint = "<job help> edit tells what there is"});
}

void refuse_exists(const std::string& path) {
  throw Error({.fault = Fault::needs_word,
               .code = "exists",
               .cause = Cause::exists,
               .what = "something in the image has this name already",
               .found = printable(path),
               .hint = "<overwrite> replaces a file; <name> gives another name"});
}

void refuse_full(std::uint64_t needed, std::uint64_t room, std::string_view unit) {
  throw Error({.fault = Fault::needs_word,
               .code = "full",
               .cause = Cause::no_space,
               .what = "there is not enough room in the image: nothing of it was changed",
               .found = plural(room, unit) + " free",
               .expected = grouped(needed) + " for all that is to be put there",
               .hint = "take something off in the same call with <drop>, or put less"});
}

void refuse_damaged_image(std::size_t errors, const std::string& first) {
  throw Error({.code = "damaged",
               .what = "the image is damaged: it is never changed so",
               .found = first + (errors > 1 ? fmt::format(", and {} more", errors - 1) : ""),
               .expected = "an image without errors",
               .hint = "<job check> tells all of them; <job extract> still reads what is sound"});
}

EditStep bytes_step(const VolumeEdit& edit) {
  EditStep step{.kind = edit.kind, .path = edit.path};
  step.size_bytes = edit.new_bytes.size();
  return step;
}

void change_bytes(Bytes& image, std::span<const VolumeEdit> edits,
                  const std::function<std::optional<std::vector<std::size_t>>(const std::string& file)>& places) {
  const auto refuse = [](const char* code, const char* what, const VolumeEdit& e, std::string found = {},
                         std::string expected = {}) {
    throw Error({.code = code,
                 .what = what,
                 .found = fmt::format("{} @ {}{}", printable(e.path), e.offset, found.empty() ? "" : ": " + found),
                 .expected = std::move(expected)});
  };
  std::map<std::size_t, std::byte> changes;
  for (const VolumeEdit& e : edits) {
    if (e.kind != VolumeEdit::Kind::bytes) continue;
    const auto at = places(e.path);
    if (!at) refuse("edit_save", "there is no readable file of this name", e);
    if (e.old_bytes.empty() || e.old_bytes.size() != e.new_bytes.size())
      refuse("edit_length", "old and new bytes have not one length", e);
    if (e.offset > at->size() || e.old_bytes.size() > at->size() - e.offset)
      refuse("edit_range", "these bytes lie behind the end of the file", e, "", fmt::format("{} bytes", at->size()));
    for (std::size_t i = 0; i < e.old_bytes.size(); ++i) {
      const std::size_t place = (*at)[static_cast<std::size_t>(e.offset) + i];
      if (image[place] != e.old_bytes[i])
        refuse("edit_old", "other bytes stand there", e, hex(ByteView(image).subspan(place, 1)),
               hex(ByteView(e.old_bytes).subspan(i, 1)));
      if (!changes.emplace(place, e.new_bytes[i]).second)
        refuse("edit_overlap", "two changes are of the same bytes", e);
    }
  }
  for (const auto& [place, value] : changes) image[place] = value;
}

std::vector<ChangedRange> changed_ranges(ByteView before, ByteView after, std::uint64_t base) {
  constexpr std::size_t kNear = 8, kStep = 512;
  std::vector<ChangedRange> ranges;
  std::size_t first = 0, end = 0;  // of the range at hand; empty: none
  const auto flush = [&] {
    if (end == first) return;
    const ByteView bytes = after.subspan(first, end - first);
    ranges.push_back({base + first, {bytes.begin(), bytes.end()}});
    first = end;
  };
  for (std::size_t at = 0; at < after.size(); ++at) {
    // Most of an image stays as it is: measured, a tenth of the time.
    if (at % kStep == 0 && at + kStep <= after.size() && std::memcmp(&before[at], &after[at], kStep) == 0) {
      at += kStep - 1;
      continue;
    }
    if (before[at] == after[at]) continue;
    if (end == first || at - end > kNear) {
      flush();
      first = at;
    }
    end = at + 1;
  }
  flush();
  return ranges;
}

void apply_ranges(Bytes& image, std::span<const ChangedRange> ranges) {
  for (const ChangedRange& r : ranges)
    std::copy(r.bytes.begin(), r.bytes.end(), image.begin() + static_cast<std::ptrdiff_t>(r.offset));
}

std::string_view to_string(VolumeEdit::Kind kind) {
  constexpr std::array<std::string_view, 10> kNames = {"put",     "drop",    "folder",   "move", "label",
                                                       "comment", "protect", "undelete", "boot", "bytes"};
  return kNames.at(static_cast<std::size_t>(kind));
}

}  // namespace opifex
