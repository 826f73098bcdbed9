// Patterns for paths, against a matcher that tries everything.
#include "opifex/core/base/glob.hpp"

#include <gtest/gtest.h>

#include "testkit.hpp"

namespace opifex {
namespace {

using testkit::Random;

using Parts = std::vector<std::string>;

Parts split(const std::string& path) {
  Parts parts;
  std::string part;
  for (const char c : path + "/")
    if (c != '/')
      part += c;
    else if (!part.empty())
      parts.push_back(std::exchange(part, ""));
  return parts;
}

/// By the definition alone: a star is nothing, or one character and a star.
bool part_model(const std::string& pattern, const std::string& name) {
  if (pattern.empty()) return name.empty();
  if (pattern[0] == '*')
    return part_model(pattern.substr(1), name) || (!name.empty() && part_model(pattern, name.substr(1)));
  return !name.empty() && (pattern[0] == '?' || pattern[0] == name[0]) && part_model(pattern.substr(1), name.substr(1));
}
bool model(const Parts& pattern, const Parts& path) {
  if (pattern.empty()) return true;  // a folder's path fits all below it
  const Parts rest(pattern.begin() + 1, pattern.end());
  if (pattern[0] == "**") {
    if (model(rest, path)) return true;
    return !path.empty() && model(pattern, Parts(path.begin() + 1, path.end()));
  }
  return !path.empty() && part_model(pattern[0], path[0]) && model(rest, Parts(path.begin() + 1, path.end()));
}

std::string random_path(Random& random, std::string_view characters) {
  std::string path;
  for (std::uint64_t parts = 1 + random.below(4); parts > 0; --parts) {
    if (!path.empty()) path += '/';
    for (std::uint64_t n = 1 + random.below(4); n > 0; --n) path += characters[random.below(characters.size())];
  }
  return path;
}

TEST(Patterns, FitWhatTheirDefinitionSays) {
  Random random(101);
  std::size_t fitted = 0;
  for (int i = 0; i < 60'000; ++i) {
    const std::string pattern = random_path(random, "ab*?*"), path = random_path(random, "ab");
    const bool expected = model(split(pattern), split(path));
    ASSERT_EQ(path_fits(pattern, path), expected) << pattern << " and " << path;
    fitted += expected ? 1u : 0u;
  }
  EXPECT_GT(fitted, 1'000u) << "both answers occur";
}

TEST(Patterns, CaseAndSlashesDoNotMatter) {
  EXPECT_TRUE(path_fits("data/*.bin", "DATA/Track.BIN"));
  EXPECT_TRUE(path_fits("/DATA//x", "data/x"));
  EXPECT_TRUE(path_fits("data/", "DATA/deep/er/x"));
  EXPECT_FALSE(path_fits("data", "database"));
  EXPECT_FALSE(path_fits("*.bin", "data/a.bin")) << "a star does not cross folders";
  EXPECT_TRUE(path_fits("**/*.bin", "a.bin"));
  EXPECT_FALSE(path_fits("", "a")) << "no pattern fits nothing";
}

TEST(Patterns, ManyStarsOnALongNameAreQuick) {
  const std::string pattern = "*a*a*a*a*a*a*a*a*a*a*a*a*b", name(5'000, 'a');
  EXPECT_FALSE(path_fits(pattern, name));
  EXPECT_TRUE(path_fits(pattern, name + "b"));
}

}  // namespace
}  // namespace opifex
