// Archives of all kinds: what is in them, and the right complaint about those that are broken.
#include <gtest/gtest.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/io/archive.hpp"
#include "opifex/core/io/part_names.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;
using nlohmann::json;

const json& cases() {
  static const json all = vector_json("archives/expected.json")["cases"];
  return all;
}

fs::path archive_path(const json& c) { return vector_path("archives/" + c["open"][0].get<std::string>()); }

Bytes read_all(const ByteSource& source) { return read_up_to(source, 0, static_cast<std::size_t>(source.size())); }

void expect_members(const json& c) {
  const ArchivePtr archive = Archive::open(archive_path(c));
  std::vector<std::size_t> files;
  for (std::size_t i = 0; i < archive->members().size(); ++i)
    if (!archive->members()[i].folder) files.push_back(i);
  ASSERT_EQ(files.size(), c["members"].size());
  for (std::size_t i = 0; i < files.size(); ++i) {
    const json& e = c["members"][i];
    EXPECT_EQ(archive->members()[files[i]].name, e["name"].get<std::string>());
    const SourcePtr source = archive->open_member(files[i]);
    EXPECT_EQ(source->size(), e["size"].get<std::uint64_t>());
    EXPECT_EQ(digest_of("sha1", read_all(*source)), e["sha1"].get<std::string>());
  }
  // From the last to the first: every jump back works as well.
  for (std::size_t i = files.size(); i-- > 0;)
    EXPECT_EQ(digest_of("sha1", read_all(*archive->open_member(files[i]))), c["members"][i]["sha1"].get<std::string>());
  if (!c.contains("volumes")) return;
  std::vector<std::string> volumes;
  for (const auto& v : archive->volumes()) volumes.push_back(v.filename().string());
  EXPECT_EQ(volumes, c["volumes"].get<std::vector<std::string>>());
}

/// Opens the archive and reads all of it; the code of the first Error.
std::string first_error(const fs::path& path, std::string& text) {
  try {
    const ArchivePtr archive = Archive::open(path);
    for (std::size_t i = 0; i < archive->members().size(); ++i)
      if (!archive->members()[i].folder && archive->members()[i].refused.empty()) read_all(*archive->open_member(i));
  } catch (const Error& e) {
    text = e.what();
    return e.details.code;
  }
  return "";
}

TEST(ArchiveVectors, EveryCaseComesOutAsItShould) {
  const std::map<std::string, std::string> codes = {
      {"bad-crc", "archive_damaged"},     {"truncated", "archive_damaged"},     {"missing-volume", "missing_part"},
      {"encrypted", "archive_encrypted"}, {"not-an-archive", "not_an_archive"}, {"no-members", "archive_empty"},
      {"damaged", "archive_damaged"}};
  int seen = 0;
  for (const json& c : cases()) {
    SCOPED_TRACE(c["case"].get<std::string>());
    const std::string result = c["result"];
    if (result == "ok") {
      expect_members(c);
    } else if (result != "unsafe-names") {
      std::string text;
      EXPECT_EQ(first_error(archive_path(c), text), codes.at(result)) << text;
      for (const char* named : {"missing", "member"}) {
        EXPECT_NE(text.find(c.value(named, std::string())), std::string::npos) << text;
      }
    }
    ++seen;
  }
  EXPECT_GT(seen, 30);
}

TEST(ArchiveVectors, NamesThatLeadElsewhereAreRefused) {
  for (const json& c : cases()) {
    if (c["result"] != "unsafe-names") continue;
    std::vector<std::string> sound;
    const ArchivePtr archive = Archive::open(archive_path(c));
    for (const ArchiveMember& m : archive->members())
      if (m.refused.empty() && !m.folder) sound.push_back(m.name);
    EXPECT_EQ(sound, std::vector<std::string>{"ok/one.bin"});
  }
}

std::string vector_kind(PartKind kind) {
  switch (kind) {
    case PartKind::rar_numbered:
      return "rar-part";
    case PartKind::rar_old:
      return "rar-old";
    case PartKind::zip_split:
      return "zip-split";
    case PartKind::numbered:
      return "bytes-numbered";
    case PartKind::image_number:
      return "bytes-iso-n";
    case PartKind::part_number:
      return "bytes-part";
    case PartKind::part_then_iso:
      return "bytes-part-iso";
    case PartKind::number_then_iso:
      return "bytes-n-iso";
    case PartKind::wbfs:
      return "wbfs-split";
    case PartKind::fat32_tail:
      return "bytes-66600";
  }
  return "";
}

TEST(PartNameVectors, SetsAreFoundByTheirNames) {
  const json names = vector_json("iso/expected.json")["names"];
  int seen = 0;
  for (const json& c : names) {
    SCOPED_TRACE(c["note"].get<std::string>());
    std::vector<PartSet> sets = find_part_sets(c["input"].get<std::vector<std::string>>());
    ASSERT_EQ(sets.size(), c["sets"].size());
    for (const json& e : c["sets"]) {
      const auto at =
          std::find_if(sets.begin(), sets.end(), [&](const PartSet& s) { return vector_kind(s.kind) == e["kind"]; });
      ASSERT_NE(at, sets.end()) << e["kind"];
      EXPECT_EQ(at->parts, e["parts"].get<std::vector<std::string>>());
      EXPECT_EQ(at->open, e["open"].is_null() ? "" : e["open"].get<std::string>());
      EXPECT_EQ(at->lonely, e.value("lonely", false));
      EXPECT_EQ(at->duplicates, e.value("duplicates", std::vector<std::string>{}));
      ASSERT_EQ(at->missing.size(), e["missing"].size());
      for (std::size_t i = 0; i < at->missing.size(); ++i) {
        const std::string wanted =
            e["missing"][i].is_string() ? e["missing"][i].get<std::string>() : e["missing"][i].dump();
        EXPECT_NE(at->missing[i].find(wanted), std::string::npos) << at->missing[i];
      }
    }
    ++seen;
  }
  EXPECT_EQ(seen, 25);
}

}  // namespace
}  // namespace opifex
