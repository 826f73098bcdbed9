// The demo: builds the workshop and walks the whole job with it, as its user would, through the same commands.
#include <algorithm>
#include <fstream>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/demo/wii_disc.hpp"
#include "opifex/demo/workshop.hpp"

#include "command.hpp"

namespace opifex::cli {
namespace {

namespace fs = std::filesystem;

const Setting kAgain{.name = "overwrite", .help = "build again over an earlier workshop"};

const SettingList& demo_settings() {
  static const SettingList list = {&kAgain};
  return list;
}

std::string quoted(const std::string& word) {
  const bool plain = word.find_first_of(" &()'") == std::string::npos;
  return plain ? word : "'" + word + "'";
}

struct Step {
  const char* says;
  std::vector<std::string> words;  ///< behind an @ a path in the workshop
  int expected;
};

/// Damages what a scratch would: a few bytes of one sector.
void scratch(const fs::path& file) {
  constexpr std::streamoff kSector = 40, kInside = 600, kBytes = 24;
  std::fstream f(file, std::ios::in | std::ios::out | std::ios::binary);
  f.seekp(kSector * 2352 + kInside);
  f << std::string(kBytes, '\x2A');
  if (!f)
    throw Error({.fault = Fault::device,
                 .code = "write_failed",
                 .what = "cannot damage the demo's copy",
                 .file = file.string()});
}

const std::vector<Step> kSteps = {
    {"What is in the box?", {"identify", "@Moth & Lantern.cue"}, kDone},
    {"A bin without a sheet: its contents tell what it is.", {"identify", "@Kestrel Circuit (Disc 2).bin"}, kDone},
    {"A disc in a drive (here a simulated one, with a scratch). First: what is it, and where would it go?",
     {"dump", "sim:@scratched.toml", "--out", "@dumps/first.cue", "--plan"},
     kDone},
    {"Then it is read. Damaged spots are tried again, slower each round; what stays lost is listed.",
     {"dump", "sim:@scratched.toml", "--out", "@dumps/first.cue", "--hashes", "sha1"},
     kBadNews},
    {"Another copy of the same disc, scratched elsewhere.",
     {"dump", "sim:@worn.toml", "--out", "@dumps/second.cue", "--hashes", "sha1"},
     kBadNews},
    {"Together they are whole: every sector is taken where its checksum proves it.",
     {"rescue", "@dumps/first.cue", "@dumps/second.cue", "--out", "@dumps/joined.cue", "--sha1"},
     kDone},
    {"Is the dump good? Every sector is verified, all hashes are taken, in one pass.",
     {"check", "@Moth & Lantern.cue"},
     kDone},
    {"One bin instead of four.", {"merge", "@Moth & Lantern.cue", "--out", "@merged/", "--prove"}, kDone},
    {"The container for running the disc on its successor's console, from the merged set.",
     {"convert", "@merged/Moth & Lantern.cue", "--to", "vcd", "--out", "@Moth & Lantern.vcd", "--prove"},
     kDone},
    {"An ISO would lose the music. Opifex says so and writes nothing.",
     {"convert", "@Moth & Lantern.cue", "--to", "iso"},
     kNeedsWord},
    {"With the user's word it is made.",
     {"convert", "@Moth & Lantern.cue", "--to", "iso", "--accept", "audio,form2"},
     kDone},
    {"What is inside?", {"files", "@Moth & Lantern.cue"}, kDone},
    {"A Wii disc, with its owner's (made-up) key.",
     {"identify", "@Tidewater Courier.iso", "--key-file", "@keys.toml"},
     kDone},
    {"With the key every cluster is verified by the disc's own hashes.",
     {"check", "@Tidewater Courier.iso", "--key-file", "@keys.toml", "--hashes", "sha1"},
     kDone},
    {"For a loader on a FAT32 drive: without empty blocks, in parts that fit, in one step.",
     {"convert", "@Tidewater Courier.iso", "--to", "wbfs", "--out",
      "@drive/wbfs/Tidewater Courier [ZW7EPR]/ZW7EPR.wbfs", "--limit", "fat32", "--prove"},
     kDone},
    {"Would the loader find it?", {"identify", "@drive"}, kDone},
    {"A scratch (24 bytes of one sector were just destroyed in a copy).",
     {"check", "@scratched/Kestrel Circuit (Disc 1).cue", "--hashes", "sha1"},
     kBadNews},
    {"The sector's own error correction mends it; the copy is checked again.",
     {"check", "@scratched/Kestrel Circuit (Disc 1).cue", "--hashes", "sha1", "--repair", "--out", "@mended/"},
     kDone},
};

/// Where @ stood, the path from here.
std::string in_workshop(const std::string& word, const fs::path& folder) {
  const std::size_t at = word.find('@');
  if (at == std::string::npos) return word;
  return word.substr(0, at) + (folder / word.substr(at + 1)).string();
}

void make_scratched_copy(const fs::path& folder) {
  const fs::path copies = folder / "scratched", name = "Kestrel Circuit (Disc 1)";
  fs::create_directories(copies);
  for (const char* extension : {".cue", ".bin"})
    fs::copy_file((folder / name).concat(extension), (copies / name).concat(extension),
                  fs::copy_options::overwrite_existing);
  scratch((copies / name).concat(".bin"));
}

/// A game on a Wii disc of one layer, most of it a hole, beside the update that such discs carry.
void make_wii_disc(const fs::path& folder, Existing existing) {
  constexpr std::uint64_t kGameAt = 0xF80'0000, kSingleLayer = 4'699'979'776;
  demo::WiiRecipe recipe;
  recipe.partitions.push_back(
      {.type = 1, .offset = 0x50000, .clusters = 1, .title = "Tidewater Courier update", .files = {}});
  recipe.partitions.push_back({.type = 0,
                               .offset = kGameAt,
                               .clusters = 130,
                               .title = recipe.title,
                               .files = {{"coast.bin", 0x8000, 900'000},
                                         {"letters/harbor.txt", 0x10'0000, 4'000},
                                         {"letters/quarry.txt", 0x10'1000, 3'000},
                                         {"music/crossing.bin", 0x20'0000, 1'500'000}}});
  recipe.disc_bytes = kSingleLayer;
  demo::write_wii_disc(recipe, folder / "Tidewater Courier.iso", existing);
  write_whole_file(folder / "keys.toml", demo::demo_key_file(), existing);
}

/// Two copies of Moth & Lantern in drives that do not exist.
void describe_drives(const fs::path& folder, Existing existing) {
  const auto drive = [&](const char* name, const char* defects) {
    write_whole_file(folder / name, std::string("seed = 7\n[disc]\nimage = \"Moth & Lantern.cue\"\n") + defects,
                     existing);
  };
  drive("scratched.toml",
        "# A ring that cannot be read, music that reads differently each time, and sectors that only need patience.\n"
        "[[defects]]\nkind = \"unreadable\"\nlba = [120, 139]\n"
        "[[defects]]\nkind = \"c2\"\nlba = [980, 989]\nbytes = 60\n"
        "[[defects]]\nkind = \"weak\"\nlba = [200, 215]\np = 0.3\n");
  drive("worn.toml",
        "[[defects]]\nkind = \"unreadable\"\nlba = [40, 59]\n[[defects]]\nkind = \"unreadable\"\nlba = [700, 712]\n");
}

void refuse_used_folder(const fs::path& folder, Existing existing) {
  if (existing == Existing::replace || !fs::exists(folder) || fs::is_empty(folder)) return;
  throw Error({.fault = Fault::needs_word,
               .code = "exists",
               .what = "the folder is not empty",
               .file = folder.string(),
               .hint = "<overwrite> builds the workshop again; another folder can be named"});
}

/// Of a second walk: what the first one wrote is replaced.
std::vector<std::string> line_of(const Step& step, const fs::path& folder, Existing existing) {
  std::vector<std::string> line;
  for (const std::string& word : step.words) line.push_back(in_workshop(word, folder));
  const bool repairs = std::find(line.begin(), line.end(), "--repair") != line.end();
  const bool writes = line[0] != "identify" && line[0] != "files" && (line[0] != "check" || repairs);
  if (existing == Existing::replace && writes) line.emplace_back("--overwrite");
  return line;
}

/// Runs a step as its user would. Its answer is shown, or with --json only how it ended.
report::Json run_step(Session& session, const Step& step, std::vector<std::string> line) {
  std::string shown = "opifex";
  for (const std::string& word : line) shown += " " + quoted(word);
  std::ostream nowhere(nullptr);
  Console silent{nowhere, nowhere};
  const bool quiet = session.wants_json();
  if (quiet)
    line.emplace_back("--quiet");
  else
    session.console().out << fmt::format("\n# {}\n$ {}\n", step.says, printable(shown)) << std::flush;
  const int code = dispatch(line, quiet ? silent : session.console(), session.work().progress.stop);
  session.work().progress.check_stop();
  if (code != step.expected)
    throw Error({.fault = Fault::device,
                 .code = "demo_failed",
                 .what = "a step of the demo did not end as it should",
                 .found = fmt::format("exit code {}", code),
                 .expected = fmt::format("{}", step.expected)});
  return {{"command", shown}, {"exit", code}};
}

void run_demo(Session& session) {
  const auto& words = session.words();
  const fs::path folder = words.empty() ? "demo-workshop" : words.front();
  const Existing existing = session.settings().flag(kAgain) ? Existing::replace : Existing::keep;
  refuse_used_folder(folder, existing);
  demo::build_workshop(folder, existing);
  make_scratched_copy(folder);
  make_wii_disc(folder, existing);
  describe_drives(folder, existing);
  if (!session.wants_json())
    session.console().out << fmt::format("The workshop of the Lantern Street Arcade Museum is in {}\n",
                                         printable(folder.string()));
  report::Json steps = report::Json::array();
  for (const Step& step : kSteps) steps.push_back(run_step(session, step, line_of(step, folder, existing)));
  session.result({{"folder", folder.string()}, {"steps", steps}}, "\nEverything above can be tried by hand.\n");
}

}  // namespace

extern const Command kDemo = {
    "demo",
    "[DIR]",
    "builds a workshop of made-up discs and walks the whole job with it",
    "Every command is printed before it runs. The folder (default: demo-workshop) must be new or empty.",
    "  opifex demo\n  opifex demo /tmp/workshop\n",
    &demo_settings,
    {0, 1},
    &run_demo};

}  // namespace opifex::cli
