/// What every job goes by: how its images are found and read, what it may write, and who hears of it.
#pragma once

#include <set>
#include <string>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/core/image/format.hpp"

namespace opifex::jobs {

/// How images are read. The user's word where detection guesses.
struct ReadRules {
  OpenOptions opening = {};
  std::string pick = {};                    ///< of several images in one file or archive; a pattern
  std::filesystem::path spool_folder = {};  ///< for copies of an archive's members; empty: the system's own
  /// From settings of read_settings(); reads the key file. Error (refused) if that is none.
  static ReadRules of(const Settings& settings);
};
const SettingList& read_settings();
/// Those of them that formats read, to open an image.
const SettingList& format_read_settings();

/// What a job may do to the user's drive.
struct WriteRules {
  Existing existing = Existing::keep;
  bool plan_only = false;               ///< say what would be done; write nothing
  bool prove = false;                   ///< read the output back and compare it with the input
  bool strict = false;                  ///< write nothing if the input turns out to be damaged
  bool hash_outputs = false;            ///< take the SHA-1 of each output
  std::string file_system = {};         ///< rules of the target drive; empty: found out
  std::set<std::string> accepted = {};  ///< loss kinds the user agreed to
  InputFiles inputs = {};               ///< never written
  static WriteRules of(const Settings& settings);

  WriteJob for_folder(const std::filesystem::path& folder) const;
  /// The target drive, by these rules.
  TargetFacts target(const std::filesystem::path& folder) const;
};
const SettingList& write_settings();

/// Files the user named, in whatever setting of the list, and these words: none of them is ever written. Folders stand
/// for all that is in them.
InputFiles named_inputs(const std::vector<std::string>& words, const Settings& settings,
                        std::span<const Setting* const> list);

/// How a job ended that did end.
struct Outcome {
  bool good = true;                         ///< false: bad news, such as a damaged image
  std::vector<ErrorDetails> failures = {};  ///< of single inputs; the others were done
  bool done() const { return good && failures.empty(); }
};

struct Identified;
struct Checked;
struct Compared;
struct Written;
struct Listed;
struct ExtractedFiles;
struct Renamed;
struct RenamedByList;
struct Rescued;
struct Dumped;
struct CopiedFolder;
struct DumpedCartridge;
struct PatchTold;
struct SaveTold;
struct Changed;
struct Edited;
struct KnownTold;
struct ListTold;
struct MissingTold;
struct ListMade;
struct RecordTold;
struct ShelfTold;
struct BatchPlan;
struct BatchStep;
struct BatchSummary;

/// Hears of a job while it runs, in the thread that runs it. What is not overridden is not wanted.
class Listener {
 public:
  virtual ~Listener() = default;
  virtual void result(const Identified&) {}
  virtual void result(const Checked&) {}
  virtual void result(const Compared&) {}
  virtual void result(const Written&) {}
  virtual void result(const Listed&) {}
  virtual void result(const ExtractedFiles&) {}
  virtual void result(const Renamed&) {}
  virtual void result(const RenamedByList&) {}
  virtual void result(const Rescued&) {}
  virtual void result(const Dumped&) {}
  virtual void result(const CopiedFolder&) {}
  virtual void result(const DumpedCartridge&) {}
  virtual void result(const PatchTold&) {}
  virtual void result(const SaveTold&) {}
  virtual void result(const Changed&) {}
  virtual void result(const Edited&) {}
  virtual void result(const KnownTold&) {}
  virtual void result(const ListTold&) {}
  virtual void result(const MissingTold&) {}
  virtual void result(const ListMade&) {}
  virtual void result(const RecordTold&) {}
  virtual void result(const ShelfTold&) {}
  /// Something a person should know beside the result.
  virtual void message(const Warning&) {}
  /// An input that could not be done; the others go on.
  virtual void failed(const Error&) {}
  /// Of a job over many inputs: all that is going to be done, each of them as it begins, and the end.
  virtual void planned(const BatchPlan&) {}
  virtual void begins(const BatchStep&) {}
  virtual void ended(const BatchSummary&) {}
};

/// Fault::interrupted is no failure of one input: it ends the job.
bool ends_all(const Error& error);

}  // namespace opifex::jobs
