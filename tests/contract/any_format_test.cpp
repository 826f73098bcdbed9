// What even a format that is only read owes: every job ends in a right way, cut and stopped at any place.
#include <atomic>

#include <gtest/gtest.h>

#include "opifex/core/check/check.hpp"
#include "opifex/core/jobs/check.hpp"
#include "opifex/core/jobs/convert.hpp"
#include "opifex/core/jobs/files.hpp"
#include "opifex/core/jobs/identify.hpp"
#include "opifex/core/jobs/rename.hpp"
#include "opifex/core/jobs/rescue.hpp"

#include "samples.hpp"

namespace opifex {
namespace {

using namespace testkit;

class AnyFormat : public testing::TestWithParam<const Format*> {
 protected:
  void SetUp() override { sample = sample_of(*GetParam(), folder); }
  TempFolder folder;
  fs::path sample;
  QuietContext context;
};

/// Ends, or says why not: never an exception of another kind, never a fault without a code.
template <typename Run>
std::optional<jobs::Outcome> ends(const std::string& what, const Run& run) {
  try {
    return run();
  } catch (const Error& e) {
    EXPECT_FALSE(e.details.code.empty()) << what << ": " << e.what();
    EXPECT_NE(e.details.fault, Fault::device) << what << ": nothing failed here: " << e.what();
    EXPECT_NE(e.details.fault, Fault::interrupted) << what;
    return std::nullopt;
  } catch (const std::exception& e) {
    ADD_FAILURE() << what << ": " << e.what();
    return std::nullopt;
  }
}

TEST_P(AnyFormat, IsTakenForWhatItIs) { EXPECT_EQ(open_image(sample).format->id, GetParam()->id); }

TEST_P(AnyFormat, EveryJobEndsOrIsRefusedInWords) {
  jobs::Listener listener;
  const std::string file = sample.string();
  const auto identified = ends("identify", [&] { return run(jobs::IdentifyJob{.paths = {file}}, listener, context); });
  EXPECT_TRUE(identified && identified->failures.empty()) << "what can be opened can be named";
  ends("check", [&]() -> jobs::Outcome { return run(jobs::CheckJob{.inputs = {file}}, listener, context); });
  ends("files", [&] { return run(jobs::FilesJob{.inputs = {file}}, listener, context); });
  ends("extract", [&] {
    return run(jobs::ExtractFilesJob{.inputs = {file}, .into = (folder / "files").string()}, listener, context);
  });
  const auto compared =
      ends("compare", [&] { return run(jobs::CompareJob{.inputs = {file}, .other = file}, listener, context); });
  EXPECT_TRUE(!compared || compared->good) << "it is the same as itself";
  ends("merge",
       [&] { return run(jobs::MergeJob{.inputs = {file}, .out = (folder / "merged/").string()}, listener, context); });
  ends("split",
       [&] { return run(jobs::SplitJob{.inputs = {file}, .out = (folder / "split").string()}, listener, context); });
  ends("repair", [&]() -> jobs::Outcome {
    return run(jobs::RepairJob{.inputs = {file}, .out = (folder / "mended/").string()}, listener, context);
  });
  ends("rescue", [&] {
    return run(jobs::RescueJob{.inputs = {file, file}, .out = (folder / "joined/").string()}, listener, context);
  });
  ends("rename",
       [&] { return run(jobs::RenameJob{.set = sample, .new_name = "other", .plan_only = true}, listener, context); });
}

TEST_P(AnyFormat, IntoEveryFormatItGoesOrIsRefusedAndWhatWasWrittenIsProved) {
  jobs::Listener listener;
  const Bytes before = read_up_to(*open_file(sample), 0, SIZE_MAX >> 1);
  // A container of whole discs holds one of 4.7 GB, most of it a hole: other tests take the time for that.
  const bool huge = open_image(sample).size_bytes() > (std::uint64_t{1} << 30);
  for (const Format* target : formats()) {
    if (!target->plan_write || (huge && target != GetParam())) continue;
    const fs::path out = folder / (std::string("into-") + std::string(target->id));
    jobs::ConvertJob job{.inputs = {sample.string()}, .target = target, .out = out.string() + "/"};
    job.writing.prove = !huge;
    const auto outcome =
        ends(std::string("to ") + std::string(target->id), [&] { return run(job, listener, context); });
    EXPECT_EQ(fs::exists(out) && !listing(out).empty(), outcome.has_value()) << target->id << ": all or nothing";
  }
  EXPECT_EQ(read_up_to(*open_file(sample), 0, SIZE_MAX >> 1), before) << "the input is never touched";
}

TEST_P(AnyFormat, CutAtEveryLengthItOpensOrIsRefused) {
  constexpr std::size_t kMost = 64 << 10, kEach = 4 << 10;
  const Bytes whole = read_up_to(*open_file(sample), 0, kMost);
  std::size_t opened = 0;
  // The sanitizers take ten times as long, and see what they look for in a sample of the lengths: headers and tables
  // lie in the first 4 KiB, and around the ends of blocks and sectors.
#if defined(__SANITIZE_ADDRESS__)
  constexpr std::size_t kBetween = 29;
#else
  constexpr std::size_t kBetween = 1;
#endif
  const auto step = [](std::size_t n) {
    const bool at_an_end = n % 2048 < 3 || n % 2352 < 3 || n % 512 == 511;
    return n < kEach / kBetween * 2 || at_an_end ? std::size_t{1} : kBetween;
  };
  for (std::size_t n = 0; n < whole.size(); n += step(n)) {
    OpenOptions options;
    options.files =
        std::make_shared<ChangedFiles>(sample, Bytes(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(n)));
    try {
      const Image image = open_image(sample, options);
      ++opened;
      if (const CdImagePtr& cd = image.cd(); cd && n % 64 == 0) {
        cd::Sector sector;
        for (const Extent& e : cd->extents()) cd->read_sector(e.end() - 1, sector);
      }
    } catch (const Error& e) {
      ASSERT_FALSE(e.details.code.empty()) << "cut at " << n << ": " << e.what();
      ASSERT_NE(e.details.fault, Fault::interrupted) << n;
    }
  }
  EXPECT_LE(opened, whole.size());
}

/// The largest file of the sample's set: most of what there is to lose.
fs::path largest_file(const Image& image) {
  const auto largest = std::max_element(image.files.begin(), image.files.end(),
                                        [](const auto& a, const auto& b) { return a.size_bytes < b.size_bytes; });
  return largest->path;
}

TEST_P(AnyFormat, WhatIsCutOffIsNeverIntact) {
  const fs::path largest = largest_file(open_image(sample));
  const Bytes whole = to_bytes(read_file(largest));
  Random random(whole.size());
  constexpr int kCuts = 24;
  for (int i = 0; i < kCuts; ++i) {
    // At the end of a sector nobody can know that others followed: whatever lies there is whole.
    std::size_t length = i < 4 ? whole.size() - 1 - static_cast<std::size_t>(i) : random.below(whole.size());
    while (length % 2352 == 0 || length % 2048 == 0) --length;
    OpenOptions options;
    options.allow_missing = true;
    options.files = std::make_shared<ChangedFiles>(
        largest, Bytes(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(length)));
    try {
      const Image image = open_image(sample, options);
      const CheckResult result = check_image(image, {.hashes = {}}, context);
      ASSERT_NE(result.verdict, Verdict::intact) << "cut at " << length << " of " << whole.size();
    } catch (const Error& e) {
      ASSERT_EQ(e.details.fault, Fault::refused) << "cut at " << length << ": " << e.what();
    }
  }
}

TEST_P(AnyFormat, WhatIsWholeIsNotCalledDamaged) {
  const auto verdict_of = [&](const Image& image) { return check_image(image, {.hashes = {}}, context).verdict; };
  const Image image = open_image(sample);
  EXPECT_TRUE(image.complete);
  const Verdict verdict = verdict_of(image);
  // The sample of a container of whole discs holds blocks that are none: as bad in it as by themselves, not worse.
  if (GetParam()->holds.whole_discs)
    EXPECT_EQ(verdict, verdict_of(richest_source(*GetParam(), folder)));
  else
    EXPECT_TRUE(verdict == Verdict::intact || verdict == Verdict::unsupported) << to_string(verdict);
}

INSTANTIATE_TEST_SUITE_P(Formats, AnyFormat, testing::ValuesIn(formats().begin(), formats().end()),
                         [](const testing::TestParamInfo<const Format*>& i) { return case_name(i.param->id); });

/// The host's files; counts what is read of them, and asks for a stop after so many bytes.
class StoppingFiles final : public FileSpace {
 public:
  explicit StoppingFiles(std::uint64_t after) : count_(std::make_shared<Count>(after)) {}
  SourcePtr open(const fs::path& path) const override {
    return std::make_shared<Source>(host_files()->open(path), count_);
  }
  bool is_file(const fs::path& path) const override { return host_files()->is_file(path); }
  bool is_folder(const fs::path& path) const override { return host_files()->is_folder(path); }
  std::vector<fs::path> entries(const fs::path& folder) const override { return host_files()->entries(folder); }
  bool same_file(const fs::path& a, const fs::path& b) const override { return host_files()->same_file(a, b); }
  std::uint64_t bytes() const { return count_->bytes; }
  std::stop_token token() const { return count_->stop.get_token(); }

 private:
  struct Count {
    explicit Count(std::uint64_t most) : after(most) {}
    std::uint64_t after;
    std::atomic<std::uint64_t> bytes{0};
    std::stop_source stop = {};
  };
  struct Source final : ByteSource {
    Source(SourcePtr inner_source, std::shared_ptr<Count> the_count)
        : inner(std::move(inner_source)), count(std::move(the_count)) {}
    std::uint64_t size() const override { return inner->size(); }
    std::uint64_t next_data(std::uint64_t offset) const override { return inner->next_data(offset); }
    std::string name() const override { return inner->name(); }
    void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
      inner->read_at(offset, out);
      if ((count->bytes += out.size()) >= count->after) count->stop.request_stop();
    }
    SourcePtr inner;
    std::shared_ptr<Count> count;
  };
  std::shared_ptr<Count> count_;
};

class WrittenFormat : public testing::TestWithParam<const Format*> {};

TEST_P(WrittenFormat, StoppedInTheMiddleLeavesNothing) {
  const TempFolder folder;
  const fs::path source = richest_source(*GetParam(), folder).path;
  jobs::Listener listener;
  const auto convert = [&](const std::shared_ptr<StoppingFiles>& files, const fs::path& out) {
    Progress progress;
    progress.stop = files->token();
    JobContext context{progress, 2};
    jobs::ConvertJob job{.inputs = {source.string()}, .target = GetParam(), .out = out.string() + "/"};
    job.reading.opening.files = files;
    return run(job, listener, context);
  };
  const auto all = std::make_shared<StoppingFiles>(UINT64_MAX);
  ASSERT_TRUE(convert(all, folder / "whole").failures.empty());
  // In the headers, while it is planned, while it is written; later a stop may come too late to change anything.
  for (const std::uint64_t percent : {0u, 10u, 25u, 40u, 55u}) {
    const fs::path out = folder / fmt::format("out{}", percent);
    try {
      convert(std::make_shared<StoppingFiles>(1 + all->bytes() * percent / 100), out);
      FAIL() << "stopped at " << percent << " %, and said it was done";
    } catch (const Error& e) {
      EXPECT_EQ(e.details.fault, Fault::interrupted) << e.what();
    }
    EXPECT_FALSE(fs::exists(out)) << percent;
  }
}

std::vector<const Format*> written() {
  std::vector<const Format*> list;
  for (const Format* f : formats())
    if (f->plan_write) list.push_back(f);
  return list;
}

INSTANTIATE_TEST_SUITE_P(Formats, WrittenFormat, testing::ValuesIn(written()),
                         [](const testing::TestParamInfo<const Format*>& i) { return case_name(i.param->id); });

}  // namespace
}  // namespace opifex
