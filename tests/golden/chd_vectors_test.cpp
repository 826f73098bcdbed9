// Every sample of tests/vectors/chd: headers, maps, metadata, tracks, hashes of what is decoded, and every refusal.
#include <tuple>

#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/check/prove.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/core/formats/chd/chd.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/image/format.hpp"

#include "testkit.hpp"

namespace opifex::testkit {
namespace {

using chd::Chd;
using nlohmann::json;

const json& expected() {
  static const json all = vector_json("chd/expected.json");
  return all;
}

std::string underscored(std::string s) {
  std::replace(s.begin(), s.end(), '-', '_');
  return s;
}

/// Opens with the parents the sample names, and no others.
std::shared_ptr<const Chd> open_with(const std::string& file, const json& parents, std::size_t depth = 0) {
  return Chd::open(open_file(vector_path("chd/" + file)), [&](const chd::Sha1&) -> std::shared_ptr<const Chd> {
    return depth < parents.size() ? open_with(parents[depth], parents, depth + 1) : nullptr;
  });
}

std::string run_name(const Chd& file, const chd::Hunk& h) {
  const std::string name = file.kind_name(h);
  std::string text = name;
  if (name == "self" || name == "parent" || name == "parent-hunk") text += ":" + std::to_string(h.place);
  const bool no_crc = file.header().version < 5 && h.kind <= chd::HunkKind::stored && !h.crc_known;
  return text + (no_crc ? "!" : "");
}

/// "zlib", "self:4*3": runs as expected.json writes them.
std::vector<std::string> runs(const Chd& file) {
  std::vector<std::pair<std::string, int>> counted;
  for (const chd::Hunk& h : file.hunks()) {
    const std::string name = run_name(file, h);
    if (!counted.empty() && counted.back().first == name)
      ++counted.back().second;
    else
      counted.emplace_back(name, 1);
  }
  std::vector<std::string> result;
  for (const auto& [name, n] : counted) result.push_back(n > 1 ? fmt::format("{}*{}", name, n) : name);
  return result;
}

Bytes whole(const SourcePtr& source) {
  Bytes bytes(source->size());
  source->read_at(0, bytes);
  return bytes;
}

void check_tracks(const json& sample, const fs::path& path) {
  const Image image = open_image(path);
  ASSERT_TRUE(image.cd());
  const auto& layout = image.cd()->layout();
  const json& tracks = sample["tracks"];
  ASSERT_EQ(layout.tracks.size(), tracks.size());
  const int shift = layout.tracks[0].pregap_lba;  // the samples count from the first frame of track 1
  for (std::size_t i = 0; i < tracks.size(); ++i) {
    const json& t = tracks[i];
    const cd::Track& track = layout.tracks[i];
    SCOPED_TRACE(fmt::format("track {}", i + 1));
    EXPECT_EQ(track.pregap_lba - shift, t["lba_index0"].get<int>());
    EXPECT_EQ(track.start_lba - shift, t["lba_index1"].get<int>());
    EXPECT_EQ(track.mode.sector_bytes, t["sector_bytes"].get<int>());
    const Extent& e = image.cd()->extents()[i];
    Bytes stored(static_cast<std::size_t>(e.size_bytes()));
    image.cd()->read(SectorForm::stored, e.lba, e.sectors, stored);
    Bytes main, sub;
    const std::size_t each = stored_bytes(e.form), data = t["sector_bytes"].get<std::size_t>();
    for (std::size_t at = 0; at < stored.size(); at += each) {
      main.insert(main.end(), stored.begin() + static_cast<std::ptrdiff_t>(at),
                  stored.begin() + static_cast<std::ptrdiff_t>(at + data));
      sub.insert(sub.end(), stored.begin() + static_cast<std::ptrdiff_t>(at + data),
                 stored.begin() + static_cast<std::ptrdiff_t>(at + each));
    }
    EXPECT_EQ(main.size(), t["bin_bytes"].get<std::size_t>());
    EXPECT_EQ(digest_of("sha1", main), t["bin_sha1"]);
    if (t.contains("subcode_sha1")) {
      EXPECT_EQ(digest_of("sha1", sub), t["subcode_sha1"]);
    }
  }
}

TEST(ChdVectors, GoodSamplesAreReadToTheLastBit) {
  int seen = 0;
  for (const json& sample : expected()["samples"]) {
    if (sample["expect"] != "ok") continue;
    const std::string file = sample["file"];
    SCOPED_TRACE(file);
    ++seen;
    const auto chd = open_with(file, sample["parents"]);
    const chd::Header& h = chd->header();
    EXPECT_EQ(h.version, sample["version"]);
    EXPECT_EQ(h.logical_bytes, sample["logical_bytes"]);
    EXPECT_EQ(h.hunk_bytes, sample["hunk_bytes"]);
    EXPECT_EQ(h.unit_bytes, sample["unit_bytes"]);
    EXPECT_EQ(h.hunk_count, sample["hunk_count"]);
    EXPECT_EQ(runs(*chd), sample["hunks"].get<std::vector<std::string>>());
    const Bytes logical = whole(chd->logical());
    EXPECT_EQ(digest_of("sha1", logical), sample["logical_sha1"]);
    ASSERT_EQ(chd->tags().size(), sample["metadata"].size());
    for (std::size_t i = 0; i < chd->tags().size(); ++i) {
      const chd::Tag& tag = chd->tags()[i];
      const json& t = sample["metadata"][i];
      EXPECT_EQ(tag.name, t["tag"]);
      EXPECT_EQ(tag.flags, t["flags"]);
      EXPECT_EQ(tag.data.size(), t["length"]);
      EXPECT_EQ(tag.offset, t["offset"]);
      if (t.contains("text")) {
        EXPECT_EQ(tag.text(), t["text"].get<std::string>());
      }
    }
    // Reads at odd places through the cache give the same bytes.
    Random random(11);
    const SourcePtr source = chd->logical();
    for (int i = 0; i < 50; ++i) {
      const std::uint64_t at = random.below(logical.size());
      Bytes part(static_cast<std::size_t>(1 + random.below(logical.size() - at)));
      source->read_at(at, part);
      ASSERT_TRUE(std::equal(part.begin(), part.end(), logical.begin() + static_cast<std::ptrdiff_t>(at)));
    }
    if (sample.contains("tracks") && sample["tracks"].is_array()) check_tracks(sample, vector_path("chd/" + file));
    if (sample["raw_sha1_state"] == "ok") {
      QuietContext context;
      EXPECT_TRUE(open_image(vector_path("chd/" + file)).container->verify(context, nullptr).empty());
    }
  }
  EXPECT_EQ(seen, 31);
}

fs::path convert(const Image& image, const char* format, const fs::path& out) {
  QuietContext context;
  const ConvertRequest request{find_format(format), out};
  write_outputs(image, plan_conversion(image, request, context).plan, {}, context);
  return out;
}

/// Name, flags and data of each entry.
std::vector<std::tuple<std::string, int, Bytes>> metadata(const Chd& file) {
  std::vector<std::tuple<std::string, int, Bytes>> all;
  for (const chd::Tag& t : file.tags()) all.emplace_back(t.name, t.flags, t.data);
  return all;
}

TEST(ChdVectors, RewrittenTheyHoldTheSame) {
  int discs = 0, others = 0;
  for (const json& sample : expected()["samples"]) {
    if (sample["expect"] != "ok") continue;
    const std::string file = sample["file"];
    SCOPED_TRACE(file);
    const TempFolder folder;
    const Image image = open_image(vector_path("chd/" + file));
    const fs::path out = convert(image, "chd", folder / "again.chd");
    if (image.cd()) {
      ++discs;
      QuietContext context;
      EXPECT_EQ(prove_same(image, open_image(out), {.holds = find_format("chd")->holds}, context).sha1.size(), 40u);
      continue;
    }
    // Hard disks and plain data stay what they are, to the byte and with all that is said of them.
    ++others;
    const auto before = open_with(file, sample["parents"]), after = Chd::open(open_file(out), {});
    EXPECT_EQ(digest_of("sha1", whole(after->logical())), sample["logical_sha1"]);
    EXPECT_EQ(metadata(*after), metadata(*before));
    if (before->header().version > 3 && before->header().sha1) {
      EXPECT_EQ(after->header().sha1, before->header().sha1);
    }
    const std::string iso = read_file(convert(image, "iso", folder / "plain.iso"));
    EXPECT_EQ(digest_of("sha1", as_view(iso)), sample["logical_sha1"]);
  }
  EXPECT_GE(discs, 10);
  EXPECT_GE(others, 12);
}

TEST(ChdVectors, EveryRefusalHasItsReason) {
  int seen = 0;
  for (const json& sample : expected()["samples"]) {
    if (sample["expect"] != "refuse") continue;
    const std::string file = sample["file"], stage = sample["stage"];
    SCOPED_TRACE(file + ": " + sample["about"].get<std::string>());
    ++seen;
    std::vector<std::string> reasons;
    for (const std::string reason : sample["reasons"]) reasons.push_back(underscored(reason));
    const auto matches = [&](const std::string& code) {
      return std::find(reasons.begin(), reasons.end(), code) != reasons.end();
    };
    std::string code = "nothing";
    if (stage == "verify") {
      QuietContext context;
      const auto problems = open_image(vector_path("chd/" + file)).container->verify(context, nullptr);
      for (const ContainerProblem& p : problems) code = p.code;
    } else {
      try {
        const auto chd = open_with(file, sample["parents"]);
        if (stage == "open") {
          open_image(vector_path("chd/" + file));  // the tracks are looked at here
        } else {
          for (std::uint64_t n = 0; n < chd->header().hunk_count; ++n) {
            Bytes hunk(chd->header().hunk_bytes);
            try {
              chd->read_hunk(n, hunk);
            } catch (const Error& e) {
              EXPECT_EQ(n, sample["hunk"].get<std::uint64_t>()) << "only this hunk is damaged";
              code = e.details.code;
              break;
            }
          }
        }
      } catch (const Error& e) {
        code = e.details.code;
      }
    }
    EXPECT_TRUE(matches(code)) << "found " << code << ", expected " << fmt::format("{}", fmt::join(reasons, " or "));
  }
  EXPECT_EQ(seen, 80);
}

}  // namespace
}  // namespace opifex::testkit
