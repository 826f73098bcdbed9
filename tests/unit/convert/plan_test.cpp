// Every kind of content offered to every format: a plan that is kept, or a refusal that says what it is.
#include "opifex/core/convert/plan.hpp"

#include <gtest/gtest.h>

#include "opifex/demo/workshop.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

Image of(Content content) {
  Image image;
  image.path = "thing";
  image.format = &bare_format(Stored::blocks);
  image.content = std::move(content);
  return image;
}

std::vector<std::pair<std::string, Image>> contents_without_a_disc() {
  const SourcePtr bytes = zero_source(1 << 20);
  return {
      {"nothing", of(NoContent{})},
      {"floppy", of(BlockContent{.bytes = zero_source(901'120), .medium = BlockMedium::floppy, .block_bytes = 512})},
      {"memory card", of(BlockContent{.bytes = bytes, .medium = BlockMedium::memory_card, .block_bytes = 8192})},
      {"small blocks", of(BlockContent{.bytes = bytes, .block_bytes = 512})},
      {"rom", of(RomContent{.bytes = bytes})},
      {"package", of(FileContent{"package"})}};
}

class Planning : public testing::Test {
 protected:
  Conversion plan(const Image& image, const Format& target, std::set<std::string> accepted = {}) {
    QuietContext context;
    const fs::path out = folder / ("out" + std::string(target.extensions.front()));
    return plan_conversion(image, {&target, out, {}, std::move(accepted)}, context);
  }
  const TempFolder folder;
};

TEST_F(Planning, WhatIsNoDiscIsRefusedByWhatItIsAndNeverForItsSize) {
  for (const auto& [what, image] : contents_without_a_disc())
    for (const Format* target : formats()) {
      if (!target->plan_write || (target->holds.packages && what == "package")) continue;
      if (target->holds.floppies && what == "floppy") continue;
      try {
        plan(image, *target);
        ADD_FAILURE() << what << " into " << target->id;
      } catch (const Error& e) {
        EXPECT_EQ(e.details.fault, Fault::refused) << what << " into " << target->id;
        EXPECT_EQ(e.details.what.find("too large"), std::string::npos) << e.details.what;
        EXPECT_FALSE(e.details.what.empty());
        if (what == "package") {
          EXPECT_NE(e.details.hint.find("<job extract>"), std::string::npos) << target->id;
        }
      }
    }
  EXPECT_TRUE(listing(folder.path()).empty());
}

TEST_F(Planning, BlocksOfADvdAreTooLargeForFormatsOfCdsAndThatIsSaid) {
  const Image dvd = of(BlockContent{.bytes = zero_source(std::uint64_t{4} << 30)});
  for (const Format* target : formats()) {
    const Capabilities& holds = target->holds;
    if (!target->plan_write || holds.blocks || holds.roms || holds.floppies || holds.saves) continue;
    try {
      plan(dvd, *target);
      ADD_FAILURE() << target->id;
    } catch (const Error& e) {
      EXPECT_EQ(e.details.code, "not_a_cd") << target->id;
    }
  }
}

TEST_F(Planning, APlanWritesNothingAndWhatIsWrittenIsThePlan) {
  const fs::path sheet = demo::write_disc({.stem = "Moth", .streamed_sectors = 20, .audio_sectors = {200, 160}},
                                          folder / "in", demo::Files::bin_per_track);
  const Image image = open_image(sheet);
  const auto before = listing(folder.path());
  for (const Format* target : formats()) {
    if (!target->plan_write) continue;
    Conversion conversion;
    try {
      conversion = plan(image, *target, {content_loss_kinds().begin(), content_loss_kinds().end()});
    } catch (const Error& e) {
      EXPECT_EQ(e.details.fault, Fault::refused) << target->id;
      continue;  // a disc of another console
    }
    EXPECT_EQ(listing(folder.path()), before) << target->id << ": a plan only reads";
    EXPECT_FALSE(conversion.plan.steps.empty()) << target->id;
    for (const Loss& l : conversion.losses) EXPECT_TRUE(l.accepted) << target->id << " " << l.kind;
    const std::vector<PlannedFile> planned = planned_files(conversion.plan);
    QuietContext context;
    WriteJob job;
    job.target = target_facts(folder.path());
    const std::vector<WrittenFile> written = write_outputs(image, conversion.plan, job, context);
    ASSERT_EQ(written.size(), planned.size()) << target->id;
    std::uint64_t total = 0;
    for (std::size_t i = 0; i < written.size(); ++i) {
      EXPECT_EQ(written[i].path, planned[i].path) << target->id;
      EXPECT_LE(written[i].size_bytes, planned[i].size_bytes) << target->id << ": room was asked for";
      EXPECT_EQ(fs::file_size(written[i].path), written[i].size_bytes);
      total += planned[i].size_bytes;
    }
    EXPECT_EQ(conversion.output_bytes(), total) << target->id;
    for (const WrittenFile& f : written) fs::remove(f.path);
  }
}

TEST_F(Planning, WhatCapabilitiesPromiseIsKeptWithoutALoss) {
  const fs::path sheet = demo::write_disc({.stem = "Moth", .streamed_sectors = 20, .audio_sectors = {200}},
                                          folder / "in", demo::Files::bin_per_track);
  const Image image = open_image(sheet);
  for (const Format* target : formats()) {
    const Capabilities& c = target->holds;
    if (!target->plan_write || !c.audio) continue;
    const Conversion conversion = plan(image, *target);
    const auto lost = [&](const char* kind) {
      return std::any_of(conversion.losses.begin(), conversion.losses.end(),
                         [&](const Loss& l) { return l.kind == kind; });
    };
    EXPECT_EQ(lost("tracks"), !c.track_list) << target->id;
    EXPECT_EQ(lost("form2"), !c.form2) << target->id;
    EXPECT_FALSE(lost("audio")) << target->id;
  }
}

}  // namespace
}  // namespace opifex
