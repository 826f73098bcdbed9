/// Files out of an image into a folder.
#pragma once

#include <filesystem>
#include <map>
#include <string>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/io/output.hpp"
#include "opifex/core/io/target.hpp"
#include "opifex/core/volumes/kept_files.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {

/// What becomes of files whose sectors hold more than 2048 bytes (CD-ROM XA).
enum class Form2As {
  raw,     ///< whole sectors of 2352 bytes: nothing is lost
  payload  ///< 2324 bytes of Form 2 sectors, 2048 of Form 1
};

/// A console's save, written to a file.
enum class SavesAs {
  single,  ///< with its entry of the card's directory: its name and all that is known of it
  bare     ///< its blocks alone
};

struct ExtractRequest {
  std::vector<std::string> paths = {};  ///< paths or globs (* and ?), without case; empty: everything
  std::filesystem::path into;
  Form2As form2 = Form2As::raw;
  SavesAs saves = SavesAs::single;
  bool even_damaged = false;  ///< files that cannot be read whole, as far as there is something of them
};

/// A file to be written, or a folder to be made.
struct ExtractItem {
  const VolumeEntry* entry = nullptr;
  const Volume* volume = nullptr;
  std::string target = {};       ///< a path; a string, for there may be hundreds of thousands
  std::uint64_t size_bytes = 0;  ///< that will be written
  bool renamed = false;          ///< the image's name is none for this drive
  bool raw_sectors = false;      ///< its sectors hold more than 2048 bytes, and are written as Form2As says
  bool is_folder() const { return entry->kind == EntryKind::folder; }
};

struct SkippedEntry {
  std::string path, why;
};

struct ExtractPlan {
  std::vector<ExtractItem> items;  ///< folders first, then files in the order of their sectors
  std::vector<SkippedEntry> skipped;
  std::uint64_t total_bytes = 0;
  CdImagePtr disc = {};  ///< of raw sectors
  Form2As form2 = Form2As::raw;
  SavesAs saves = SavesAs::single;
  /// What the files have beside their bytes, for a list beside them, by the folder it lies in; empty: nothing.
  std::map<std::string, KeptFiles> lists = {};
  /// The bytes of a file of this plan.
  SourcePtr open(const ExtractItem& item) const;
};

/// Chooses what is to be written and where. Error (usage, "no_such_path") if a path matches nothing.
ExtractPlan plan_extract(const Image& image, const std::vector<Volume>& volumes, const ExtractRequest& request,
                         const TargetFacts& facts);

enum class Extracted { written, was_there };
struct ExtractJob {
  Existing existing = Existing::keep;
  bool verify = false;  ///< read every file back and compare it with the image
  TargetFacts facts = {};
  std::filesystem::path into = ".";
  InputFiles inputs = {};  ///< never written, whatever they are called in the image
};
/// Carries the plan out. A file that is there already with the same size and date (with `verify`: the same bytes) is
/// left alone, so that a stopped job goes on where it was. Returns what became of each item.
std::vector<Extracted> run_extract(const ExtractPlan& plan, const ExtractJob& job, JobContext& context);

/// Where two sources of the same size begin to differ; nothing if they do not. Asks for a stop between blocks.
std::optional<std::uint64_t> first_difference(const ByteSource& a, const ByteSource& b, const Progress& progress);

}  // namespace opifex
