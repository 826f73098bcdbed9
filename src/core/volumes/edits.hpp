/// What editors of volumes have in common: their refusals, and what of an image they changed.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "opifex/core/volumes/file_system.hpp"

namespace opifex {

/// Parts of a path between '/'; empty ones are left out.
std::vector<std::string> path_parts(const std::string& path);

/// The same path without what may stand around and between its parts: as entries have it.
std::string plain_path(const std::string& path);

[[noreturn]] void refuse_no_such_path(const std::string& path);
/// Error (usage, "not_possible"): what such an image has not.
[[noreturn]] void refuse_kind(VolumeEdit::Kind kind, std::string_view where);
/// Error (needs_word).
[[noreturn]] void refuse_exists(const std::string& path);
/// Error (needs_word): so many units are needed for all that is put, and so many are free.
[[noreturn]] void refuse_full(std::uint64_t needed, std::uint64_t room, std::string_view unit);
/// Error (refused, "damaged"): how much is wrong, and what first.
[[noreturn]] void refuse_damaged_image(std::size_t errors, const std::string& first);

/// Error unless none of the findings is an error.
template <typename Iterator>
void refuse_damaged(Iterator first, Iterator last) {
  std::size_t errors = 0;
  std::string message;
  for (; first != last; ++first) {
    if (!first->error) continue;
    if (errors++ == 0) message = first->message;
  }
  if (errors > 0) refuse_damaged_image(errors, message);
}

/// Runs `apply`; where it ends for want of room, `require_room` says first how much all of the changes would need.
template <typename Apply, typename RequireRoom>
void with_all_room(const Apply& apply, const RequireRoom& require_room) {
  try {
    apply();
  } catch (const Error& e) {
    if (e.details.cause == Cause::no_space) require_room();
    throw;
  }
}

/// Changes of the kind `bytes`, all or none: where each byte of a file lies in the image is told by `places`; nothing
/// for a file that is not there or not readable. Error: "edit_save", "edit_length", "edit_range", "edit_old",
/// "edit_overlap".
EditStep bytes_step(const VolumeEdit& edit);
void change_bytes(Bytes& image, std::span<const VolumeEdit> edits,
                  const std::function<std::optional<std::vector<std::size_t>>(const std::string& file)>& places);

/// Bytes that differ, as ranges from `base`; those nearer to each other than a few bytes are one.
std::vector<ChangedRange> changed_ranges(ByteView before, ByteView after, std::uint64_t base = 0);

}  // namespace opifex
