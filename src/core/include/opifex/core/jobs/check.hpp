/// Is an image intact, is it the same as another one, and a copy of it with everything mended that can be.
#pragma once

#include <string>
#include <vector>

#include "opifex/core/check/check.hpp"
#include "opifex/core/jobs/sources.hpp"

namespace opifex {
struct Comparison;
}

namespace opifex::jobs {

struct CheckJob {
  std::vector<std::string> inputs;  ///< images, folders, drives, archives
  ReadRules reading = {};
  CheckOptions options = {};
  std::vector<std::string> against = {};  ///< known lists; empty: nobody asks whether it is known
  std::filesystem::path cache = {};       ///< for lists that were read; empty: none
  /// Hashes of all that a list could know: a CD as one bin, a data disc in its other form. Costs as much again.
  bool every_form = false;
  bool hashes_chosen = false;  ///< by the user: they are taken beside those of the lists
  static CheckJob of(std::vector<std::string> inputs, const Settings& settings);
};

/// One image that was looked at.
struct Checked {
  const Image& image;
  const CheckResult& result;
  bool mends = false;     ///< a repaired copy follows
  bool of_batch = false;  ///< one of many, found in a folder
};

struct CheckOutcome : Outcome {
  std::vector<std::pair<std::string, Verdict>> verdicts = {};  ///< of each image, by its name
};
CheckOutcome run(const CheckJob& job, Listener& listener, JobContext& context);

struct CompareJob {
  std::vector<std::string> inputs;
  std::string other;  ///< an image or a folder
  ReadRules reading = {};
  static CompareJob of(std::vector<std::string> inputs, const Settings& settings);
};

struct Compared {
  const Image& here;
  std::string other;
  const Comparison& comparison;
};
Outcome run(const CompareJob& job, Listener& listener, JobContext& context);

/// Writes a copy, proves that it is the input with its sectors mended, and checks it before it gets its name.
struct RepairJob {
  std::vector<std::string> inputs;  ///< images; of several, or of a folder, those that can be repaired
  std::string out;                  ///< of several images: a folder
  ReadRules reading = {};
  WriteRules writing = {};
  CheckOptions options = {};
  /// Error (usage) unless there is a place for the copies.
  static RepairJob of(const std::vector<std::string>& inputs, const Settings& settings);
};
CheckOutcome run(const RepairJob& job, Listener& listener, JobContext& context);

}  // namespace opifex::jobs
