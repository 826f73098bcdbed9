/// A folder with all that a command has to show: a page, its figures, and the data behind both.
#pragma once

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "opifex/core/io/output.hpp"
#include "opifex/report/figure.hpp"
#include "opifex/report/json.hpp"

namespace opifex::report {

struct ReportRequest {
  std::filesystem::path folder;
  Existing existing = Existing::keep;  ///< replace: an older report there
  InputFiles inputs = {};              ///< never written
  std::string command, version;
};

/// Gathers results while the command runs, in a folder for temporary files; they get their names together at the end:
/// report.html, result.json (as the command prints it, and `report.files`: their SHA-1 by name), a CSV file for each
/// table, and of each figure a PNG, an SVG, its data and its script. Not for several threads at once.
class ReportFolder {
 public:
  /// Error (needs_word, "report_exists") if the folder has an older report that may not be replaced, "not_a_report" if
  /// there is anything else in it; device if it cannot be made.
  explicit ReportFolder(ReportRequest request);
  ~ReportFolder();
  ReportFolder(const ReportFolder&) = delete;

  /// `text`: the same as people read it on a terminal.
  void add(const LongResult& result, const std::string& text);
  /// Of the first images only: the page says how many have none.
  bool takes_figures() const;
  void add(Figures figures);
  /// Those of a result are not drawn: for want of room, or because what they show cannot be read.
  void without_figures() { ++undrawn_; }

  /// How the command ended.
  struct End {
    int exit_code = 0;
    Json errors = Json::array(), summary = nullptr, lists = nullptr;
  };
  /// Writes it all. Error (device); nothing has its name then. Returns what could not be drawn, for the user; empty: it
  /// all was.
  std::vector<Error> finish(const End& end);

 private:
  Figures all_figures();
  void place(const std::vector<std::string>& files);

  struct Parts;
  ReportRequest request_;
  std::unique_ptr<Parts> parts_;
  std::uint64_t undrawn_ = 0;
};

}  // namespace opifex::report
