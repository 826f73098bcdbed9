// Jobs as another program calls them: no command line, no streams, results to a listener.
#include <gtest/gtest.h>

#include "opifex/core/jobs/batch.hpp"
#include "opifex/core/jobs/build.hpp"
#include "opifex/core/jobs/check.hpp"
#include "opifex/core/jobs/convert.hpp"
#include "opifex/core/jobs/dump.hpp"
#include "opifex/core/jobs/files.hpp"
#include "opifex/core/jobs/identify.hpp"
#include "opifex/core/jobs/rename.hpp"
#include "opifex/core/jobs/rescue.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/demo/workshop.hpp"

#include "testkit.hpp"

namespace opifex::jobs {
namespace {

using testkit::fs::path;

/// Counts what it hears.
struct Ear : Listener {
  using Listener::result;
  void result(const Identified& found) override {
    ++identified;
    if (const auto* image = std::get_if<IdentifiedImage>(&found.what)) platform = image->id.platform;
  }
  void result(const Checked&) override { ++checked; }
  void result(const Written& w) override {
    ++written;
    proved = proved || !w.proof.compared.empty();
  }
  void result(const Listed& l) override { files += l.volumes.front().entries.size(); }
  void result(const ExtractedFiles& e) override { files += e.items.size(); }
  void result(const Renamed& r) override { steps += r.plan.steps.size(); }
  void result(const Rescued&) override { ++rescued; }
  void result(const Dumped& d) override { dumped += d.result ? 1u : 0u; }
  void failed(const Error& e) override { failures.push_back(e.details.code); }
  std::size_t identified = 0, checked = 0, written = 0, files = 0, steps = 0, rescued = 0, dumped = 0;
  bool proved = false;
  std::string platform;
  std::vector<std::string> failures;
};

class JobsTest : public testing::Test {
 protected:
  void SetUp() override { demo::build_workshop(folder.path(), Existing::keep); }
  std::string at(const std::string& name) const { return (folder / name).string(); }

  testkit::TempFolder folder;
  testkit::QuietContext context;
  Ear ear;
  const std::string moth = "Moth & Lantern.cue";
};

TEST_F(JobsTest, IdentifyAndCheck) {
  EXPECT_TRUE(run(IdentifyJob{.paths = {at(moth)}}, ear, context).done());
  EXPECT_EQ(ear.platform, "ps1");
  const CheckOutcome outcome = run(CheckJob{.inputs = {at(moth)}}, ear, context);
  EXPECT_TRUE(outcome.done());
  ASSERT_EQ(outcome.verdicts.size(), 1u);
  EXPECT_EQ(outcome.verdicts[0].second, Verdict::intact);
  testkit::flip_byte(folder / "Moth & Lantern (Track 1).bin", 30 * 2352 + 100);
  EXPECT_FALSE(run(CheckJob{.inputs = {at(moth)}}, ear, context).good);
}

TEST_F(JobsTest, ConvertMergeSplitAndCompare) {
  ConvertJob convert{.inputs = {at(moth)}, .target = find_format("chd"), .out = at("moth.chd")};
  convert.writing.prove = true;
  EXPECT_TRUE(run(convert, ear, context).done());
  EXPECT_TRUE(ear.proved);
  EXPECT_TRUE(run(MergeJob{.inputs = {at(moth)}, .out = at("merged/")}, ear, context).done());
  EXPECT_TRUE(run(SplitJob{.inputs = {at("moth.chd")}, .out = at("split")}, ear, context).done());
  EXPECT_EQ(ear.written, 3u);
  EXPECT_TRUE(run(CompareJob{.inputs = {at("split/moth.cue")}, .other = at(moth)}, ear, context).good);
  EXPECT_FALSE(run(CompareJob{.inputs = {at("Kestrel Circuit (Disc 1).cue")}, .other = at(moth)}, ear, context).good);
}

TEST_F(JobsTest, ErrorsOfOneInputAreThrownOfManyTold) {
  ConvertJob one{.inputs = {at("absent.cue")}, .target = find_format("chd"), .out = at("x.chd")};
  EXPECT_THROW(run(one, ear, context), Error);
  EXPECT_TRUE(ear.failures.empty());
  testkit::write_file(folder / "bad.cue", "nonsense");
  ConvertJob many{.inputs = {at(moth), at("bad.cue")}, .target = find_format("chd"), .out = at("out/")};
  const Outcome outcome = run(many, ear, context);
  EXPECT_EQ(outcome.failures.size(), 1u);
  EXPECT_EQ(ear.failures.size(), 1u);
  EXPECT_TRUE(testkit::fs::exists(folder / "out/Moth & Lantern.chd"));
}

TEST_F(JobsTest, FilesExtractAndBuild) {
  EXPECT_TRUE(run(FilesJob{.inputs = {at(moth)}}, ear, context).done());
  EXPECT_GT(ear.files, 3u);
  EXPECT_TRUE(run(ExtractFilesJob{.inputs = {at(moth)}, .into = at("files")}, ear, context).done());
  const BuildJob build = BuildJob::of(
      {at("files")}, Settings::of(build_settings(), {{"as", "iso"}, {"out", at("new.iso")}, {"prove", ""}}));
  EXPECT_TRUE(run(build, ear, context).done());
  EXPECT_TRUE(ear.proved);
}

TEST_F(JobsTest, RenameRescueAndDump) {
  EXPECT_TRUE(run(RenameJob{.set = at(moth), .new_name = "Moth"}, ear, context).done());
  EXPECT_EQ(ear.steps, 4u);
  testkit::write_file(folder / "drive.toml", "[disc]\nimage = \"Moth.cue\"\n");
  const DumpJob dump = DumpJob::of("sim:" + at("drive.toml"), Settings::of(dump_settings(), {{"out", at("dump.cue")}}));
  EXPECT_TRUE(run(dump, ear, context).done());
  EXPECT_EQ(ear.dumped, 1u);
  EXPECT_TRUE(run(RescueJob{.inputs = {at("Moth.cue"), at("dump.cue")}, .out = at("joined.cue")}, ear, context).done());
  EXPECT_EQ(ear.rescued, 1u);
}

TEST_F(JobsTest, AStopEndsTheJobAndLeavesNothing) {
  std::stop_source stop;
  context.progress.stop = stop.get_token();
  stop.request_stop();
  const auto before = testkit::listing(folder.path());
  for (const std::vector<std::string>& inputs : {std::vector{at(moth)}, std::vector{folder.path().string()}}) {
    try {
      run(ConvertJob{.inputs = inputs, .target = find_format("chd"), .out = at("out/")}, ear, context);
      FAIL() << "it was stopped";
    } catch (const Error& e) {
      EXPECT_EQ(e.details.fault, Fault::interrupted);
    }
  }
  EXPECT_EQ(testkit::listing(folder.path()), before);
}

TEST_F(JobsTest, SettingsOfAnotherFormatAreRefused) {
  try {
    ConvertJob::of({at(moth)}, Settings::of(convert_settings(), {{"to", "iso"}, {"codecs", "zlib"}}));
    FAIL() << "an ISO has no codecs";
  } catch (const Error& e) {
    EXPECT_EQ(e.details.fault, Fault::usage);
    EXPECT_EQ(e.details.hint, "<codecs> is for chd");
  }
}

}  // namespace
}  // namespace opifex::jobs
