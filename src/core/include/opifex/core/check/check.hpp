/// Is an image intact, complete, and what are its hashes: every sector and every byte in one pass.
#pragma once

#include <filesystem>
#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/progress.hpp"
#include "opifex/core/cd/examine.hpp"
#include "opifex/core/image/format.hpp"

namespace opifex {

namespace rom {
struct Examined;
}

/// From best to worst; a set is as bad as its worst part.
struct Volume;

enum class Verdict { intact, repairable, damaged, incomplete, unsupported };
std::string_view to_string(Verdict verdict);

enum class Severity { note, warning, error };
std::string_view to_string(Severity severity);

struct Finding {
  std::string code;
  Severity severity = Severity::warning;
  std::string message;
  std::string file = {};
  std::optional<std::uint64_t> offset = {};
  std::optional<cd::Lba> lba = {};
  std::uint64_t count = 1;
  std::vector<std::string> files = {};  ///< of the disc's file system that the damage hits
};

/// Neighbouring sectors with the same fault.
struct DamagedRange {
  cd::Lba first = 0;
  std::uint32_t sectors = 0;
  cd::Damage damage = cd::Damage::none;
  unsigned problems = 0;
  bool repairable = false;
};

struct TrackCheck {
  int number = 1;
  cd::TrackMode mode = {};
  std::uint32_t sectors = 0;  ///< stored
  std::uint64_t size_bytes = 0;
  std::map<std::string, std::uint64_t> kinds = {};  ///< sectors by kind: "mode1", "cooked", "no_sync" ...
  std::uint64_t bad = 0, repairable = 0, authored = 0;
  std::vector<DamagedRange> ranges = {};
  /// Of the stored sectors with their pregap, audio little-endian: what a bin of this track alone would have.
  std::vector<NamedHash> hashes = {};
  Verdict verdict = Verdict::intact;
};

struct FileCheck {
  std::filesystem::path path;
  std::uint64_t size_bytes = 0;
  std::vector<NamedHash> hashes = {};
};

/// A file that holds the same in a form that this image does not have: a bin of whole sectors of an ISO's user data, a
/// ROM in another order of its bytes.
struct OtherForm {
  int track = 0;        ///< of a CD; 0: the whole image
  std::string through;  ///< for people
  FileCheck file;
};

struct CheckResult {
  Verdict verdict = Verdict::intact;
  std::vector<FileCheck> files;
  std::optional<FileCheck> disc;  ///< whole, as a container holds it
  /// All tracks of a CD one behind the other, as one bin would have them; only where CheckOptions::wants_whole asks.
  std::optional<FileCheck> whole;
  /// The ROM alone, as the console sees it: without what dump programs put around it.
  std::optional<FileCheck> rom;
  std::vector<OtherForm> others;                   ///< only of sizes that CheckOptions::wants_whole asks for
  std::shared_ptr<const rom::Examined> rom_facts;  ///< null: no ROM
  std::vector<TrackCheck> tracks;
  std::vector<Finding> findings;
  std::uint64_t bytes_read = 0;
};

enum class CheckDepth {
  everything,
  beside_a_job  ///< another job reads the content: only what that does not look at, and what its reading has shown
};

struct CheckOptions {
  std::vector<std::string> hashes = {"crc32", "md5", "sha1"};
  CheckDepth depth = CheckDepth::everything;
  const std::vector<Volume>* volumes = nullptr;  ///< the image's file systems, if they are read already
  /// Whether anybody knows a file of this size: hashing a CD as one bin, or in another form, costs as much again. Null:
  /// nobody does.
  std::function<bool(std::uint64_t size_bytes)> wants_whole = nullptr;
};

CheckResult check_image(const Image& image, const CheckOptions& options, JobContext& context);

/// True of a damaged floppy whose tables, made anew, leave no damage.
bool mends_whole(const Image& image);

/// Before hours of hashing: Error "nothing_to_repair" if the image has no sectors with error correction.
void refuse_unrepairable(const Image& image);

/// The image with every sector that `result` calls repairable mended as it is read. Nothing is written.
Image repaired_view(const Image& image, const CheckResult& result);

/// Plan of a repaired copy in the image's own format. Error (refused) if there is nothing to repair.
WritePlan plan_repaired_copy(const Image& repaired, const std::filesystem::path& out);

}  // namespace opifex
