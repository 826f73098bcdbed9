// Proof by others' programs: what they read of our images, and what we read of theirs.
#include <fstream>
#include <sstream>

#include "program.hpp"

namespace opifex::testkit {
namespace {

/// SHA-256 of every file, by its path.
using Tree = std::map<std::string, std::string>;

class Others : public Program {
 protected:
  static Tree tree_of(const fs::path& folder) {
    Tree tree;
    for (const auto& entry : fs::recursive_directory_iterator(folder))
      if (entry.is_regular_file())
        tree[fs::relative(entry.path(), folder).generic_string()] = sha256_file(entry.path());
    return tree;
  }
  Tree our_tree(const std::string& image) {
    fs::remove_all(*this / "ours");
    const Outcome outcome = cli({"extract", image, "--into", "ours", "--check"});
    EXPECT_EQ(outcome.exit_code, 0) << outcome.err;
    return tree_of(*this / "ours");
  }
  Tree tar_tree(const std::string& image) {
    fs::remove_all(*this / "theirs");
    fs::create_directory(*this / "theirs");
    const Outcome outcome = run_program("/usr/bin/env", {"bsdtar", "-xf", image, "-C", "theirs"}, folder.path());
    EXPECT_EQ(outcome.exit_code, 0) << outcome.err;
    // Read-only folders would stay behind.
    for (const auto& entry : fs::recursive_directory_iterator(*this / "theirs"))
      fs::permissions(entry.path(), fs::perms::owner_all, fs::perm_options::add);
    return tree_of(*this / "theirs");
  }
  /// What Linux's drivers read; nothing where they cannot run.
  std::optional<Tree> kernel_tree(const std::string& image, const std::string& kind) {
    const std::string script = std::string(OPIFEX_SOURCE) + "/tests/others/kernel_tree.sh";
    const Outcome outcome = run_program(script, {image, kind}, folder.path());
    if (outcome.exit_code == 77) {
      std::fputs(outcome.err.c_str(), stderr);
      return std::nullopt;
    }
    EXPECT_EQ(outcome.exit_code, 0) << outcome.err;
    Tree tree;
    std::istringstream lines(outcome.out);
    for (std::string line; std::getline(lines, line);)
      if (line.size() > 66) tree[line.substr(66)] = line.substr(0, 64);
    return tree;
  }
  /// Long names, folders in folders, an empty file, a name beyond ASCII, and files that end within a sector.
  void make_image() {
    Random random(7);
    for (const char* name : {"A.BIN", "Deep Folder/more of it/a name that is rather long, with blanks.data",
                             "Deep Folder/Größe.txt", "music/track 1.raw", "music/track 2.raw"}) {
      const Bytes bytes = random.bytes(static_cast<std::size_t>(1 + random.below(90'000)));
      fs::create_directories((*this / ("tree/" + std::string(name))).parent_path());
      write_file(*this / ("tree/" + std::string(name)), as_text(bytes));
    }
    write_file(*this / "tree/EMPTY", "");
    const Outcome outcome =
        cli({"build", "tree", "--as", "iso", "--out", "ours.iso", "--fixed-dates", "--label", "NINE_BELLS_HARBOR"});
    ASSERT_EQ(outcome.exit_code, 0) << outcome.err;
  }
};

TEST_F(Others, ReadTheSameFilesInOurImages) {
  make_image();
  const Tree tree = tree_of(*this / "tree");
  ASSERT_EQ(tree.size(), 6u);
  EXPECT_EQ(our_tree("ours.iso"), tree);
  EXPECT_EQ(tar_tree("ours.iso"), tree);
  const Outcome kind = run_program("/usr/bin/file", {"ours.iso"}, folder.path());
  EXPECT_TRUE(contains(kind.out, "ISO 9660 CD-ROM filesystem data 'NINE_BELLS_HARBOR'")) << kind.out;
  for (const auto& [path, sha256] : tree) {
    if (path == "EMPTY") continue;  // it copies nothing
    const Outcome copy =
        run_program("/usr/bin/grub-fstest", {"ours.iso", "cp", "(loop0)/" + path, "copy"}, folder.path());
    EXPECT_EQ(copy.exit_code, 0) << copy.err;
    EXPECT_EQ(sha256_file(*this / "copy"), sha256) << path;
    fs::remove(*this / "copy");
  }
}

TEST_F(Others, LinuxReadsTheSameFilesInOurImages) {
  make_image();
  const auto tree = kernel_tree("ours.iso", "iso9660");
  if (!tree) GTEST_SKIP() << "Linux's own drivers were not asked";
  EXPECT_EQ(*tree, tree_of(*this / "tree"));
}

TEST_F(Others, ImagesThatDebianShipsAreReadAlike) {
  for (const char* image : {"/usr/lib/ipxe/ipxe.iso", "/usr/lib/grub-rescue/grub-rescue-cdrom.iso",
                            "/usr/lib/grub-rescue/grub-rescue-floppy.img"}) {
    SCOPED_TRACE(image);
    ASSERT_TRUE(fs::exists(image)) << "./dev setup installs it";
    const Tree ours = our_tree(image);
    EXPECT_GE(ours.size(), 5u);
    Tree theirs = tar_tree(image);
    // The boot catalogue has no file of its own for everyone.
    for (const char* catalogue : {"boot.cat", "boot.catalog"})
      if (!theirs.contains(catalogue) && ours.contains(catalogue)) theirs[catalogue] = ours.at(catalogue);
    EXPECT_EQ(ours, theirs);
    const auto linux_tree = kernel_tree(image, "iso9660");
    EXPECT_EQ(linux_tree.value_or(ours), ours);
  }
}

TEST_F(Others, LinuxReadsTheSameFilesOfUdf) {
  for (const char* name : {"udf-1.02", "udf-2.50"}) {
    SCOPED_TRACE(name);
    const std::string image = std::string(name) + ".iso";
    write_file(*this / image, gunzip(vector_path("iso/" + image + ".gz")));
    const auto tree = kernel_tree(image, "udf");
    if (!tree) GTEST_SKIP() << "Linux's own drivers were not asked";
    EXPECT_EQ(our_tree(image), *tree);
  }
}

/// A disk of files whose sizes lie around the ends of blocks and lists, in folders, after changes.
class OtherFloppies : public Others, public testing::WithParamInterface<const char*> {
 protected:
  bool is_fast() const { return std::string(GetParam()).starts_with("ffs"); }
  void make_floppy() {
    Random random(23);
    const std::size_t payload = is_fast() ? 512 : 488;
    const std::vector<std::size_t> sizes = {
        0, 1, payload - 1, payload, payload + 1, 72 * payload, 72 * payload + 1, 144 * payload + 1, 5000};
    for (std::size_t i = 0; i < sizes.size(); ++i)
      write_file(*this / fmt::format("tree/Drawer {}/file {}", i % 3, i), as_text(random.bytes(sizes[i])));
    write_file(*this / "tree/readme", "Nine Bells Harbor\n");
    ASSERT_EQ(
        cli({"build", "tree", "--as", "adf", "--kind", GetParam(), "--out", "d.adf", "--label", "Harbor"}).exit_code,
        0);
    // And what changes leave behind them.
    write_file(*this / "late", as_text(random.bytes(30'000)));
    const Outcome edited = cli({"edit", "d.adf", "--drop", "Drawer 1/file 7", "--move", "readme=Drawer 2/README",
                                "--folder", "Empty", "--put", "late", "--comment", "late=came last"});
    ASSERT_EQ(edited.exit_code, 0) << edited.err;
    fs::remove(*this / "tree/Drawer 1/file 7");
    fs::rename(*this / "tree/readme", *this / "tree/Drawer 2/README");
    fs::copy_file(*this / "late", *this / "tree/late");
  }
};

TEST_P(OtherFloppies, AreReadAlikeByLinux) {
  make_floppy();
  const auto tree = kernel_tree("d.adf", "affs");
  if (!tree) GTEST_SKIP() << "Linux's own drivers were not asked";
  EXPECT_EQ(*tree, tree_of(*this / "tree"));
}

TEST_P(OtherFloppies, AreReadAlikeByTheBootLoader) {
  if (!is_fast()) return;  // it reads FFS alone
  make_floppy();
  for (const auto& [path, sha256] : tree_of(*this / "tree")) {
    fs::remove(*this / "copy");
    // Debian's build gives memory of sound FFS images back twice, and ends itself: it is kept from giving any back.
    const std::string preload = std::string("LD_PRELOAD=") + OPIFEX_NO_FREE;
    const Outcome copy = run_program(
        "/usr/bin/timeout", {"20", "/usr/bin/env", preload, "grub-fstest", "d.adf", "cp", "(loop0)/" + path, "copy"},
        folder.path());
    if (copy.exit_code == 124) GTEST_SKIP() << "SKIPPED: grub-fstest did not come to an end";
    ASSERT_EQ(copy.exit_code, 0) << path << copy.err;
    EXPECT_EQ(sha256_file(*this / "copy"), sha256) << path;
  }
}

INSTANTIATE_TEST_SUITE_P(Kinds, OtherFloppies, testing::Values("ofs", "ffs", "ofs-intl", "ffs-intl", "ffs-dircache"),
                         [](const auto& i) {
                           std::string name = i.param;
                           std::replace(name.begin(), name.end(), '-', '_');
                           return name;
                         });

}  // namespace
}  // namespace opifex::testkit
