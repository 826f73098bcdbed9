/// Small patches: IPS, UPS and BPS, read, applied and made; and text of one length put in the place of another.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex {

enum class PatchKind { ips, ups, bps };
std::string_view to_string(PatchKind kind);
/// "ips", "ups", "bps".
std::vector<std::string> patch_kinds();

/// Files above that are neither patched nor compared: patches are for cartridges.
inline constexpr std::uint64_t kMostPatchedBytes = 128 << 20;

/// What a patch says of itself. Only UPS and BPS have sizes and checksums.
struct PatchFacts {
  PatchKind kind = PatchKind::ips;
  std::optional<std::uint64_t> source_bytes = {}, target_bytes = {};
  std::optional<std::uint32_t> source_crc32 = {}, target_crc32 = {};
  std::uint64_t records = 0;                       ///< of changes, or commands
  std::uint64_t changed_bytes = 0;                 ///< that it carries or names
  std::optional<std::uint64_t> truncates_to = {};  ///< IPS: cut to this length at the end
  std::string metadata = {};                       ///< BPS
};

/// Whole and sound: every record is looked at, and its own checksum. Error (refused, "not_a_patch", "bad_patch").
PatchFacts read_patch(ByteView patch, const std::string& file);

/// The file it is for, as far as the patch can tell.
enum class PatchFit {
  source,  ///< the checksum of the source is right
  target,  ///< that of the target: it was patched already; a UPS turns it back
  other,   ///< neither
  unknown  ///< the patch has none
};
PatchFit fit_of(const PatchFacts& facts, ByteView file);

struct Patched {
  Bytes bytes;
  bool turned_back = false;  ///< a UPS applied to what it had made
};
/// Error (refused): "wrong_source" (not what it is for), "patched_already", "bad_patch"; "wrong_target" if what came
/// out is not what the patch promises.
Patched apply_patch(ByteView patch, ByteView source, const std::string& file);

/// Error (refused, "ips_cannot") where the kind cannot say it: IPS beyond 16 MiB.
Bytes make_patch(PatchKind kind, ByteView source, ByteView target);

/// Same-length replacement. `what` and `with` have one length, and are not empty.
struct Replacement {
  Bytes what, with;
};
/// "OLD=NEW" as text, or as hexadecimal digits. Error (usage) if there is no "=", a side is empty, digits are none, or
/// the lengths differ.
Replacement parse_replacement(std::string_view text, bool hexadecimal);
/// Where it stands, without overlaps.
std::vector<std::uint64_t> find_all(ByteView bytes, const Replacement& replacement);

}  // namespace opifex
