// Random edits of each file system that can be changed, against a plain model in memory that knows what should be
// there.
#include <map>
#include <set>

#include <gtest/gtest.h>
#include <malloc.h>

#include "opifex/core/volumes/amiga/disk.hpp"
#include "opifex/core/volumes/amiga/editor.hpp"
#include "opifex/core/volumes/file_system.hpp"
#include "opifex/core/volumes/kept_facts.hpp"
#include "opifex/core/volumes/nvram/nvram.hpp"
#include "opifex/core/volumes/ps1card/card.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;
using Kind = VolumeEdit::Kind;

#if defined(__SANITIZE_ADDRESS__)
constexpr int kEdits = 700;
#else
constexpr int kEdits = 10'000;
#endif

const FileSystem& system_for(const Bytes& image) {
  for (const FileSystem* system : file_systems())
    if (system->edit && system->read({memory_source(image, "image"), 0, nullptr})) return *system;
  throw std::runtime_error("nobody can change this");
}

/// What is in the image by the model: a null value is a folder.
using Model = std::map<std::string, std::optional<Bytes>>;

std::string parent_of(const std::string& path) {
  const std::size_t slash = path.rfind('/');
  return slash == std::string::npos ? "" : path.substr(0, slash);
}

class EditModel {
 public:
  EditModel(Bytes image, std::uint64_t seed) : image_(std::move(image)), random_(seed), system_(system_for(image_)) {}

  void run(int edits) {
    for (int i = 0; i < edits && !testing::Test::HasFatalFailure(); ++i) {
      SCOPED_TRACE(fmt::format("edit {}", i));
      step();
      if (testing::Test::HasFailure()) return;
    }
    EXPECT_GT(done_, edits / 3) << "most edits were refused: the model tests nothing";
    EXPECT_GT(refused_, edits / 100) << "nothing was ever refused";
  }
  virtual ~EditModel() = default;

 protected:
  virtual std::string new_name() = 0;
  virtual bool has_folders() const { return false; }
  virtual Bytes new_contents() = 0;
  /// As two names are compared.
  virtual std::string fold(const std::string& path) const = 0;
  virtual bool fits(const Bytes& contents, const Volume& now) const = 0;
  virtual void expect_more(const Volume&) {}

  Volume volume() const { return *system_.read({memory_source(image_, "image"), 0, nullptr}); }

  std::string any_path() {
    if (model_.empty()) return "none";
    auto at = model_.begin();
    std::advance(at, static_cast<std::ptrdiff_t>(random_.below(model_.size())));
    return at->first;
  }
  std::string any_folder() {
    std::vector<std::string> folders = {""};
    for (const auto& [path, contents] : model_)
      if (!contents) folders.push_back(path);
    return folders[random_.below(folders.size())];
  }
  std::string new_path() {
    const std::string folder = has_folders() ? any_folder() : "";
    return folder.empty() ? new_name() : folder + "/" + new_name();
  }
  bool is_there(const std::string& path) const {
    return std::any_of(model_.begin(), model_.end(), [&](const auto& e) { return fold(e.first) == fold(path); });
  }
  /// As the model has it, in whatever case it is named.
  std::string exact(const std::string& path) const {
    for (const auto& [known, contents] : model_)
      if (fold(known) == fold(path)) return known;
    return path;
  }
  bool is_empty_folder(const std::string& path) const {
    return std::none_of(model_.begin(), model_.end(), [&](const auto& e) { return e.first.starts_with(path + "/"); });
  }

  VolumeEdit random_edit() {
    const std::uint64_t what = random_.below(100);
    VolumeEdit edit;
    if (what < 45) {
      edit = {.kind = Kind::put, .path = new_path()};
      edit.named = true;
      edit.replace = random_.below(4) == 0;
      edit.contents = memory_source(new_contents(), "contents");
    } else if (what < 75) {
      edit = {.kind = Kind::drop, .path = any_path()};
      edit.with_all = random_.below(3) == 0;
    } else if (what < 85 && has_folders()) {
      edit = {.kind = Kind::make_folder, .path = new_path()};
    } else {
      edit = {.kind = Kind::move, .path = any_path(), .text = new_path()};
    }
    return edit;
  }

  /// What the model makes of it; the refusal's code where it must not go.
  std::string expected_refusal(const VolumeEdit& e, const Volume& now) const {
    const std::string path = exact(e.path);
    if (e.kind == Kind::put || e.kind == Kind::make_folder) {
      if (is_there(e.path)) {
        const bool file = model_.at(path).has_value();
        if (e.kind == Kind::make_folder || !file || !e.replace) return "exists";
      }
      if (e.kind == Kind::put && !is_there(e.path) && !fits(bytes_of(e), now)) return "full";
      return "";
    }
    if (!is_there(e.path)) return "no_such_path";
    if (e.kind == Kind::drop) return !model_.at(path) && !is_empty_folder(path) && !e.with_all ? "not_empty" : "";
    if (is_there(e.text) && fold(e.text) != fold(e.path)) return "exists";
    const std::string folder = fold(parent_of(e.text)) + "/", from = fold(path) + "/";
    return folder.starts_with(from) ? "into_itself" : "";
  }
  static Bytes bytes_of(const VolumeEdit& e) {
    return read_up_to(*e.contents, 0, static_cast<std::size_t>(e.contents->size()));
  }

  void apply(const VolumeEdit& e) {
    const std::string path = exact(e.path);
    if (e.kind == Kind::put) {
      model_.erase(path);
      model_[e.path] = bytes_of(e);
    } else if (e.kind == Kind::make_folder) {
      model_[e.path] = std::nullopt;
    } else if (e.kind == Kind::drop) {
      std::erase_if(model_, [&](const auto& m) { return m.first == path || m.first.starts_with(path + "/"); });
    } else {
      Model moved;
      for (auto& [name, contents] : model_)
        if (name == path || name.starts_with(path + "/"))
          moved[e.text + name.substr(path.size())] = std::move(contents);
        else
          moved[name] = std::move(contents);
      model_ = std::move(moved);
    }
  }

  void step() {
    const Volume before = volume();
    const VolumeEdit edit = random_edit();
    SCOPED_TRACE(fmt::format("{} {} {} {}", to_string(edit.kind), edit.path, edit.text,
                             edit.contents ? edit.contents->size() : 0));
    const std::string expected = expected_refusal(edit, before);
    std::string refused;
    EditPlan plan;
    try {
      plan = system_.edit({memory_source(image_, "image"), 0, nullptr}, std::span(&edit, 1), 700'000'000);
    } catch (const Error& e) {
      refused = e.details.code;
    }
    if (refused == "full" && expected.empty()) {  // what a directory itself needs is not reckoned here
      ++refused_;
      return;
    }
    ASSERT_EQ(refused, expected);
    if (!refused.empty()) {
      ++refused_;
      return;
    }
    const Bytes old = image_;
    apply_ranges(image_, plan.ranges);
    apply(edit);
    ++done_;
    const Volume after = volume();
    ASSERT_NO_THROW(require_edited(before, after, std::span(&edit, 1), plan.steps));
    expect_same(after);
    expect_more(after);
  }

  void expect_same(const Volume& now) {
    ASSERT_TRUE(now.problems.empty()) << now.problems.front().message;
    ASSERT_EQ(now.entries.size(), model_.size());
    for (const VolumeEntry& e : now.entries) {
      const auto at = model_.find(e.path);
      ASSERT_NE(at, model_.end()) << e.path;
      ASSERT_EQ(e.kind == EntryKind::folder, !at->second) << e.path;
      if (!at->second) continue;
      const SourcePtr bytes = now.open(e);
      ASSERT_EQ(read_up_to(*bytes, 0, static_cast<std::size_t>(bytes->size())), *at->second) << e.path;
    }
  }

  Bytes image_;
  Random random_;
  const FileSystem& system_;
  Model model_;
  int done_ = 0, refused_ = 0;
};

/// Names that meet without case, in one chain, with accents, of full length.
class FloppyModel final : public EditModel {
 public:
  FloppyModel(amiga::NewDisk disk, std::uint64_t seed) : EditModel(amiga::make_disk(disk), seed), kind_(disk.kind) {}

 private:
  std::string new_name() override {
    static const std::vector<std::string> kNames = {
        "readme",   "README",  "éclair",   "ÉCLAIR", "Mörser", "MÖRSER", "a",   "b.txt",      "tune.mod",
        "shelf106", "shelf84", "shelf160", "ÿ",      "÷",      "..",     "CON", "back\\slash"};
    const std::uint64_t which = random_.below(kNames.size() + 14);
    if (which < kNames.size()) return kNames[which];
    return which == kNames.size() ? std::string(30, 'x') : fmt::format("file {}", random_.below(60));
  }
  bool has_folders() const override { return true; }
  Bytes new_contents() override {
    const std::uint32_t p = kind_.payload();
    const std::vector<std::size_t> edges = {0, 1, p - 1, p, p + 1, 72 * p, 72 * p + 1, 144 * p, 144 * p + 1};
    const std::size_t size = random_.below(3) == 0 ? edges[random_.below(edges.size())] : random_.below(40'000);
    return random_.bytes(size);
  }
  std::string fold(const std::string& path) const override {
    return amiga::folded(amiga::latin1_of(path).value(), kind_);
  }
  bool fits(const Bytes& contents, const Volume& now) const override {
    return amiga::cost_of_file(contents.size(), kind_) <= now.space->free_blocks;
  }
  void expect_more(const Volume& now) override {
    // What is free and what is in use make the disk; nothing leaks.
    std::uint64_t used = 2 + 2;  // boot blocks, root, bitmap
    for (const VolumeEntry& e : now.entries) used += e.facts->blocks;
    if (kind_.cached()) {
      EXPECT_GE(used + now.space->free_blocks, now.blocks - 60);
    } else {
      EXPECT_EQ(used + now.space->free_blocks, now.blocks);
    }
  }
  amiga::Kind kind_;
};

class CardModel final : public EditModel {
 public:
  explicit CardModel(std::uint64_t seed) : EditModel(ps1card::make_card(), seed) {}

 private:
  std::string new_name() override {
    return fmt::format("BEPRXS-{:05}{}", random_.below(9), random_.below(2) == 0 ? "S0" : "s0");
  }
  Bytes new_contents() override {
    Bytes save = random_.bytes(8192 * (1 + random_.below(6)));
    const std::string_view head = "SC\x11";
    std::copy(as_view(head).begin(), as_view(head).end(), save.begin());
    save[3] = static_cast<std::byte>(save.size() / 8192);
    std::fill_n(save.begin() + 4, 64, std::byte{0});
    return save;
  }
  std::string fold(const std::string& path) const override { return path; }
  bool fits(const Bytes& contents, const Volume& now) const override {
    return contents.size() <= now.space->free_bytes;
  }
  void expect_more(const Volume& now) override {
    std::uint64_t used = 0;
    for (const VolumeEntry& e : now.entries) used += e.facts->blocks;
    EXPECT_EQ(used + now.space->free_blocks, 15u);
  }
};

class NvramModel final : public EditModel {
 public:
  explicit NvramModel(std::uint64_t seed) : EditModel(nvram::make_memory(), seed) {}

 private:
  std::string new_name() override {
    return fmt::format("{} {}", random_.below(2) ? "Save" : "SAVE", random_.below(25));
  }
  Bytes new_contents() override {
    return random_.bytes(random_.below(4) == 0 ? random_.below(6) : random_.below(4000));
  }
  std::string fold(const std::string& path) const override {
    std::string text = path;
    for (char& c : text) c = c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c;
    return text;
  }
  bool fits(const Bytes& contents, const Volume& now) const override {
    return round_up<std::size_t>(contents.size(), 4) <= now.space->largest_free_bytes &&
           now.space->largest_free_bytes > 0;
  }
};

/// Each of the six kinds has its share of the edits, and one of them high density.
class FloppyEdits : public testing::TestWithParam<unsigned> {};

TEST_P(FloppyEdits, StayWhatTheModelSays) {
  // Images come and go by the thousand: their memory is not given back each time.
  ::mallopt(M_MMAP_THRESHOLD, 64 << 20);
  ::mallopt(M_TRIM_THRESHOLD, 64 << 20);
  amiga::NewDisk disk{.kind = {GetParam()}};
  disk.high_density = GetParam() == 3;
  FloppyModel(disk, 19 + GetParam()).run(kEdits / 6 + 1);
}

INSTANTIATE_TEST_SUITE_P(Kinds, FloppyEdits, testing::Range(0U, 6U));

TEST(EditModels, MemoryCardsStayWhatTheModelSays) { CardModel(7).run(kEdits); }

TEST(EditModels, SaveMemoryStaysWhatTheModelSays) { NvramModel(11).run(kEdits); }

}  // namespace
}  // namespace opifex
