/// Patches applied, made and looked at; text of one length put in the place of another.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include "opifex/core/convert/patch.hpp"
#include "opifex/core/jobs/job.hpp"

namespace opifex::jobs {

/// Where the result goes. With `replace` the input itself gets the new bytes, and what it was is kept beside it.
struct ChangeRules {
  std::filesystem::path out = {};
  bool replace = false, plan_only = false;
  InputFiles inputs = {};
};

struct PatchIdentifyJob {
  std::vector<std::string> patches;
};
struct PatchApplyJob {
  static constexpr bool kChangesInPlace = true;
  std::filesystem::path patch, source;  ///< source: empty where it is looked for
  std::filesystem::path among = {};     ///< a folder with the user's files
  ChangeRules rules = {};
};
struct PatchMakeJob {
  std::filesystem::path before, after;
  PatchKind kind = PatchKind::bps;
  ChangeRules rules = {};
};
struct ReplaceJob {
  static constexpr bool kChangesInPlace = true;
  std::filesystem::path file;
  std::vector<Replacement> replacements;
  std::uint64_t count = 1;  ///< how often each has to stand there
  ChangeRules rules = {};
};

struct PatchTold {
  std::filesystem::path path;
  PatchFacts facts;
};
struct Replaced {
  std::vector<std::uint64_t> offsets;
  Replacement replacement;
  std::vector<std::string> context;  ///< what stands around each, as text, unprintable bytes as dots
};
/// What was changed or made, or would be.
struct Changed {
  std::string what;  ///< "patched", "made a patch", "replaced", "turned back"
  std::filesystem::path input, out;
  std::string inside = {};  ///< what of the input was patched, if not all of it: "the ROM behind the copier's header"
  std::uint64_t size_bytes = 0, bytes_changed = 0;
  std::string sha1 = {};
  std::filesystem::path kept = {};  ///< what the input was; empty: it was not replaced
  std::optional<PatchFacts> patch = {};
  std::vector<Replaced> replaced = {};
  std::vector<Warning> warnings = {};
  bool planned_only = false;
};

Outcome run(const PatchIdentifyJob& job, Listener& listener, JobContext& context);
/// Error (refused): as apply_patch(); "no_file_fits" if none among them does.
Outcome run(const PatchApplyJob& job, Listener& listener, JobContext& context);
Outcome run(const PatchMakeJob& job, Listener& listener, JobContext& context);
/// Error (refused): "no_match", "other_count".
Outcome run(const ReplaceJob& job, Listener& listener, JobContext& context);

/// Writes `bytes` as the rules have it; `input` is what they were made of. The name under which the old file is kept.
std::filesystem::path write_change(const std::filesystem::path& input, const std::filesystem::path& out, ByteView bytes,
                                   const ChangeRules& rules);
/// A file of the user's, whole. Error (refused, "too_large") above kMostPatchedBytes.
Bytes read_whole(const std::filesystem::path& path);
/// "2026-12-01 10.30.00", universal time: for names that sort by it.
std::string date_of_now();
/// NAME (2026-12-01 10.30.00).EXT beside `path`, a name that is free.
std::filesystem::path dated_name(const std::filesystem::path& path);

}  // namespace opifex::jobs
