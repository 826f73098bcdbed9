/// Turns what a job tells into text or JSON of a session.
#pragma once

#include "opifex/core/jobs/batch.hpp"
#include "opifex/report/figures.hpp"
#include "opifex/report/volume.hpp"

#include "session.hpp"

namespace opifex::cli {

class Reporter : public jobs::Listener {
 public:
  explicit Reporter(Session& session) : session_(session) {}
  void result(const jobs::Identified& found) override;
  void result(const jobs::Checked& checked) override;
  void result(const jobs::Compared& compared) override;
  void result(const jobs::Written& written) override;
  void result(const jobs::Listed& listed) override;
  void result(const jobs::ExtractedFiles& files) override;
  void result(const jobs::Renamed& renamed) override;
  void result(const jobs::RenamedByList& renamed) override;
  void result(const jobs::Rescued& rescued) override;
  void result(const jobs::Dumped& dumped) override;
  void result(const jobs::CopiedFolder& copied) override;
  void result(const jobs::DumpedCartridge& dumped) override;
  void result(const jobs::PatchTold& patch) override;
  void result(const jobs::Changed& changed) override;
  void result(const jobs::SaveTold& save) override;
  void result(const jobs::Edited& edited) override;
  void result(const jobs::KnownTold& told) override;
  void result(const jobs::ListTold& told) override;
  void result(const jobs::MissingTold& told) override;
  void result(const jobs::ListMade& made) override;
  void result(const jobs::RecordTold& told) override;
  void result(const jobs::ShelfTold& told) override;
  void message(const Warning& warning) override;
  void failed(const Error& error) override { session_.failed(error); }
  void planned(const jobs::BatchPlan& plan) override;
  void begins(const jobs::BatchStep& step) override;
  void ended(const jobs::BatchSummary& summary) override;

  /// How lists of files are laid out.
  void set_view(report::FilesView view) { view_ = view; }

 private:
  report::Json proof_of(const std::filesystem::path& lead, const std::vector<std::filesystem::path>& inputs,
                        const std::vector<std::filesystem::path>& outputs);

  template <typename MakeFigures>
  void draw(const MakeFigures& make) {
    session_.figures_of(make);
  }
  void tell_checked(const jobs::Checked& checked, const std::function<report::Json()>& json,
                    const std::function<std::string()>& text);
  void note_sizes(const jobs::Written& written);
  void draw_written(const jobs::Written& written);

  Session& session_;
  report::FilesView view_ = report::FilesView::flat;
  jobs::BatchStep step_ = {};
  jobs::Stopwatch since_ = {};                                      // of the current step
  std::vector<std::pair<report::Json, std::string>> waiting_ = {};  // results whose `known` comes last
  std::vector<report::SizeChange> sizes_ = {};                      // of the conversions so far
};

}  // namespace opifex::cli
