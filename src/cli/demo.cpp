// The demo: builds the workshop and walks the whole job with it, as its user would, through the same commands.
#include <algorithm>
#include <fstream>
#include <iostream>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/demo/wii_disc.hpp"
#include "opifex/demo/workshop.hpp"

#include "command.hpp"

namespace opifex::cli {
namespace {

namespace fs = std::filesystem;

void declare_demo(po::options_description& options) {
  options.add_options()("overwrite", po::bool_switch(), "build again over an earlier workshop");
}

std::string quoted(const std::string& word) {
  const bool plain = word.find_first_of(" &()'") == std::string::npos;
  return plain ? word : "'" + word + "'";
}

struct Step {
  const char* says;
  std::vector<std::string> words;
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
    {"What is in the box?", {"identify", "Moth & Lantern.cue"}, kDone},
    {"A bin without a sheet: its contents tell what it is.", {"identify", "Kestrel Circuit (Disc 2).bin"}, kDone},
    {"A disc in a drive (here a simulated one, with a scratch). First: what is it, and where would it go?",
     {"dump", "sim:scratched.toml", "--out", "dumps/first.cue", "--plan"},
     kDone},
    {"Then it is read. Damaged spots are tried again, slower each round; what stays lost is listed.",
     {"dump", "sim:scratched.toml", "--out", "dumps/first.cue", "--hashes", "sha1"},
     kBadNews},
    {"Another copy of the same disc, scratched elsewhere.",
     {"dump", "sim:worn.toml", "--out", "dumps/second.cue", "--hashes", "sha1"},
     kBadNews},
    {"Together they are whole: every sector is taken where its checksum proves it.",
     {"rescue", "dumps/first.cue", "dumps/second.cue", "--out", "dumps/joined.cue", "--sha1"},
     kDone},
    {"Is the dump good? Every sector is verified, all hashes are taken, in one pass.",
     {"check", "Moth & Lantern.cue"},
     kDone},
    {"One bin instead of four.", {"merge", "Moth & Lantern.cue", "--out", "merged/", "--prove"}, kDone},
    {"The container for running the disc on its successor's console, from the merged set.",
     {"convert", "merged/Moth & Lantern.cue", "--to", "vcd", "--out", "Moth & Lantern.vcd", "--prove"},
     kDone},
    {"An ISO would lose the music. Opifex says so and writes nothing.",
     {"convert", "Moth & Lantern.cue", "--to", "iso"},
     kNeedsWord},
    {"With the user's word it is made.",
     {"convert", "Moth & Lantern.cue", "--to", "iso", "--accept", "audio,form2"},
     kDone},
    {"What is inside?", {"files", "Moth & Lantern.cue"}, kDone},
    {"A Wii disc, with its owner's (made-up) key.",
     {"identify", "Tidewater Courier.iso", "--key-file", "keys.toml"},
     kDone},
    {"With the key every cluster is verified by the disc's own hashes.",
     {"check", "Tidewater Courier.iso", "--key-file", "keys.toml", "--hashes", "sha1"},
     kDone},
    {"For a loader on a FAT32 drive: without empty blocks, in parts that fit, in one step.",
     {"convert", "Tidewater Courier.iso", "--to", "wbfs", "--out", "drive/wbfs/Tidewater Courier [ZW7EPR]/ZW7EPR.wbfs",
      "--limit", "fat32", "--prove"},
     kDone},
    {"Would the loader find it?", {"identify", "drive"}, kDone},
    {"A scratch (24 bytes of one sector were just destroyed in a copy).",
     {"check", "scratched/Kestrel Circuit (Disc 1).cue", "--hashes", "sha1"},
     kBadNews},
    {"The sector's own error correction mends it; the copy is checked again.",
     {"check", "scratched/Kestrel Circuit (Disc 1).cue", "--hashes", "sha1", "--repair", "--out", "mended/"},
     kDone},
};

void make_scratched_copy() {
  fs::create_directories("scratched");
  for (const char* extension : {".cue", ".bin"})
    fs::copy_file(std::string("Kestrel Circuit (Disc 1)") + extension,
                  std::string("scratched/Kestrel Circuit (Disc 1)") + extension, fs::copy_options::overwrite_existing);
  scratch("scratched/Kestrel Circuit (Disc 1).bin");
}

/// A game on a Wii disc of one layer, most of it a hole, beside the update that such discs carry.
void make_wii_disc(Existing existing) {
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
  demo::write_wii_disc(recipe, "Tidewater Courier.iso", existing);
  write_whole_file("keys.toml", demo::demo_key_file(), existing);
}

/// Two copies of Moth & Lantern in drives that do not exist.
void describe_drives(Existing existing) {
  const auto drive = [&](const char* name, const char* defects) {
    write_whole_file(name, std::string("seed = 7\n[disc]\nimage = \"Moth & Lantern.cue\"\n") + defects, existing);
  };
  drive("scratched.toml",
        "# A ring that cannot be read, music that reads differently each time, and sectors that only need patience.\n"
        "[[defects]]\nkind = \"unreadable\"\nlba = [120, 139]\n"
        "[[defects]]\nkind = \"c2\"\nlba = [980, 989]\nbytes = 60\n"
        "[[defects]]\nkind = \"weak\"\nlba = [200, 215]\np = 0.3\n");
  drive("worn.toml",
        "[[defects]]\nkind = \"unreadable\"\nlba = [40, 59]\n[[defects]]\nkind = \"unreadable\"\nlba = [700, 712]\n");
}

void run_demo(Session& session) {
  const auto words = session.list("words");
  if (words.size() > 1)
    throw Error({.fault = Fault::usage, .code = "usage", .what = "demo takes one folder", .hint = "opifex help demo"});
  const fs::path folder = words.empty() ? "demo-workshop" : words.front();
  const bool again = session.flag("overwrite");
  if (fs::exists(folder) && !fs::is_empty(folder) && !again)
    throw Error({.fault = Fault::needs_word,
                 .code = "exists",
                 .what = "the folder is not empty",
                 .file = folder.string(),
                 .hint = "--overwrite builds the workshop again; another folder can be named"});
  demo::build_workshop(folder, again ? Existing::replace : Existing::keep);
  fs::current_path(folder);
  make_scratched_copy();
  make_wii_disc(again ? Existing::replace : Existing::keep);
  describe_drives(again ? Existing::replace : Existing::keep);
  const bool quiet = session.flag("json");
  if (!quiet)
    std::cout << fmt::format("The workshop of the Lantern Street Arcade Museum is in {}\n", printable(folder.string()));
  report::Json steps = report::Json::array();
  for (const Step& step : kSteps) {
    std::vector<std::string> line = step.words;
    if (again && step.words[0] != "identify" && step.words[0] != "files") line.emplace_back("--overwrite");
    if (again && step.words[0] == "check" && std::find(line.begin(), line.end(), "--repair") == line.end())
      line.pop_back();
    std::string shown = "opifex";
    for (const std::string& word : line) shown += " " + quoted(word);
    int code = kDone;
    if (quiet) {
      line.emplace_back("--quiet");
      // Only the outcome is wanted; what the steps print has no place in the document.
      std::streambuf* const out = std::cout.rdbuf(nullptr);
      std::streambuf* const err = std::cerr.rdbuf(nullptr);
      code = dispatch(line, session.work().progress.stop);
      std::cout.rdbuf(out);
      std::cerr.rdbuf(err);
      std::cout.clear();
      std::cerr.clear();
    } else {
      std::cout << fmt::format("\n# {}\n$ {}\n", step.says, shown) << std::flush;
      code = dispatch(line, session.work().progress.stop);
    }
    session.work().progress.check_stop();
    steps.push_back({{"command", shown}, {"exit", code}});
    if (code != step.expected)
      throw Error({.fault = Fault::device,
                   .code = "demo_failed",
                   .what = "a step of the demo did not end as it should",
                   .found = fmt::format("exit code {}", code),
                   .expected = fmt::format("{}", step.expected)});
  }
  session.result({{"folder", folder.string()}, {"steps", steps}},
                 fmt::format("\nEverything above can be tried by hand: cd {}\n", printable(folder.string())));
}

}  // namespace

extern const Command kDemo = {
    "demo",
    "[DIR]",
    "builds a workshop of made-up discs and walks the whole job with it",
    "Every command is printed before it runs. The folder (default: demo-workshop) must be new or empty.",
    "  opifex demo\n  opifex demo /tmp/workshop\n",
    &declare_demo,
    kAnyWords,
    &run_demo};

}  // namespace opifex::cli
