// The walls inside core: which room may include which, and what core never does.
#include <algorithm>
#include <functional>
#include <regex>

#include <gtest/gtest.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/platforms/identity.hpp"
#include "opifex/core/platforms/platforms.hpp"
#include "opifex/core/volumes/file_system.hpp"

#include "testkit.hpp"

namespace opifex::testkit {
namespace {

/// docs/architecture.md: later rooms may use earlier ones.
const std::vector<std::string> kRooms = {"base",    "io",    "cd",    "image", "volumes", "formats", "platforms",
                                         "convert", "check", "lists", "dump",  "shelf",   "stage",   "jobs"};

int rank(const std::string& room) {
  const auto at = std::find(kRooms.begin(), kRooms.end(), room);
  return at == kRooms.end() ? -1 : static_cast<int>(at - kRooms.begin());
}

std::vector<fs::path> core_sources() {
  std::vector<fs::path> files;
  for (const auto& entry : fs::recursive_directory_iterator(fs::path(OPIFEX_SOURCE) / "src/core"))
    if (entry.path().extension() == ".cpp" || entry.path().extension() == ".hpp") files.push_back(entry.path());
  return files;
}

std::string room_of(const fs::path& file) {
  const fs::path relative = fs::relative(file, fs::path(OPIFEX_SOURCE) / "src/core");
  auto part = relative.begin();
  if (*part == "include") std::advance(part, 3);  // include/opifex/core/ROOM
  return part->string();
}

TEST(Rooms, IncludeOnlyEarlierOnes) {
  const std::regex include("#include \"opifex/core/([a-z0-9_]+)/");
  int seen = 0;
  for (const fs::path& file : core_sources()) {
    const std::string text = read_file(file);
    const int own = rank(room_of(file));
    ASSERT_GE(own, 0) << file << " is in no room";
    for (std::sregex_iterator i(text.begin(), text.end(), include), end; i != end; ++i, ++seen)
      EXPECT_LE(rank((*i)[1]), own) << file << " includes " << (*i)[1];
  }
  EXPECT_GT(seen, 50) << "the pattern finds no includes any more";
}

TEST(Rooms, CoreNeverPrintsExitsOrAsksTheEnvironment) {
  const std::regex forbidden("std::c(out|err|in)\\b|\\bprintf\\(|fmt::print\\(|\\bgetenv\\(|std::exit\\(|\\b_exit\\(");
  for (const fs::path& file : core_sources()) {
    std::smatch match;
    const std::string text = read_file(file);
    EXPECT_FALSE(std::regex_search(text, match, forbidden)) << file << ": " << match.str();
  }
}

TEST(Rooms, CoreSpeaksOfNoOptions) {
  // In a hint a setting stands as <out>, a job as <job check>: the interface writes them as its users know them.
  const std::regex text("\"(?:[^\"\\\\\n]|\\\\.)*\"");
  const std::regex option(
      "--[a-z]|\\bopifex (identify|dump|rescue|convert|merge|split|rename|check|files|extract|build)\\b");
  std::size_t seen = 0;
  for (const fs::path& file : core_sources()) {
    std::istringstream lines(read_file(file));
    for (std::string line; std::getline(lines, line);) {
      if (trim(line).starts_with("//")) continue;
      for (std::sregex_iterator i(line.begin(), line.end(), text), end; i != end; ++i, ++seen)
        EXPECT_FALSE(std::regex_search(i->str(), option)) << file << ": " << i->str();
    }
  }
  EXPECT_GT(seen, 1000u) << "the pattern finds no texts any more";
}

TEST(Rooms, HeadersPullInLittle) {
  const fs::path root = fs::path(OPIFEX_SOURCE) / "src/core/include";
  const std::regex include("#include \"(opifex/core/[a-z0-9_/]+\\.hpp)\"");
  std::map<std::string, std::set<std::string>> direct;
  std::map<std::string, std::size_t> lines;
  for (const auto& entry : fs::recursive_directory_iterator(root)) {
    if (entry.path().extension() != ".hpp") continue;
    const std::string name = fs::relative(entry.path(), root).string(), text = read_file(entry.path());
    lines[name] = static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n'));
    for (std::sregex_iterator i(text.begin(), text.end(), include), end; i != end; ++i) direct[name].insert((*i)[1]);
    // Half a second a unit each: for source files that need them.
    for (const char* heavy : {"<iostream>", "<regex>", "<nlohmann/", "<tbb/", "<boost/program_options", "<openssl/"})
      EXPECT_EQ(text.find(heavy), std::string::npos) << name << " includes " << heavy;
  }
  std::vector<std::pair<std::size_t, std::string>> weights;
  for (const auto& [name, own] : lines) {
    std::set<std::string> all = {name};
    std::vector<std::string> open = {name};
    while (!open.empty()) {
      const std::string next = open.back();
      open.pop_back();
      for (const std::string& i : direct[next])
        if (all.insert(i).second) open.push_back(i);
    }
    std::size_t sum = 0;
    for (const std::string& i : all) sum += lines[i];
    weights.emplace_back(sum, name);
  }
  std::sort(weights.rbegin(), weights.rend());
  ASSERT_GT(weights.size(), 100u);
  std::size_t ten = 0;
  std::string told;
  for (std::size_t i = 0; i < 10; ++i) {
    ten += weights[i].first;
    told += fmt::format("{} {}\n", weights[i].first, weights[i].second);
  }
  EXPECT_LT(weights[0].first, 3800u) << told;
  EXPECT_LT(ten, 26'600u) << "lines of our own that the ten heaviest headers pull in:\n" << told;
}

TEST(Rooms, CommandFilesAreShort) {
  for (const auto& entry : fs::directory_iterator(fs::path(OPIFEX_SOURCE) / "src/cli")) {
    const std::string text = read_file(entry.path());
    const bool is_command = text.find("extern const Command k") != std::string::npos;
    const auto lines = std::count(text.begin(), text.end(), '\n');
    const std::string name = entry.path().filename().string();
    if (!is_command) continue;
    EXPECT_LT(lines, 120) << name;
  }
}

/// Every word of `ids` in quotes, in the program's sources, that `may_know` does not allow there. Returns how often
/// they were found at all.
std::size_t expect_unknown(const std::string& ids, const std::function<bool(const std::string& file)>& may_know) {
  const std::regex known("\"(" + ids + ")\"");
  std::size_t seen = 0;
  for (const auto& entry : fs::recursive_directory_iterator(fs::path(OPIFEX_SOURCE) / "src")) {
    const std::string file = fs::relative(entry.path(), OPIFEX_SOURCE).string();
    if (entry.path().extension() != ".cpp" && entry.path().extension() != ".hpp") continue;
    const std::string text = read_file(entry.path());
    for (std::sregex_iterator i(text.begin(), text.end(), known), end; i != end; ++i) {
      ++seen;
      EXPECT_TRUE(may_know(file)) << file << " knows " << i->str();
    }
  }
  return seen;
}

bool is_one_of(const std::string& file, const std::vector<std::string>& files) {
  return std::any_of(files.begin(), files.end(), [&](const std::string& f) { return file.starts_with(f); });
}

TEST(Rooms, NobodyKnowsAFileSystemByItsId) {
  // The same words as names of platforms, of formats, and of drives.
  const std::vector<std::string> others = {"src/core/volumes/",
                                           "src/core/platforms/",
                                           "src/core/include/opifex/core/platforms/",
                                           "src/core/formats/",
                                           "src/core/io/",
                                           "src/core/dump/folder_copy.cpp",
                                           "src/core/stage/loader_places.cpp",
                                           "src/demo/",
                                           "src/cli/demo",
                                           "src/core/include/opifex/core/"};
  std::string ids;
  for (const FileSystem* f : file_systems()) ids += (ids.empty() ? "" : "|") + std::string(f->id);
  EXPECT_GE(expect_unknown(ids, [&](const std::string& file) { return is_one_of(file, others); }),
            file_systems().size());
}

TEST(Rooms, NobodyKnowsAPlatformByItsId) {
  // Detectors, the formats that tell their machine, the places that loaders look in, and names of drives.
  const std::vector<std::string> own = {"src/core/platforms/",
                                        "src/core/include/opifex/core/platforms/",
                                        "src/core/formats/",
                                        "src/core/volumes/",
                                        "src/core/stage/loader_places.cpp",
                                        "src/core/io/",
                                        "src/core/dump/folder_copy.cpp",
                                        "src/core/dump/cartridge/sim_reader.cpp",  // buses of the readers' protocol
                                        "src/core/dump/cartridge/sim_cartridge.cpp",
                                        "src/demo/",
                                        "src/cli/demo",
                                        "src/core/include/opifex/core/"};
  std::string ids;
  for (const Platform& p : platforms())
    if (p.kind != PlatformKind::container) ids += (ids.empty() ? "" : "|") + std::string(p.id);
  EXPECT_GE(expect_unknown(ids, [&](const std::string& file) { return is_one_of(file, own); }), detectors().size());
}

TEST(Rooms, EveryPlatformIsToldOnce) {
  std::map<std::string_view, int> told;
  for (const Detector* d : detectors())
    for (const Platform& p : d->platforms) EXPECT_EQ(++told[p.id], 1) << p.id;
  EXPECT_GT(told.size(), 15u);
  EXPECT_EQ(platform_name("ps2"), "PS2");
  EXPECT_EQ(platform_name(""), "unknown");
  EXPECT_EQ(platform_name("nobody's"), "nobody's");
}

TEST(Rooms, EveryFileSystemDocumentsItself) {
  for (const auto& folder : fs::directory_iterator(fs::path(OPIFEX_SOURCE) / "src/core/volumes"))
    EXPECT_TRUE(!folder.is_directory() || fs::exists(folder.path() / "README.md")) << folder.path();
}

TEST(Rooms, EveryFormatDocumentsItself) {
  for (const auto& folder : fs::directory_iterator(fs::path(OPIFEX_SOURCE) / "src/core/formats"))
    EXPECT_TRUE(!folder.is_directory() || fs::exists(folder.path() / "README.md")) << folder.path();
}

/// Folder of a format under src/core/formats, by the id it registers.
std::string folder_of(const std::string& id) {
  if (id.starts_with("ps1-")) return "ps1-card";
  return id == "cue-tracks" ? "cue" : id;
}

TEST(Rooms, NobodyKnowsAFormatByItsId) {
  // The same words as extensions of files and names of folders, what a cartridge has, in the words of the readers'
  // protocol, and the words of known lists.
  const std::vector<std::string> names_of_files = {"src/core/io/part_names.cpp",
                                                   "src/core/stage/loader_places.cpp",
                                                   "src/core/dump/cartridge/sim_reader.cpp",
                                                   "src/core/dump/cartridge/reader_description.cpp",
                                                   "src/core/include/opifex/core/dump/ocr1.hpp",
                                                   "src/core/jobs/settings.cpp",
                                                   "src/core/lists/known_list.cpp",
                                                   "src/core/lists/text_list.cpp",
                                                   "src/core/lists/xml_list.cpp"};
  std::string ids, extensions;
  for (const Format* f : formats()) {
    ids += (ids.empty() ? "" : "|") + std::string(f->id);
    for (const std::string_view e : f->extensions)
      if (!e.empty()) extensions += (extensions.empty() ? "" : "|") + std::string(e.substr(1));
  }
  const std::regex known("\"(" + ids + ")\""), known_extension("\"\\.(" + extensions + ")\"");
  std::size_t seen = 0;
  for (const auto& entry : fs::recursive_directory_iterator(fs::path(OPIFEX_SOURCE) / "src")) {
    const std::string file = fs::relative(entry.path(), OPIFEX_SOURCE).string();
    if (entry.path().extension() != ".cpp" && entry.path().extension() != ".hpp") continue;
    const bool is_demo = file.starts_with("src/demo/") || file.starts_with("src/cli/demo");
    const bool is_file_system = file.find("/volumes/") != std::string::npos;  // some have the name of a format
    if (is_demo || is_file_system ||
        std::find(names_of_files.begin(), names_of_files.end(), file) != names_of_files.end())
      continue;
    const std::string text = read_file(entry.path());
    for (std::sregex_iterator i(text.begin(), text.end(), known), end; i != end; ++i) {
      const bool own = file.starts_with("src/core/formats/" + folder_of((*i)[1]) + "/");
      seen += own ? 1u : 0u;
      EXPECT_TRUE(own) << file << " knows " << i->str();
    }
    if (file.starts_with("src/core/formats/")) continue;
    for (std::sregex_iterator i(text.begin(), text.end(), known_extension), end; i != end; ++i)
      ADD_FAILURE() << file << " knows the extension " << i->str();
  }
  EXPECT_GE(seen, formats().size()) << "the pattern finds no ids any more";
}

}  // namespace
}  // namespace opifex::testkit
