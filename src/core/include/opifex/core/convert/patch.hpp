/// Small patches: IPS, UPS and BPS, read, applied and made; and text of one length put in the place of another.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/output.hpp"

namespace opifex {

enum class PatchKind { ips, ups, bps };
std::string_view to_string(PatchKind kind);
/// "ips", "ups", "bps".
std::vector<std::string> patch_kinds();

/// Patches, and files of which one is made, are read whole: none of these is larger.
inline constexpr std::uint64_t kMostPatchedBytes = 128 << 20;
/// Of what a patch is applied to, and makes: larger than any disc.
inline constexpr std::uint64_t kMostTargetBytes = std::uint64_t{256} << 30;

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
/// Reads the file whole if its size is one of the two.
PatchFit fit_of(const PatchFacts& facts, const ByteSource& file);

/// Error as apply_patch() has it, for a file that fits so.
void require_fit(const PatchFacts& facts, PatchFit fit, const ByteSource& source, const std::string& file);

/// What comes out: its size, where that is known before.
std::uint64_t patched_bytes(const PatchFacts& facts, ByteView patch, std::uint64_t source_bytes, bool turned_back);

/// Into an empty `out`, which is read again for the checksum; in a few megabytes of memory. True: a UPS was applied to
/// what it had made, and gave the source back. Error (refused): "wrong_source" (not what it is for), "patched_already",
/// "bad_patch"; "wrong_target" if what came out is not what the patch promises.
bool apply_patch(ByteView patch, const ByteSource& source, Output& out, const std::string& file);

struct Patched {
  Bytes bytes;
  bool turned_back = false;
};
/// In memory. Error as above.
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
