// The program of docs/library.md, compiled against an installed tree in the ways it names, and run.
#include "program.hpp"

namespace opifex::testkit {
namespace {

class Library : public Program {
 protected:
  void SetUp() override {
    make_workshop();
    const Outcome installed =
        run_program("/usr/bin/cmake", {"--install", OPIFEX_BUILD, "--prefix", (*this / "usr").string()}, folder.path());
    ASSERT_EQ(installed.exit_code, 0) << installed.err;
    const std::string page = read_file(fs::path(OPIFEX_SOURCE) / "docs/library.md");
    const std::string open = "```cpp\n";
    const std::size_t at = page.find(open) + open.size();
    write_file(*this / "program.cpp", page.substr(at, page.find("```", at) - at));
  }
  void expect_it_works(const std::string& program) {
    const Outcome sound = run_program((*this / program).string(), {moth, "made.chd"}, folder.path());
    EXPECT_EQ(sound.exit_code, 0) << sound.out << sound.err;
    EXPECT_EQ(sound.out, "Moth & Lantern.cue is intact\nwrote made.chd\n");
    EXPECT_EQ(cli({"check", "made.chd", "--same-as", moth}).exit_code, 0);
    const Outcome wrong = run_program((*this / program).string(), {"absent.cue", "x.chd"}, folder.path());
    EXPECT_EQ(wrong.exit_code, 3);
    EXPECT_TRUE(contains(wrong.err, "there is no file of this name")) << wrong.err;
  }
};

TEST_F(Library, IsFoundByCMake) {
  write_file(*this / "CMakeLists.txt",
             "cmake_minimum_required(VERSION 3.25)\nproject(program CXX)\nset(CMAKE_CXX_STANDARD 20)\n"
             "find_package(opifex REQUIRED)\nadd_executable(program program.cpp)\n"
             "target_link_libraries(program PRIVATE opifex::core)\n");
  const Outcome set = run_program(
      "/usr/bin/cmake", {"-S", ".", "-B", "out", "-DCMAKE_PREFIX_PATH=" + (*this / "usr").string()}, folder.path());
  ASSERT_EQ(set.exit_code, 0) << set.out << set.err;
  const Outcome made = run_program("/usr/bin/cmake", {"--build", "out"}, folder.path());
  ASSERT_EQ(made.exit_code, 0) << made.out << made.err;
  expect_it_works("out/program");
}

TEST_F(Library, IsFoundByPkgConfig) {
  std::string pages;
  for (const auto& entry : fs::recursive_directory_iterator(*this / "usr"))
    if (entry.path().extension() == ".pc") pages = entry.path().parent_path().string();
  ASSERT_FALSE(pages.empty());
  const Outcome made =
      run_program("/bin/sh",
                  {"-c", "PKG_CONFIG_PATH='" + pages +
                             "' && export PKG_CONFIG_PATH && "
                             "g++ -std=c++20 program.cpp -o program $(pkg-config --cflags --libs opifex)"},
                  folder.path());
  ASSERT_EQ(made.exit_code, 0) << made.err;
  expect_it_works("program");
}

TEST_F(Library, TheInstalledProgramHasItsPages) {
  const auto installed = listing(*this / "usr");
  for (const char* file : {"bin/opifex", "share/man/man1/opifex.1", "share/bash-completion/completions/opifex",
                           "share/zsh/site-functions/_opifex", "share/fish/vendor_completions.d/opifex.fish"}) {
    ASSERT_TRUE(installed.contains(file)) << file;
    EXPECT_GT(installed.at(file), 100u) << file;
  }
  const Outcome words = run_program(
      "/bin/bash",
      {"-c",
       ". usr/share/bash-completion/completions/opifex; COMP_WORDS=(opifex convert x --to c); COMP_CWORD=4; "
       "_opifex; echo ${COMPREPLY[*]}; COMP_WORDS=(opifex dump x --sub); COMP_CWORD=3; _opifex; echo ${COMPREPLY[*]}"},
      folder.path());
  EXPECT_EQ(words.out, "cue cue-tracks chd\n--subchannel\n") << words.err;
}

}  // namespace
}  // namespace opifex::testkit
