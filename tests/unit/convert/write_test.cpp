// A plan carried out: random outputs against what they were made of, and everything that may go wrong on the way.
#include <atomic>

#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/convert/plan.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

/// A disc of music: 2352 random bytes a sector.
Image disc_of(const Bytes& sectors) {
  const auto count = static_cast<std::uint32_t>(sectors.size() / cd::kRawBytes);
  cd::Layout layout;
  layout.tracks = {{.number = 1, .end_lba = static_cast<cd::Lba>(count), .indexes = {{1, 0}}}};
  layout.sessions.push_back({.lead_out = static_cast<cd::Lba>(count)});
  layout.lead_out = static_cast<cd::Lba>(count);
  Image image;
  image.path = "disc.bin";
  image.content = CdContent{std::make_shared<CdImage>(
      std::move(layout), std::vector<Extent>{{.sectors = count, .source = memory_source(sectors, "disc")}})};
  return image;
}

class Writing : public testing::Test {
 protected:
  std::vector<WrittenFile> write(const WritePlan& plan, WriteJob job = {}) {
    QuietContext context;
    job.target = target_facts(folder.path());
    return write_outputs(image, plan, job, context);
  }
  std::string code(const WritePlan& plan, const WriteJob& job = {}) {
    try {
      write(plan, job);
      return "";
    } catch (const Error& e) {
      return e.details.code;
    }
  }
  /// One output of these bytes, as a source.
  PlannedOutput output(const std::string& name, const Bytes& bytes) {
    return {folder / name, {SourceRun{memory_source(bytes, name), 0, bytes.size()}}, bytes.size()};
  }

  const TempFolder folder;
  Random random{41};
  Bytes sectors = random.bytes(500 * cd::kRawBytes);
  Image image = disc_of(sectors);
};

TEST_F(Writing, AnyPiecesInAnyOrderGiveTheirBytes) {
  for (int i = 0; i < 40; ++i) {
    WritePlan plan;
    std::vector<std::string> expected;
    for (std::uint64_t files = 1 + random.below(4); files > 0; --files) {
      PlannedOutput o{folder / fmt::format("{}-{}", i, files), {}, 0};
      std::string bytes;
      for (std::uint64_t pieces = random.below(6); pieces > 0; --pieces) switch (random.below(4)) {
          case 0: {
            const Bytes own = random.bytes(random.below(3'000'000));
            bytes += as_text(own);
            o.pieces.emplace_back(own);
            break;
          }
          case 1: {
            const auto first = static_cast<std::uint32_t>(random.below(500)),
                       n = static_cast<std::uint32_t>(random.below(501 - first));
            bytes += as_text(ByteView(sectors).subspan(first * cd::kRawBytes, n * cd::kRawBytes));
            o.pieces.emplace_back(SectorRun{static_cast<cd::Lba>(first), n, SectorForm::raw});
            break;
          }
          case 2: {
            const std::uint64_t zeros = random.below(9'000'000);
            bytes.append(zeros, '\0');
            o.pieces.emplace_back(SourceRun{zero_source(zeros), 0, zeros});
            break;
          }
          default: {
            const Bytes data = random.bytes(100 + random.below(2'000'000));
            const std::uint64_t from = random.below(100), size = data.size() - 100;
            bytes += as_text(ByteView(data).subspan(from, size));
            o.pieces.emplace_back(SourceRun{memory_source(data, "source"), from, size});
          }
        }
      o.size_bytes = bytes.size();
      ASSERT_EQ(size_of(o.pieces, image), bytes.size());
      plan.outputs.push_back(std::move(o));
      expected.push_back(std::move(bytes));
    }
    const auto written = write(plan, {.hash_outputs = true});
    ASSERT_EQ(written.size(), expected.size());
    for (std::size_t k = 0; k < expected.size(); ++k) {
      ASSERT_TRUE(read_file(plan.outputs[k].path) == expected[k]);
      ASSERT_EQ(written[k].size_bytes, expected[k].size());
      ASSERT_EQ(written[k].sha1, digest_of("sha1", as_view(expected[k]))) << "the hash is that of what lies there";
    }
    for (const auto& [name, size] : listing(folder.path())) fs::remove_all(folder / name);
  }
}

TEST_F(Writing, TheOneThatOpensTheImageComesLast) {
  WritePlan plan;
  plan.outputs = {output("data", random.bytes(10)), output("index", random.bytes(10))};
  EXPECT_EQ(leading_file(plan, write(plan)).path.filename(), "index");
  plan.outputs = {output("alone", random.bytes(10))};
  EXPECT_EQ(leading_file(plan, write(plan)).path.filename(), "alone");
}

TEST_F(Writing, OneFileInTheWayKeepsAllFromBeingWritten) {
  write_file(folder / "b", "mine");
  WritePlan plan;
  plan.outputs = {output("a", random.bytes(100)), output("b", random.bytes(100))};
  EXPECT_EQ(code(plan), "exists");
  EXPECT_EQ(read_file(folder / "b"), "mine");
  EXPECT_FALSE(fs::exists(folder / "a"));
  EXPECT_EQ(code(plan, {.existing = Existing::replace}), "");
  EXPECT_EQ(read_file(folder / "b").size(), 100u);
}

TEST_F(Writing, WhatIsReadIsNeverWritten) {
  write_file(folder / "in", "input");
  fs::create_hard_link(folder / "in", folder / "link");
  fs::create_symlink(folder / "in", folder / "soft");
  for (const char* name : {"in", "link", "soft"}) {
    WritePlan plan;
    plan.outputs = {output(name, random.bytes(10))};
    WriteJob job{.existing = Existing::replace};
    job.inputs.add(folder / "in");
    EXPECT_EQ(code(plan, job), "output_is_input") << name;
    EXPECT_EQ(read_file(folder / "in"), "input");
  }
}

TEST_F(Writing, AnErrorOfTheSourceLeavesNothing) {
  class Broken final : public ByteSource {
   public:
    std::uint64_t size() const override { return 50 << 20; }
    std::string name() const override { return "broken"; }
    void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
      if (offset + out.size() > (30u << 20))
        throw Error({.fault = Fault::device, .code = "read_failed", .cause = Cause::unreadable, .what = "gone"});
      std::fill(out.begin(), out.end(), std::byte{1});
    }
  };
  WritePlan plan;
  plan.outputs = {output("new/first", random.bytes(1000))};
  plan.outputs.push_back({folder / "new/second", {SourceRun{std::make_shared<Broken>(), 0, 50 << 20}}, 50 << 20});
  EXPECT_EQ(code(plan), "read_failed");
  EXPECT_TRUE(listing(folder.path()).empty()) << "not even the folder";
}

TEST_F(Writing, WhatTheInspectionRefusesNeverGetsItsName) {
  write_file(folder / "a", "old");
  const Bytes bytes = random.bytes(5'000);
  WritePlan plan;
  plan.outputs = {output("a", bytes)};
  bool looked = false;
  WriteJob job{.existing = Existing::replace};
  job.inspect = [&](const FileSpacePtr& staged, const std::vector<WrittenFile>& written) {
    looked = true;
    const SourcePtr seen = staged->open(written.front().path);
    Bytes there(static_cast<std::size_t>(seen->size()));
    seen->read_at(0, there);
    EXPECT_TRUE(there == bytes) << "under its name to be, the new bytes are seen";
    EXPECT_EQ(read_file(folder / "a"), "old") << "and everybody else still sees the old ones";
    throw Error({.code = "not_the_same", .what = "no"});
  };
  EXPECT_EQ(code(plan, job), "not_the_same");
  EXPECT_TRUE(looked);
  EXPECT_EQ(read_file(folder / "a"), "old");
  EXPECT_EQ(listing(folder.path()).size(), 1u);
}

TEST_F(Writing, AStopAtAnyMomentLeavesNothingHalf) {
  const Bytes bytes = random.bytes(40 << 20);
  for (const std::uint64_t after : {0u, 1u, 5u, 20u, 39u}) {
    std::stop_source stop;
    QuietContext context;
    context.progress.stop = stop.get_token();
    class Stopping final : public ByteSource {
     public:
      Stopping(const Bytes& bytes, std::uint64_t at, std::stop_source stop) : bytes_(bytes), at_(at), stop_(stop) {}
      std::uint64_t size() const override { return bytes_.size(); }
      std::string name() const override { return "stopping"; }
      void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
        if (offset + out.size() > at_) stop_.request_stop();
        std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
      }

     private:
      const Bytes& bytes_;
      std::uint64_t at_;
      mutable std::stop_source stop_;
    };
    WritePlan plan;
    plan.outputs = {output("small", random.bytes(10))};
    plan.outputs.push_back({folder / "big",
                            {SourceRun{std::make_shared<Stopping>(bytes, after << 20, stop), 0, bytes.size()}},
                            bytes.size()});
    WriteJob job;
    job.target = target_facts(folder.path());
    try {
      write_outputs(image, plan, job, context);
      FAIL() << "it went on after the stop at " << after << " MiB";
    } catch (const Error& e) {
      EXPECT_EQ(e.details.fault, Fault::interrupted);
    }
    EXPECT_TRUE(listing(folder.path()).empty()) << after;
  }
}

TEST_F(Writing, WhatIsFinishedAlreadyOnlyGetsItsName) {
  write_file(folder / "working", "all of it");
  write_file(folder / "sub", "channel");
  WritePlan plan;
  plan.outputs = {output("disc.iso", random.bytes(9))};
  WriteJob job;
  job.finished[folder / "disc.iso"] = folder / "working";
  job.adopted[folder / "disc.sub"] = folder / "sub";
  job.texts[folder / "disc.map"] = "map";
  EXPECT_EQ(code(plan, job), "");
  EXPECT_EQ(read_file(folder / "disc.iso"), "all of it");
  EXPECT_EQ(read_file(folder / "disc.sub"), "channel");
  EXPECT_EQ(read_file(folder / "disc.map"), "map");
  EXPECT_EQ(listing(folder.path()).size(), 3u);
}

TEST_F(Writing, WallsAreSeenBeforeTheFirstByte) {
  WritePlan plan;
  plan.outputs = {output("a", random.bytes(10))};
  WriteJob job;
  job.target = target_facts(folder.path());
  EXPECT_NO_THROW(check_plan(image, plan, job));
  job.target.free_bytes = 9;
  EXPECT_THROW(check_plan(image, plan, job), Error) << "no room";
  job.target = with_file_system(target_facts(folder.path()), "fat32");
  plan.outputs[0].size_bytes = std::uint64_t{4} << 30;
  job.target.free_bytes = UINT64_MAX;
  EXPECT_THROW(check_plan(image, plan, job), Error) << "too large for FAT32";
  plan.outputs[0].size_bytes -= 1;
  EXPECT_NO_THROW(check_plan(image, plan, job));
  plan.outputs[0].path = folder / std::string(256, 'x');
  EXPECT_THROW(check_plan(image, plan, job), Error) << "a name no drive can have";
}

}  // namespace
}  // namespace opifex
