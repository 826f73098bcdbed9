// Every list of the vectors, every fault, and what a check of the collection against each list has to end with.
#include <gtest/gtest.h>

#include "opifex/core/jobs/check.hpp"
#include "opifex/core/jobs/known.hpp"
#include "opifex/core/lists/read_list.hpp"

#include "testkit.hpp"

namespace opifex {
namespace {

using namespace testkit;
using nlohmann::json;

const json& all_lists() {
  static const json all = vector_json("dat/expected.json");
  return all;
}

std::string with_hyphens(std::string code) {
  std::replace(code.begin(), code.end(), '_', '-');
  return code;
}

KnownListPtr read_vector(const std::string& name) {
  const fs::path path = vector_path("dat/" + name);
  return read_list(*open_file(path), path.string());
}

json header_of(const KnownList& list) {
  json header = json::object();
  for (const auto& [key, value] : list.header) header[key] = value;
  return header;
}

json entry_of(const KnownList& list, const ListedEntry& e) {
  json entry = {{"kind", to_string(e.kind)}, {"name", list.name(e)}, {"status", to_string(e.status)}};
  if (e.size_bytes != kUnknownSize) entry["size"] = e.size_bytes;
  if (e.serial.size > 0) entry["serial"] = list.text(e.serial);
  if (e.merge.size > 0) entry["merge"] = list.text(e.merge);
  for (const ListHash h : kListHashes)
    if (!list.hash(e, h).empty()) entry[h == ListHash::crc32 ? "crc" : std::string(to_string(h))] = list.hash(e, h);
  return entry;
}

json sets_of(const KnownList& list) {
  json sets = json::array();
  for (const ListedSet& set : list.sets) {
    json one = {{"name", list.name(set)}, {"entries", json::array()}};
    for (std::size_t i = 1; i < kSetFields; ++i)
      if (const auto text = list.text(set, static_cast<SetField>(i)); !text.empty())
        one[std::string(to_string(static_cast<SetField>(i)))] = text;
    for (const ListedEntry& e : list.entries_of(set)) one["entries"].push_back(entry_of(list, e));
    sets.push_back(one);
  }
  return sets;
}

std::vector<std::string> codes_of(const KnownList& list) {
  std::vector<std::string> codes;
  for (const ListProblem& p : list.problems) codes.push_back(with_hyphens(p.code));
  std::sort(codes.begin(), codes.end());
  return codes;
}

TEST(ListVectors, EveryListIsReadToItsLastField) {
  for (const auto& [name, expected] : all_lists()["lists"].items()) {
    SCOPED_TRACE(name);
    const KnownListPtr list = read_vector("lists/" + name);
    EXPECT_EQ(expected["kind"], to_string(list->kind));
    EXPECT_EQ(expected["header"], header_of(*list));
    EXPECT_EQ(expected["sets"], sets_of(*list));
    EXPECT_EQ(expected["problems"].size(), list->problems.size());
    EXPECT_EQ(expected["counts"]["entries"], list->entries.size());
    EXPECT_EQ(expected["counts"]["sets"], list->sets.size());
    EXPECT_EQ(expected["counts"]["bytes"], list->totals.bytes);
  }
}

TEST(ListVectors, EveryFaultIsRefusedOrToldForWhatItIs) {
  for (const auto& [name, expected] : all_lists()["hostile"].items()) {
    SCOPED_TRACE(name);
    if (expected["accept"] == false) {
      const std::string code = with_hyphens(error_code([&] { read_vector("hostile/" + name); }));
      const auto& right = expected["codes"];
      EXPECT_TRUE(std::find(right.begin(), right.end(), code) != right.end()) << "refused as " << code;
      continue;
    }
    const KnownListPtr list = read_vector("hostile/" + name);
    EXPECT_EQ(expected["problems"].get<std::vector<std::string>>(), codes_of(*list));
    EXPECT_EQ(expected["entries"], list->entries.size());
  }
}

TEST(ListVectors, FaultsAreToldWithTheirLines) {
  const KnownListPtr list = read_vector("hostile/faults.sfv");
  ASSERT_EQ(list->problems.size(), 2U);
  EXPECT_EQ(list->problems[0].line, 3U);
  EXPECT_EQ(list->problems[1].line, 4U);
  try {
    read_vector("hostile/text-quote.dat");
    FAIL();
  } catch (const Error& e) {
    EXPECT_EQ(e.details.line, 2U);
  }
}

/// What the job told, with paths below the folder.
struct Told : jobs::Listener {
  using Listener::result;
  explicit Told(const fs::path& folder) : root(folder.string() + "/") {}
  std::string below(const std::string& path) const { return path.starts_with(root) ? path.substr(root.size()) : path; }

  void result(const jobs::KnownTold& told) override {
    const KnownList& list = *told.lists.at(0);
    const ListMatch& match = told.matches.at(0);
    for (std::size_t f = 0; f < match.files.size(); ++f) add_file(list, told.collection.files[f], match.files[f]);
    auto there = match.sets.begin();
    for (std::uint32_t s = 0; s < list.sets.size(); ++s)
      add_set(list, there != match.sets.end() && there->set == s ? *there++ : absent_set(list, s));
    for (const auto& [verdict, count] : match.totals) totals[std::string(to_string(verdict))] = count;
  }

  void add_file(const KnownList& list, const CollectedFile& file, const FileMatch& m) {
    json one = {{"path", below(file.path)}, {"verdict", to_string(m.verdict)}};
    if (m.entry) one["entry"] = list.name(list.entries[*m.entry]);
    if (m.set) one["set"] = list.name(list.sets[*m.set]);
    if (!m.expected_name.empty()) one["expected_name"] = m.expected_name;
    if (m.reason != BadReason::none) one["reason"] = with_hyphens(std::string(to_string(m.reason)));
    files.push_back(one);
  }

  void add_set(const KnownList& list, const SetMatch& m) {
    json one = {{"name", list.name(list.sets[m.set])},
                {"verdict", to_string(m.verdict)},
                {"flags", json::array()},
                {"extra", json::array()},
                {"entries", json::array()}};
    for (const std::string& flag : m.flags) one["flags"].push_back(with_hyphens(flag));
    for (const std::string& path : m.extra) one["extra"].push_back(below(path));
    const auto entries = list.entries_of(list.sets[m.set]);
    for (std::size_t i = 0; i < entries.size(); ++i) {
      const EntryMatch& e = m.entries[i];
      json entry = {{"name", list.name(entries[i])}, {"state", to_string(e.state)}};
      if (!e.file.empty()) entry["file"] = below(e.file);
      if (e.reason != BadReason::none) entry["reason"] = with_hyphens(std::string(to_string(e.reason)));
      if (e.known_bad) entry["known_bad"] = true;
      one["entries"].push_back(entry);
    }
    sets.push_back(one);
  }

  std::string root;
  json files = json::array(), sets = json::array(), totals = json::object();
};

TEST(ListVectors, TheCollectionEndsAsItHasTo) {
  for (const json& c : all_lists()["match"]) {
    SCOPED_TRACE(c["case"].get<std::string>());
    const fs::path folder = vector_path("dat/" + c["folder"].get<std::string>());
    jobs::CheckJob job;
    job.inputs = {folder.string()};
    job.reading.opening.allow_missing = true;
    job.against = {vector_path("dat/" + c["list"].get<std::string>()).string()};
    Told told(folder);
    QuietContext context;
    run(job, told, context);
    const json& expected = c["expected"];
    for (const json& file : expected["files"]) {
      const auto same =
          std::find_if(told.files.begin(), told.files.end(), [&](const json& f) { return f["path"] == file["path"]; });
      ASSERT_NE(same, told.files.end()) << file;
      EXPECT_EQ(file, *same);
    }
    EXPECT_EQ(expected["files"].size(), told.files.size());
    ASSERT_EQ(expected["sets"].size(), told.sets.size());
    for (std::size_t i = 0; i < told.sets.size(); ++i) EXPECT_EQ(expected["sets"][i], told.sets[i]);
    EXPECT_EQ(expected["totals"], told.totals);
  }
}

}  // namespace
}  // namespace opifex
