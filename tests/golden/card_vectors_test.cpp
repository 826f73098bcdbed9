// Every memory card of the vectors: its saves, what is wrong with it, and what each operation makes of it, bit for bit.
#include <set>

#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/formats/rom/save.hpp"
#include "opifex/core/volumes/file_system.hpp"
#include "opifex/core/volumes/nvram/nvram.hpp"
#include "opifex/core/volumes/ps1card/card.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;
using nlohmann::json;

const json& all_cards() {
  static const json all = vector_json("memcard/expected.json");
  return all;
}

Bytes card_vector(const std::string& name) { return to_bytes(gunzip(vector_path("memcard/" + name + ".gz"))); }

std::string with_underscores(std::string code) {
  std::replace(code.begin(), code.end(), '-', '_');
  return code;
}

/// All systems of memory cards, as an image is given to them.
std::vector<Volume> volumes_in(const Bytes& image) {
  for (const FileSystem* system : file_systems()) {
    if (system->host != VolumeHost::memory_card) continue;
    std::vector<Volume> volumes;
    std::optional<std::uint64_t> start = 0;
    const SourcePtr source = memory_source(image, "card");
    while (start) {
      auto volume = system->read({source, *start, nullptr});
      if (!volume) break;
      start = system->next ? system->next(*source, *volume) : std::nullopt;
      volumes.push_back(std::move(*volume));
    }
    if (!volumes.empty()) return volumes;
  }
  return {};
}

std::string save_sha1(const Volume& volume, const VolumeEntry& e) {
  const SourcePtr bytes = e.sound ? volume.open(e) : e.source;
  return digest_of("sha1", read_up_to(*bytes, 0, static_cast<std::size_t>(bytes->size())));
}

using FindingSet = std::set<std::tuple<std::string, std::int64_t, std::string>>;

FindingSet card_findings(const Volume& volume) {
  FindingSet all;
  for (const VolumeProblem& p : volume.problems)
    all.emplace(p.code, p.place ? static_cast<std::int64_t>(*p.place) : -1, is_damage(p.weight) ? "E" : "W");
  return all;
}

FindingSet card_findings(const json& list) {
  FindingSet all;
  for (const json& f : list)
    if (f["code"] != "multi-card")
      all.emplace(with_underscores(f["code"]), f["place"].is_null() ? -1 : f["place"].get<std::int64_t>(),
                  f["severity"]);
  return all;
}

void expect_save(const Volume& volume, const VolumeEntry& e, const json& wanted) {
  SCOPED_TRACE(wanted.dump());
  std::string path = e.path;
  // What parts folders has its code in a path.
  for (std::size_t at = path.find("\\x2F"); at != std::string::npos; at = path.find("\\x2F")) path.replace(at, 4, "/");
  if (wanted.value("name", std::string("save")).empty()) {
    EXPECT_TRUE(path.starts_with("unnamed-")) << path;
  } else {
    EXPECT_EQ(path, wanted.value("name", std::string("save")));
  }
  if (!wanted["sha1"].is_null()) {
    EXPECT_EQ(save_sha1(volume, e), wanted["sha1"]);
  }
  if (wanted.contains("readable")) {
    EXPECT_EQ(e.sound, wanted["readable"].get<bool>());
  }
  const auto same = [&](const char* key, const auto& value) {
    if (wanted.contains(key)) {
      EXPECT_EQ(json(value), wanted[key]) << key;
    }
  };
  same("first_frame", e.facts->place);
  same("blocks", e.facts->blocks);
  same("chain", e.facts->chain);
  same("code", e.facts->code);
  same("region", e.facts->region);
  same("title", e.facts->title);
  same("title_plain", e.facts->plain_title);
  same("undeletable", e.facts->restorable);
  same("offset", e.facts->place);
  same("block_size", e.facts->blocks);
  same("bytes", e.size_bytes);
  if (wanted.contains("id")) {
    EXPECT_EQ(*e.facts->id, wanted["id"].get<std::uint32_t>());
    EXPECT_EQ(*e.facts->type, wanted["type"].get<std::uint32_t>());
  }
  if (wanted.contains("icon_rgba_sha1")) {
    json icons = json::array();
    for (const Bytes& icon : e.facts->icons) icons.push_back(digest_of("sha1", icon));
    EXPECT_EQ(icons, wanted["icon_rgba_sha1"]);
  }
}

void expect_list(const Volume& volume, const std::vector<VolumeEntry>& entries, const json& wanted) {
  ASSERT_EQ(entries.size(), wanted.size());
  // The order of a broken list is nobody's matter.
  const auto place_of = [](const json& save) {
    return save.contains("offset") ? save["offset"].get<std::uint64_t>() : save["first_frame"].get<std::uint64_t>();
  };
  for (const json& save : wanted) {
    const auto at = std::find_if(entries.begin(), entries.end(),
                                 [&](const VolumeEntry& e) { return e.facts->place == place_of(save); });
    ASSERT_NE(at, entries.end()) << save;
    expect_save(volume, *at, save);
  }
}

void expect_card(const Volume& volume, const json& wanted) {
  EXPECT_EQ(card_findings(volume), card_findings(wanted["findings"]));
  EXPECT_EQ(volume.damaged(), wanted["status"] != "ok");
  if (wanted.contains("saves")) expect_list(volume, volume.entries, wanted["saves"]);
  if (wanted.contains("files")) expect_list(volume, volume.entries, wanted["files"]);
  if (wanted.contains("deleted")) expect_list(volume, volume.deleted, wanted["deleted"]);
  if (wanted.contains("usable_blocks")) {
    EXPECT_EQ(volume.space->free_blocks, wanted["usable_blocks"].get<std::uint64_t>());
  }
  if (wanted.contains("total_free")) {
    EXPECT_EQ(volume.space->free_bytes, wanted["total_free"].get<std::uint64_t>());
    EXPECT_EQ(volume.space->largest_free_bytes, wanted["largest_file"].get<std::uint64_t>());
    EXPECT_EQ(volume.label, wanted["label"]);
  }
}

std::vector<std::string> card_names() {
  std::vector<std::string> names;
  for (const auto& [name, facts] : all_cards()["files"].items())
    if (facts.contains("findings")) names.push_back(name);  // the others are what is put on cards
  return names;
}

class EveryCard : public testing::TestWithParam<std::string> {};

TEST_P(EveryCard, IsListedAndJudgedAsExpected) {
  const json& wanted = all_cards()["files"][GetParam()];
  const Bytes image = card_vector(GetParam());
  ASSERT_EQ(digest_of("sha1", image), wanted["file_sha1"]);
  const std::vector<Volume> volumes = volumes_in(image);
  if (wanted["kind"].is_null() || wanted["status"] == "unrecognised") {
    EXPECT_TRUE(volumes.empty());
    return;
  }
  if (wanted.contains("cards")) {
    ASSERT_EQ(volumes.size(), wanted["cards"].size());
    for (std::size_t i = 0; i < volumes.size(); ++i) expect_card(volumes[i], wanted["cards"][i]);
    return;
  }
  ASSERT_EQ(volumes.size(), 1u);
  if (!wanted["kind"].get<std::string>().ends_with("single") && !wanted["kind"].get<std::string>().ends_with("bare"))
    return expect_card(volumes[0], wanted);
  EXPECT_EQ(card_findings(volumes[0]), card_findings(wanted["findings"]));
  ASSERT_EQ(volumes[0].entries.size(), 1u);
  expect_save(volumes[0], volumes[0].entries[0], wanted);
}

INSTANTIATE_TEST_SUITE_P(Vectors, EveryCard, testing::ValuesIn(card_names()), [](const auto& i) {
  std::string name = i.param;
  for (char& c : name)
    if (std::isalnum(static_cast<unsigned char>(c)) == 0) c = '_';
  return name;
});

// ---- operations

const FileSystem& system_of(const Bytes& image) {
  const std::vector<Volume> volumes = volumes_in(image);
  if (volumes.empty()) throw std::runtime_error("no card");
  return *file_system_of(volumes.front());
}

Bytes edited(const Bytes& image, const VolumeEdit& edit) {
  const EditPlan plan = system_of(image).edit({memory_source(image, "card"), 0, nullptr}, std::span(&edit, 1), 0);
  Bytes after = image;
  for (const ChangedRange& r : plan.ranges)
    std::copy(r.bytes.begin(), r.bytes.end(), after.begin() + static_cast<std::ptrdiff_t>(r.offset));
  return after;
}

/// The vectors' word for a refusal.
std::string word_of(const std::string& code) {
  static const std::map<std::string, std::string> kWords = {
      {"bad_name", "name"}, {"bad_size", "size"}, {"no_such_path", "no-such-save"}};
  if (const auto at = kWords.find(code); at != kWords.end()) return at->second;
  std::string word = code;
  std::replace(word.begin(), word.end(), '_', '-');
  return word;
}

/// As extract writes it: a single save with its header, else the bytes.
Bytes exported(const Bytes& image, const std::string& name) {
  for (const Volume& v : volumes_in(image))
    for (const VolumeEntry& e : v.entries) {
      if (e.path != name) continue;
      Bytes out = e.facts->header;
      const SourcePtr bytes = v.open(e);
      const Bytes contents = read_up_to(*bytes, 0, static_cast<std::size_t>(bytes->size()));
      out.insert(out.end(), contents.begin(), contents.end());
      return out;
    }
  throw Error({.code = "no_such_path", .what = "none"});
}

void run_step(Bytes& image, const json& step) {
  SCOPED_TRACE(step.dump());
  const std::string op = step["op"], name = step.value("name", std::string());
  std::string refused;
  try {
    if (op == "put") {
      VolumeEdit edit{.kind = VolumeEdit::Kind::put, .path = name};
      edit.named = step.contains("name");
      edit.contents = memory_source(card_vector(step["payload"]), step["payload"]);
      image = edited(image, edit);
    } else if (op == "delete") {
      image = edited(image, {.kind = VolumeEdit::Kind::drop, .path = name});
    } else if (op == "undelete") {
      image =
          edited(image, {.kind = VolumeEdit::Kind::undelete, .path = std::to_string(step["first_frame"].get<int>())});
    } else if (op == "export") {
      const Bytes out = exported(image, name);
      EXPECT_EQ(digest_of("sha1", out), step["result_sha1"]);
    } else {
      ADD_FAILURE() << "an operation that nobody knows";
    }
  } catch (const Error& e) {
    refused = e.details.code == "not_readable" ? "damaged" : word_of(e.details.code);
  }
  EXPECT_EQ(refused, step["refused"].is_null() ? "" : step["refused"].get<std::string>());
  EXPECT_EQ(digest_of("sha1", image), step["image_sha1"].is_null() ? "" : step["image_sha1"].get<std::string>());
}

void expect_after(const Bytes& image, const json& after) {
  const std::vector<Volume> volumes = volumes_in(image);
  ASSERT_EQ(volumes.size(), 1u);
  EXPECT_EQ(volumes[0].damaged(), after["status"] != "ok");
  json saves = json::array(), deleted = json::array();
  for (const VolumeEntry& e : volumes[0].entries) saves.push_back({e.path, save_sha1(volumes[0], e)});
  for (const VolumeEntry& e : volumes[0].deleted) deleted.push_back({e.facts->place, e.path, e.facts->restorable});
  std::sort(saves.begin(), saves.end());
  json wanted = after["saves"];
  std::sort(wanted.begin(), wanted.end());
  EXPECT_EQ(saves, wanted);
  if (after.contains("deleted")) {
    EXPECT_EQ(deleted, after["deleted"]);
  }
  if (after.contains("total_free")) {
    EXPECT_EQ(volumes[0].space->free_bytes, after["total_free"].get<std::uint64_t>());
    EXPECT_EQ(volumes[0].space->largest_free_bytes, after["largest_file"].get<std::uint64_t>());
  }
}

TEST(CardOperations, EachMakesTheVectorsOwnBytes) {
  for (const json& operation : all_cards()["operations"]) {
    SCOPED_TRACE(operation["note"].get<std::string>() + ": " + operation["start"].get<std::string>());
    Bytes image = card_vector(operation["start"]);
    for (const json& step : operation["steps"]) run_step(image, step);
    expect_after(image, operation["after"]);
  }
}

TEST(CardOperations, FreshImagesAreTheVectorsOwn) {
  EXPECT_EQ(ps1card::make_card(), card_vector("fresh.card"));
  EXPECT_EQ(nvram::make_memory(), card_vector("fresh.nvram"));
}

Bytes from_hex(const std::string& text) {
  Bytes bytes;
  for (std::size_t i = 0; i + 1 < text.size(); i += 2)
    bytes.push_back(static_cast<std::byte>(std::stoul(text.substr(i, 2), nullptr, 16)));
  return bytes;
}

TEST(CardOperations, ChangesOfOneLengthTouchNothingElse) {
  for (const json& one : all_cards()["edits"]) {
    SCOPED_TRACE(one["note"].get<std::string>());
    const Bytes image = card_vector(one["start"]);
    std::vector<VolumeEdit> edits;
    for (const json& e : one["edits"]) {
      VolumeEdit edit{.kind = VolumeEdit::Kind::bytes, .path = e["save"]};
      edit.offset = e["offset"];
      edit.old_bytes = from_hex(e["old"]);
      edit.new_bytes = from_hex(e["new"]);
      edits.push_back(std::move(edit));
    }
    std::string refused;
    Bytes after = image;
    try {
      const EditPlan plan = system_of(image).edit({memory_source(image, "card"), 0, nullptr}, edits, 0);
      for (const ChangedRange& r : plan.ranges)
        std::copy(r.bytes.begin(), r.bytes.end(), after.begin() + static_cast<std::ptrdiff_t>(r.offset));
    } catch (const Error& e) {
      refused = word_of(e.details.code);
    }
    EXPECT_EQ(refused, one["refused"].is_null() ? "" : one["refused"].get<std::string>());
    if (!one.contains("image_sha1")) continue;
    EXPECT_EQ(digest_of("sha1", after), one["image_sha1"]);
    json changed = json::array();
    for (std::size_t i = 0; i < after.size(); ++i)
      if (after[i] != image[i]) changed.push_back(i);
    EXPECT_EQ(changed, one["changed_bytes"]);
  }
}

}  // namespace
}  // namespace opifex
