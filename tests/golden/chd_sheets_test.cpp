// Every good sheet of the vectors through a CHD and back: the same layout, texts and marks, the same sectors.
#include <gtest/gtest.h>

#include "opifex/core/check/prove.hpp"
#include "opifex/core/convert/plan.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;

std::vector<fs::path> sheets() {
  std::vector<fs::path> all;
  for (const char* folder : {"cue", "disc4", "mode1", "sub"}) {
    if (!fs::is_directory(vector_path("cd") / folder)) continue;
    for (const auto& entry : fs::recursive_directory_iterator(vector_path("cd") / folder))
      if (entry.path().extension() == ".cue") all.push_back(entry.path());
  }
  std::sort(all.begin(), all.end());
  return all;
}

/// Everything a layout knows, in our own words.
std::string sheet_of(const Image& image) {
  const WritePlan plan = find_format("cue-tracks")->plan_write(image, "disc.cue", {});
  return std::string(as_text(std::get<Bytes>(plan.outputs.back().pieces.front())));
}

TEST(ChdSheets, EveryDiscComesBackWithAllItsSheetSays) {
  int seen = 0, sessions = 0, texts = 0;
  QuietContext context;
  for (const fs::path& path : sheets()) {
    Image image;
    try {
      image = open_image(path);
    } catch (const Error&) {
      continue;  // a bad sheet: its own test knows why
    }
    SCOPED_TRACE(path.string());
    TempFolder folder;
    const ConvertRequest request{find_format("chd"), folder / "disc.chd"};
    const Conversion conversion = plan_conversion(image, request, context);
    ASSERT_TRUE(conversion.losses.empty()) << conversion.losses.front().kind;
    write_outputs(image, conversion.plan, {}, context);
    const Image back = open_image(folder / "disc.chd");
    for (const Warning& w : back.warnings) EXPECT_NE(w.code, "sheet_ignored");
    EXPECT_EQ(sheet_of(back), sheet_of(image));
    EXPECT_EQ(prove_same(image, back, {.holds = request.target->holds}, context).sha1.size(), 40u);
    const cd::Layout &a = image.cd()->layout(), &b = back.cd()->layout();
    ASSERT_EQ(a.tracks.size(), b.tracks.size());
    for (std::size_t i = 0; i < a.tracks.size(); ++i) {
      EXPECT_EQ(a.tracks[i].start_lba, b.tracks[i].start_lba);
      EXPECT_EQ(a.tracks[i].pregap_lba, b.tracks[i].pregap_lba);
      EXPECT_EQ(a.tracks[i].indexes, b.tracks[i].indexes);
      EXPECT_EQ(a.tracks[i].session, b.tracks[i].session);
    }
    EXPECT_EQ(a.lead_out, b.lead_out);
    ++seen;
    sessions += a.sessions.size() > 1 ? 1 : 0;
    texts += a.texts.empty() ? 0 : 1;
  }
  EXPECT_GT(seen, 30);
  EXPECT_GT(sessions, 0) << "the vectors should hold a disc of several sessions";
  EXPECT_GT(texts, 0) << "and one with CD-TEXT";
}

}  // namespace
}  // namespace opifex
