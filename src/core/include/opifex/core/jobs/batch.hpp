/// One conversion after the other, all of them planned before the first byte is written.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "opifex/core/jobs/sources.hpp"
#include "opifex/core/jobs/writing.hpp"

namespace opifex::jobs {

/// One input of a batch, as it was planned.
struct BatchItem {
  std::string name;                ///< of the source
  std::filesystem::path out;       ///< the leading output
  std::vector<PlannedFile> files;  ///< all outputs, with what they take at most
  std::vector<Loss> losses;        ///< of content
  std::uint64_t bytes_in = 0;      ///< of the image's files
  bool done_already = false;       ///< it is there, and proved to be the same
  std::uint64_t bytes_out() const;
};

struct BatchPlan {
  std::string becomes;  ///< id of the target
  std::vector<BatchItem> items;
  std::vector<LeftOut> left_out;              ///< cannot be done: unreadable, not held by the target
  std::uint64_t bytes_in = 0, bytes_out = 0;  ///< of what is going to be written
  TargetFacts target = {};                    ///< of the first output's folder
  bool planned_only = false;
};

/// An input begins.
struct BatchStep {
  std::size_t number = 1, count = 1;
  std::string name = {};
  std::uint64_t done_bytes = 0, own_bytes = 0, total_bytes = 0;  ///< of the inputs before, of this one, of all
};

/// What became of one input.
struct BatchResult {
  std::string name;
  std::filesystem::path out;
  std::uint64_t bytes_in = 0, bytes_out = 0;
  double seconds = 0;
  bool damaged = false;  ///< written, but the source is damaged
};

struct BatchSummary {
  std::vector<BatchResult> written = {};
  std::vector<BatchResult> there = {};  ///< were there already, and are right
  std::vector<LeftOut> left_out = {};   ///< and why
  std::uint64_t bytes_in = 0, bytes_out = 0;
  double seconds = 0;
  std::string verb = "written", flaw = "of a damaged source";  ///< in words: what was done, what `damaged` means
};

struct BatchRequest {
  Sources sources;
  /// Opens a source and says what is to be made of it. `stem` is what its output is called; empty: as usual.
  std::function<ConversionOrder(const Source& source, const std::string& stem)> order;
  WriteRules rules;
  bool skip_existing = false;
};

/// A single image is converted as it is; several are planned first: names that clash are told apart by a mark made of
/// their titles, or refused together; losses, existing files and room are asked for at once. Errors of needs_word stop
/// the batch before the first byte; an input that cannot be read is left out, and told. Error: loss, exists, no_space,
/// same_output.
Outcome run_batch(BatchRequest request, Listener& listener, JobContext& context);

/// Four characters that depend on the title alone: the top 20 bits of its CRC-32, five bits each, as 0-9a-v.
std::string title_mark(std::string_view title);

}  // namespace opifex::jobs
