/// From a plan to its outcome, once for every job that writes images: walls, writing, damage of the source, proof.
#pragma once

#include "opifex/core/check/check.hpp"
#include "opifex/core/check/prove.hpp"
#include "opifex/core/jobs/job.hpp"

namespace opifex::jobs {

/// What was written of one image, or would be.
struct Written {
  const Image& source;
  std::string becomes;  ///< what the source turns into, in words
  const Conversion& conversion;
  TargetFacts target = {};
  bool planned_only = false;
  std::vector<WrittenFile> outputs = {};  ///< of a plan: what would be written
  double seconds = 0;
  Proof proof = {};       ///< empty: nothing was compared
  bool damaged = false;   ///< the source is, or its checksums are wrong: bad news
  bool of_batch = false;  ///< one of many: planned() and ended() tell of all
};

/// An image to be converted, and into what.
struct ConversionOrder {
  Image image;
  const Format* target = nullptr;
  std::filesystem::path out;      ///< the leading output
  Settings settings = {};         ///< of the target
  std::vector<Loss> losses = {};  ///< that the image as it is given has had already
  std::uint64_t limit_bytes = 0;  ///< of each file that is written; 0: none
};

/// An order with its plan. Not copied: plans refer to the image.
class PlannedConversion {
 public:
  /// Reads what it must to know every loss; writes nothing. Error if the target cannot hold this image at all.
  PlannedConversion(ConversionOrder order, const WriteRules& rules, JobContext& context);

  const Image& image() const { return order_.image; }
  const Format& target() const { return *order_.target; }
  const std::filesystem::path& out() const { return order_.out; }
  const Conversion& conversion() const { return conversion_; }
  /// Error (needs_word) if a loss is not accepted, a file is there, or there is no room.
  void check_walls(const WriteRules& rules) const;
  /// Tells the listener what would be written.
  void tell(const WriteRules& rules, Listener& listener) const;
  /// The same, and the walls it would run into.
  void show(const WriteRules& rules, Listener& listener) const;
  /// Writes, and tells the listener. Returns what it told, without the image.
  struct Done {
    std::vector<WrittenFile> outputs;
    double seconds = 0;
    bool damaged = false;
  };
  Done run(const WriteRules& rules, Listener& listener, JobContext& context);
  /// From now on it is one of many.
  void in_batch() { of_batch_ = true; }
  /// True if all outputs are there already, and read back prove to be the input.
  bool is_done_already(JobContext& context) const;

 private:
  Inspect how(const WriteRules& rules) const;
  bool can_prove() const;

  ConversionOrder order_;
  ConvertRequest request_;
  Conversion conversion_;
  bool changed_ = false, of_batch_ = false;
  double planning_seconds_ = 0;
};

/// The plan of `done` is carried out, or, `planned_only`, held against the same walls: fills in target and outputs, and
/// adds the seconds it took.
void carry_out(Written& done, const WriteJob& job, JobContext& context);

/// Looks at what was written, before it has its name, and says what was compared; `prove` as the user wishes.
using Prover = std::function<Proof(const FileSpacePtr& staged, const std::vector<WrittenFile>& written, bool prove)>;

/// A plan that is made already, shown or carried out. `becomes`: what the source turns into, in words.
std::vector<WrittenFile> run_plan(const Image& source, std::string_view becomes, const Conversion& conversion,
                                  const WriteRules& rules, const Prover& prover, Listener& listener,
                                  JobContext& context);

/// As if they were written.
std::vector<WrittenFile> outputs_of(const WritePlan& plan);

/// Where the output goes: `out` as the user gave it, a file or (with a slash at its end, or if it is there) a folder;
/// empty: beside the input.
std::filesystem::path leading_output(const Image& image, const Format& target, const std::string& out,
                                     const Settings& settings = {});

/// Damage of a source, found while it was read, as warnings; true if there is any. Error ("source_damaged") if the
/// rules are strict.
bool take_findings(const std::vector<Finding>& findings, const Image& image, const WriteRules& rules,
                   std::vector<Warning>& warnings);

/// Time since it was made.
class Stopwatch {
 public:
  double seconds() const;

 private:
  std::int64_t start_ns_ = now_ns();
  static std::int64_t now_ns();
};

}  // namespace opifex::jobs
