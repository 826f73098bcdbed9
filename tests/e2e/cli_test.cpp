// Options, messages and exit codes that all commands share.
#include "program.hpp"

namespace opifex::testkit {
namespace {

class CliTest : public Program {};

TEST_F(CliTest, WithoutWordsItSaysWhatItCanDo) {
  const Outcome run = cli({});
  EXPECT_EQ(run.exit_code, 2);
  EXPECT_TRUE(contains(run.out, "identify")) << run.out;
}

TEST_F(CliTest, EveryCommandHasHelpWithExamples) {
  for (const char* command : {"identify", "convert", "merge", "split", "rename", "check", "demo"}) {
    const Outcome by_option = cli({command, "--help"}), by_command = cli({"help", command});
    EXPECT_EQ(by_option.exit_code, 0);
    EXPECT_EQ(by_option.out, by_command.out);
    EXPECT_TRUE(contains(by_option.out, "Examples")) << command;
  }
  EXPECT_EQ(cli({"--help"}).exit_code, 0);
  EXPECT_TRUE(contains(cli({"--version"}).out, "opifex "));
  EXPECT_TRUE(contains(cli({"formats"}).out, "cue-tracks"));
}

TEST_F(CliTest, MisspeltWordsGetTheNearestRightOne) {
  const Outcome command = cli({"idenitfy", "x"});
  EXPECT_EQ(command.exit_code, 2);
  EXPECT_EQ(command.err, "opifex: there is no command named idenitfy\n  try: did you mean identify?\n");
  make_workshop();
  const Outcome option = cli({"convert", moth, "--too", "iso"});
  EXPECT_EQ(option.exit_code, 2);
  EXPECT_TRUE(contains(option.err, "did you mean --to?")) << option.err;
  const Outcome format = cli({"convert", moth, "--to", "vdc"});
  EXPECT_EQ(format.exit_code, 2);
  EXPECT_TRUE(contains(format.err, "did you mean vcd?")) << format.err;
  const Outcome loss = cli({"convert", moth, "--to", "iso", "--accept", "audo"});
  EXPECT_EQ(loss.exit_code, 2);
  EXPECT_TRUE(contains(loss.err, "did you mean audio?")) << loss.err;
}

TEST_F(CliTest, ExitCodesTellApartWhoseTurnItIs) {
  make_workshop();
  EXPECT_EQ(cli({"check", moth}).exit_code, 0);
  flip_byte(*this / "Moth & Lantern (Track 1).bin", 100'000);
  EXPECT_EQ(cli({"check", moth}).exit_code, 1);
  EXPECT_EQ(cli({"convert", moth}).exit_code, 2);
  write_file(*this / "noise.bin", "this is nothing");
  EXPECT_EQ(cli({"check", "noise.bin"}).exit_code, 3);
  EXPECT_EQ(cli({"check", "absent.cue"}).exit_code, 3);
  EXPECT_EQ(cli({"convert", moth, "--to", "iso"}).exit_code, 4);
  EXPECT_EQ(cli({"merge", kestrel1, "--out", kestrel2 + "/x.cue"}).exit_code, 5) << "a file is no folder";
  EXPECT_EQ(cli({"convert", kestrel1, "--to", "iso", "--out", "/dev/null"}).exit_code, 4)
      << "something is there already";
}

TEST_F(CliTest, TooManyWordsAreToldWithWhatTheCommandTakes) {
  const auto said = [&](const std::vector<std::string>& words) {
    const Outcome run = cli(words);
    EXPECT_EQ(run.exit_code, 2);
    return run.err;
  };
  EXPECT_TRUE(contains(said({"version", "more"}), "version takes nothing more, not 1 word\n"));
  EXPECT_TRUE(contains(said({"rename", "a.cue"}), "rename takes SET NEW-NAME, not 1 word\n"));
  EXPECT_TRUE(contains(said({"dump", "a", "b", "--out", "c"}), "dump takes SOURCE --out PATH, not 2 words\n"));
  EXPECT_TRUE(contains(said({"check"}), "check needs INPUT..."));
}

TEST_F(CliTest, ErrorsHaveThreeLinesAndGoToStderr) {
  const Outcome run = cli({"check", "absent.cue"});
  EXPECT_EQ(run.out, "");
  EXPECT_EQ(run.err,
            "opifex: there is no file of this name\n  where: absent.cue\n"
            "  try: check the name; put it in quotes if it holds spaces or &\n");
}

TEST_F(CliTest, JsonIsOneDocumentErrorsIncluded) {
  make_workshop();
  const Outcome good = cli({"identify", moth, kestrel2, "--json"});
  EXPECT_EQ(good.exit_code, 0);
  EXPECT_EQ(good.json()["opifex"], 1);
  EXPECT_EQ(good.json()["command"], "identify");
  EXPECT_EQ(good.json()["results"].size(), 2u);
  EXPECT_TRUE(good.json()["errors"].empty());
  const Outcome mixed = cli({"check", moth, "absent.bin", "--json"});
  EXPECT_EQ(mixed.exit_code, 3);
  EXPECT_EQ(mixed.json()["results"].size(), 1u);
  EXPECT_EQ(mixed.json()["errors"][0]["exit"], 3);
  EXPECT_EQ(mixed.json()["errors"][0]["file"], "absent.bin");
  const Outcome usage = cli({"convert", "--json", "--colour"});
  EXPECT_EQ(usage.exit_code, 2);
  EXPECT_EQ(usage.json()["errors"][0]["exit"], 2);
}

TEST_F(CliTest, OptionsTakeBothSpellings) {
  make_workshop();
  EXPECT_EQ(cli({"convert", kestrel1, "--to=iso", "--out=a.iso"}).exit_code, 0);
  EXPECT_EQ(cli({"convert", kestrel1, "--to", "iso", "--out", "b.iso"}).exit_code, 0);
  EXPECT_EQ(sha256_file(*this / "a.iso"), sha256_file(*this / "b.iso"));
}

TEST_F(CliTest, QuietSaysNothingButResultsAndErrors) {
  make_workshop();
  const Outcome run = cli({"convert", moth, "--to", "iso", "--accept", "audio,form2", "--prove", "--quiet"});
  EXPECT_EQ(run.exit_code, 0);
  EXPECT_EQ(run.err, "");
}

TEST_F(CliTest, NoProgressUnlessAskedForWhenStderrIsNoTerminal) {
  make_workshop();
  EXPECT_EQ(cli({"check", moth}).err, "");
}

TEST_F(CliTest, TheLogTellsWhatWasDone) {
  make_workshop();
  cli({"convert", moth, "--to", "iso", "--log", "log.txt"});
  const std::string log = read_file(*this / "log.txt");
  EXPECT_TRUE(contains(log, "command convert")) << log;
  EXPECT_TRUE(contains(log, "audio and form2 would be lost")) << log;
  EXPECT_TRUE(contains(log, "exit 4")) << log;
}

TEST_F(CliTest, ALogThatCannotBeWrittenIsAnErrorNotACrash) {
  make_workshop();
  const Outcome run = cli({"check", kestrel2, "--log", "/proc/nowhere/log.txt"});
  EXPECT_EQ(run.exit_code, 5);
  EXPECT_TRUE(contains(run.err, "the log cannot be written")) << run.err;
}

TEST_F(CliTest, HostileNamesCannotSteerTheTerminal) {
  write_file(*this / "a.cue", "FILE \"\x1b[2J\x07gone.bin\" BINARY\nTRACK 01 AUDIO\nINDEX 01 00:00:00\n");
  const Outcome run = cli({"check", "a.cue"});
  EXPECT_FALSE(contains(run.out + run.err, "\x1b"));
  EXPECT_TRUE(contains(run.out + run.err, "\\x1B[2J")) << run.out << run.err;
}

TEST_F(CliTest, ThreadsDoNotChangeTheBytes) {
  make_workshop();
  for (const char* n : {"1", "2", "7"}) {
    EXPECT_EQ(cli({"convert", moth, "--to", "vcd", "--out", std::string(n) + ".vcd", "--threads", n}).exit_code, 0);
    EXPECT_EQ(sha256_file(*this / (std::string(n) + ".vcd")), sha256_file(*this / "1.vcd"));
  }
  EXPECT_EQ(cli({"check", moth, "--threads", "many"}).exit_code, 2);
}

}  // namespace
}  // namespace opifex::testkit
