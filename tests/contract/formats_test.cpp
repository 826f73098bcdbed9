// What every registered format owes: a new one is tested here by its line in the registry alone.
#include <gtest/gtest.h>

#include "opifex/core/check/prove.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/demo/workshop.hpp"

#include "samples.hpp"

namespace opifex {
namespace {

using namespace testkit;

class EveryFormat : public testing::TestWithParam<const Format*> {
 protected:
  const Format& format() const { return *GetParam(); }
  fs::path out(const std::string& where) const {
    return folder / where / ("game" + std::string(format().extensions.front()));
  }

  Image source() const { return richest_source(format(), folder); }
  std::vector<WrittenFile> write(const Image& image, const fs::path& to, unsigned threads = 0) {
    Progress progress;
    JobContext context{progress, threads};
    const Conversion conversion = plan_conversion(image, {&format(), to}, context);
    EXPECT_TRUE(conversion.refused().empty());
    return write_outputs(image, conversion.plan, {.hash_outputs = true}, context);
  }
  /// Writes an image; the file by which the result is opened.
  fs::path make(const Image& image) {
    const fs::path to = out("a");
    const auto written = write(image, to);
    return fs::exists(to) ? to : written.back().path;  // some make folders of their own
  }
  TempFolder folder;
};

TEST_P(EveryFormat, RecognisesWhatItWrote) {
  const Image back = open_image(make(source()));
  EXPECT_EQ(back.format->id, format().id);
}

TEST_P(EveryFormat, GivesBackEverySectorItCanHold) {
  const Image image = source();
  QuietContext context;
  EXPECT_EQ(prove_same(image, open_image(make(image)), {.holds = format().holds}, context).sha1.size(), 40u);
}

TEST_P(EveryFormat, WritesTheSameBytesOnOneThreadAndMany) {
  const Image image = source();
  const auto one = write(image, out("one"), 1), many = write(image, out("many"), 2);
  ASSERT_EQ(one.size(), many.size());
  for (std::size_t i = 0; i < one.size(); ++i) EXPECT_EQ(one[i].sha1, many[i].sha1);
}

TEST_P(EveryFormat, SaysTheSizesItWrites) {
  for (const WrittenFile& f : write(source(), out("a"))) EXPECT_EQ(fs::file_size(f.path), f.size_bytes);
}

TEST_P(EveryFormat, LeavesNothingWhenStopped) {
  const Image image = source();
  QuietContext quiet;
  const Conversion conversion = plan_conversion(image, {&format(), out("a")}, quiet);
  std::stop_source stop;
  stop.request_stop();
  Progress progress;
  progress.stop = stop.get_token();
  JobContext context{progress, 0};
  EXPECT_THROW(write_outputs(image, conversion.plan, {}, context), Error);
  EXPECT_FALSE(fs::exists(folder / "a"));
}

TEST_P(EveryFormat, EveryTruncationOpensOrIsRefusedButNeverCrashes) {
  const fs::path file = make(source());
  const std::string whole = read_file(file);
  Random random(21);
  std::vector<std::size_t> cuts = {0, 1, 15, 16, 2047, 2048, 2351, 2352, 32768 + 6, 0x100000, 0x100000 + 2351};
  for (int i = 0; i < 40; ++i) cuts.push_back(random.below(whole.size()));
  if (whole.size() < 4096)
    for (std::size_t n = 0; n < whole.size(); ++n) cuts.push_back(n);
  for (const std::size_t cut : cuts) {
    write_file(file, whole.substr(0, cut));
    try {
      const Image image = open_image(file);
      if (!image.cd()) continue;
      cd::Sector s;
      for (const Extent& e : image.cd()->extents()) image.cd()->read_sector(e.end() - 1, s);
    } catch (const Error& e) {
      EXPECT_FALSE(e.details.what.empty()) << cut;
    }
  }
}

TEST_P(EveryFormat, RandomDamageOpensOrIsRefusedButNeverCrashes) {
  const fs::path file = make(source());
  const std::string whole = read_file(file);
  Random random(22);
  for (int i = 0; i < 60; ++i) {
    std::string bytes = whole;
    for (int k = 0; k < 8; ++k)
      bytes[random.below(std::min<std::size_t>(bytes.size(), i % 2 ? 4096 : bytes.size()))] =
          static_cast<char>(random.next());
    write_file(file, bytes);
    try {
      const Image image = open_image(file);
      EXPECT_FALSE(std::holds_alternative<NoContent>(image.content));
    } catch (const Error& e) {
      EXPECT_FALSE(e.details.code.empty()) << e.what();
    }
  }
}

std::vector<const Format*> written_formats() {
  std::vector<const Format*> written;
  for (const Format* f : formats())
    if (f->plan_write) written.push_back(f);
  return written;
}

INSTANTIATE_TEST_SUITE_P(Formats, EveryFormat, testing::ValuesIn(written_formats()),
                         [](const testing::TestParamInfo<const Format*>& i) { return case_name(i.param->id); });

TEST(LosslessRoundTrip, TracksToOneBinToVcdAndBack) {
  const TempFolder folder;
  const Image start = open_image(demo::write_disc(
      {.stem = "game", .data_sectors = 60, .streamed_sectors = 5, .audio_sectors = {25, 40}, .pregap_sectors = 12},
      folder / "0", demo::Files::bin_per_track));
  // Raw sectors with odd parity must come through as they are.
  flip_byte(folder / "0/game (Track 1).bin", 30 * 2352 + 2100);
  QuietContext context;
  fs::path last = start.path;
  int step = 0;
  for (const char* id : {"cue", "vcd", "cue-tracks"}) {
    const Format& format = *find_format(id);
    const Image image = open_image(last);
    last = folder / std::to_string(++step) / ("game" + std::string(format.extensions.front()));
    const Conversion conversion = plan_conversion(image, {&format, last}, context);
    ASSERT_TRUE(conversion.losses.empty()) << id;
    write_outputs(image, conversion.plan, {}, context);
  }
  for (int t = 1; t <= 3; ++t) {
    const std::string name = fmt::format("game (Track {}).bin", t);
    EXPECT_EQ(sha256_file(folder / ("3/" + name)), sha256_file(folder / ("0/" + name))) << name;
  }
}

}  // namespace
}  // namespace opifex
