// Long ways through the program, as its users go them.
#include <csignal>
#include <thread>

#include <fcntl.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include "program.hpp"

extern char** environ;

namespace opifex::testkit {
namespace {

class JourneyTest : public Program {};

TEST_F(JourneyTest, TheDemoWalksToItsEnd) {
  const Outcome run = cli({"demo", "workshop"});
  EXPECT_EQ(run.exit_code, 0) << run.out << run.err;
  for (const char* part :
       {"$ opifex identify 'workshop/Moth & Lantern.cue'", "$ opifex merge", "proved: the output decodes to the input",
        "--accept audio,form2", ": repairable\n", "mended/Kestrel Circuit (Disc 1).cue: intact"})
    EXPECT_TRUE(contains(run.out, part)) << part;
  EXPECT_TRUE(contains(run.err, "audio and form2 would be lost")) << run.err;
  EXPECT_EQ(cli({"demo", "workshop"}).exit_code, 4) << "an existing folder is not built over";
  EXPECT_EQ(cli({"demo", "workshop", "--overwrite"}).exit_code, 0);
  const Outcome json = cli({"demo", "second", "--json"});
  EXPECT_EQ(json.exit_code, 0);
  EXPECT_EQ(json.json()["results"][0]["steps"].size(), 39u);
}

TEST_F(JourneyTest, FromTracksThroughEveryFormatAndBack) {
  make_workshop();
  EXPECT_EQ(cli({"convert", moth, "--to", "cue", "--out", "1/", "--prove"}).exit_code, 0);
  EXPECT_EQ(cli({"convert", "1/Moth & Lantern.cue", "--to", "vcd", "--out", "2.vcd", "--prove"}).exit_code, 0);
  EXPECT_EQ(cli({"convert", "2.vcd", "--to", "cue-tracks", "--out", "3/Moth & Lantern.cue", "--prove"}).exit_code, 0);
  for (int t = 1; t <= 4; ++t) {
    const std::string name = fmt::format("Moth & Lantern (Track {}).bin", t);
    EXPECT_EQ(sha256_file(*this / ("3/" + name)), sha256_file(*this / name));
  }
  EXPECT_EQ(read_file(*this / "3/Moth & Lantern.cue"), read_file(*this / moth));
}

TEST_F(JourneyTest, ADumpIsFoundBrokenMendedRenamedAndConverted) {
  make_workshop();
  // The sheet was renamed without its bin, and a sector is scratched.
  fs::rename(*this / kestrel1, *this / "dump.cue");
  fs::rename(*this / "Kestrel Circuit (Disc 1).bin", *this / "dump.bin");
  flip_byte(*this / "dump.bin", 77 * 2352 + 1000);
  const Outcome seen = cli({"identify", "dump.cue"});
  EXPECT_TRUE(contains(seen.out, "[renamed]")) << seen.out;
  EXPECT_EQ(cli({"check", "dump.cue"}).exit_code, 1);
  EXPECT_EQ(cli({"check", "dump.cue", "--repair", "--out", "good/"}).exit_code, 0);
  EXPECT_EQ(cli({"rename", "good/dump.cue", "Kestrel Circuit (Disc 1)"}).exit_code, 0);
  EXPECT_EQ(cli({"convert", "good/Kestrel Circuit (Disc 1).cue", "--to", "vcd", "--prove"}).exit_code, 0);
  EXPECT_EQ(cli({"check", "good/Kestrel Circuit (Disc 1).vcd"}).exit_code, 0);
}

TEST_F(JourneyTest, CtrlCLeavesNothingUnderAFinalName) {
  // Large enough that the signal comes before the end.
  demo::write_disc({.stem = "big", .data_sectors = 40'000}, folder.path(), demo::Files::lone_bin);
  const auto before = listing(folder.path());
  int interrupted = 0;
  // At least 8 moments; more if the machine is so slow, or so fast, that none of them lay in the middle.
  constexpr int kMoments = 8, kMost = 60;
  for (int attempt = 0; attempt < kMoments || (interrupted == 0 && attempt < kMost); ++attempt) {
    pid_t pid = 0;
    const std::string in = (*this / "big.bin").string(), out = (*this / "out/big.vcd").string();
    const char* argv[] = {OPIFEX_PROGRAM, "convert",   in.c_str(), "--to", "vcd",
                          "--out",        out.c_str(), "--quiet",  nullptr};
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_addopen(&actions, 1, "/dev/null", O_WRONLY, 0);
    posix_spawn_file_actions_addopen(&actions, 2, "/dev/null", O_WRONLY, 0);
    ASSERT_EQ(::posix_spawn(&pid, OPIFEX_PROGRAM, &actions, nullptr, const_cast<char* const*>(argv), environ), 0);
    posix_spawn_file_actions_destroy(&actions);
    std::this_thread::sleep_for(std::chrono::milliseconds(10 * attempt));
    ::kill(pid, SIGINT);
    int status = 0;
    ::waitpid(pid, &status, 0);
    // Before the program has set itself up the signal ends it; after its end it is too late. In every case:
    const bool finished = WIFEXITED(status) && WEXITSTATUS(status) == 0;
    if (WIFEXITED(status) && WEXITSTATUS(status) == 130) ++interrupted;
    if (finished) {
      EXPECT_EQ(fs::file_size(*this / "out/big.vcd"), 0x100000u + 40'000u * 2352u);
      fs::remove_all(*this / "out");
    } else {
      EXPECT_FALSE(fs::exists(*this / "out/big.vcd"));
      fs::remove_all(*this / "out");
    }
    EXPECT_EQ(listing(folder.path()), before);
  }
  EXPECT_GT(interrupted, 0) << "no attempt was interrupted in the middle";
}

}  // namespace
}  // namespace opifex::testkit
