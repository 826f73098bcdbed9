/// From a drive to an image; the files of a mounted disc; one disc after the other.
#pragma once

#include "opifex/core/dump/dump.hpp"
#include "opifex/core/dump/folder_copy.hpp"
#include "opifex/core/jobs/job.hpp"

namespace opifex::jobs {

struct KnownAnswer;

struct DumpJob {
  dump::DumpRequest request;
  std::vector<std::string> against = {};  ///< known lists; empty: nobody asks
  std::filesystem::path cache = {};       ///< for lists that were read; empty: none
  bool plan_only = false;
  bool record = false;             ///< the listener is going to write NAME.dump.txt and NAME.dump.json
  bool one_after_another = false;  ///< go on with the next disc until stopped
  unsigned discs = 0;              ///< then at most so many; 0: any number
  /// Error (usage) if there is no place for the image.
  static DumpJob of(const std::string& source, const Settings& settings);
};

/// What stands beside the dump.
struct DumpCompanions {
  std::filesystem::path map, record_text, record_json;  ///< empty: not wanted
};

struct Dumped {
  const dump::DumpPlan& plan;
  const dump::DumpResult* result = nullptr;  ///< null: only planned, or about to begin
  bool begins = false;                       ///< it is about to begin
  DumpCompanions companions = {};
  Existing existing = Existing::keep;
  const InputFiles& inputs;
  const std::vector<KnownAnswer>* known = nullptr;  ///< what the lists say of it; null: nobody asked
};

struct CopiedFolder {
  std::filesystem::path from, into;
  const dump::FolderCopy& copy;
  bool planned_only = false;
};

/// A folder is copied, not dumped.
Outcome run(const DumpJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
