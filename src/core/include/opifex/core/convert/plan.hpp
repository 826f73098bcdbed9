/// From any image to any format: what will be written, and what would be lost.
#pragma once

#include <filesystem>
#include <functional>
#include <map>
#include <set>
#include <string>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/io/output.hpp"
#include "opifex/core/io/target.hpp"

namespace opifex {

/// What the sectors of a data track hold beyond their 2048 user bytes.
struct UserDataScan {
  std::uint64_t sectors = 0;
  std::uint64_t form2 = 0;        ///< Form 2 (or formless) payloads that are not all zero
  std::uint64_t empty_form2 = 0;  ///< filler
  std::uint64_t bad = 0;          ///< wrong EDC or no sync
  std::uint64_t irregular = 0;    ///< cannot be regenerated from their user data
  std::optional<cd::Lba> first_form2 = {}, first_irregular = {}, first_bad = {};
};
/// Reads the stored sectors of the track from index 01 on, on all threads.
UserDataScan scan_user_data(const CdImage& disc, int track, JobContext& context);

struct ConvertRequest {
  const Format* target = nullptr;
  std::filesystem::path out;
  Settings settings = {};               ///< of the target format
  std::set<std::string> accepted = {};  ///< loss kinds the user agreed to
};

struct Conversion {
  WritePlan plan;
  std::vector<Loss> losses;
  std::vector<Warning> warnings;
  /// The losses that need the user's word and have it not.
  std::vector<Loss> refused() const;
  std::uint64_t output_bytes() const;
};

/// Reads what it must to know every loss; writes nothing. Error if the target cannot hold this image at all.
Conversion plan_conversion(const Image& image, const ConvertRequest& request, JobContext& context);

/// The losses that show in the layout alone, before a sector is read. `data_track` is the one that a format of a single
/// track keeps; 0: none.
std::vector<Loss> layout_losses(const cd::Layout& layout, const Capabilities& holds, int data_track);

/// Error (needs_word, "loss") that names the losses not accepted, and a format that loses nothing.
void refuse_losses(std::span<const Loss> losses, const std::string& file, const Format& target,
                   std::string_view lossless);
void refuse_losses(const Conversion& conversion, const Image& image, const Format& target);

struct WrittenFile {
  std::filesystem::path path;
  std::uint64_t size_bytes = 0;
  std::string sha1;  ///< only if asked for
};
/// Looks at outputs that are complete but have not got their names yet: `staged` shows them under the names they are
/// going to have. An Error leaves nothing of them.
using Inspection = std::function<void(const FileSpacePtr& staged, const std::vector<WrittenFile>& written)>;

struct WriteJob {
  Existing existing = Existing::keep;
  InputFiles inputs = {};  ///< what the job reads beside the image's own files: never written
  bool hash_outputs = false;
  Inspection inspect = {};
  TargetFacts target = {};
  /// Outputs that are written already, by target: their file only gets its name.
  std::map<std::filesystem::path, std::filesystem::path> finished = {};
  /// Finished files that are no outputs of the plan but belong to the set: they get their names with it, before it.
  std::map<std::filesystem::path, std::filesystem::path> adopted = {};
  /// What tells of the image (its sector map): a job that is killed never leaves the image without it.
  std::map<std::filesystem::path, std::string> texts = {};
};
/// The files a plan would make, with what they take at most.
std::vector<PlannedFile> planned_files(const WritePlan& plan);
/// The walls a plan would run into: Error (needs_word) if a file is there already, too large for the drive, or there is
/// no room.
void check_plan(const Image& image, const WritePlan& plan, const WriteJob& job);
/// Carries a plan out: checks room and existing files, streams, syncs, puts in place. On any Error, or when stopped, no
/// file stands under a final name.
std::vector<WrittenFile> write_outputs(const Image& image, const WritePlan& plan, const WriteJob& job,
                                       JobContext& context);

/// The name an output of this image has, without extension.
std::string output_stem(const Image& image);

/// `out` or, if empty, the name beside the input with the format's extension.
std::filesystem::path default_output(const Image& image, const Format& target, const std::filesystem::path& out,
                                     const Settings& settings = {});

/// The files of an image, for refusing to write over them.
std::vector<std::filesystem::path> input_paths(const Image& image);

/// Of the files that were written the one that stands for all: the sheet, the header, the first part.
const WrittenFile& leading_file(const WritePlan& plan, const std::vector<WrittenFile>& written);

}  // namespace opifex
