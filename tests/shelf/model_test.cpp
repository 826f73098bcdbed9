// The index against a model that knows the truth: random changes, and after them every question. What could go wrong:
// a row left over or lost, a name that SQL or an index cannot take, a group that is none, two back ends that differ.
#include <algorithm>
#include <map>
#include <set>

#include <fmt/format.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"

#include "../../src/core/shelf/words.hpp"
#include "backends.hpp"

namespace opifex::testkit {
namespace {

const std::string kLongName(900, 'x');
const std::vector<std::string> kNames = {"moth",
                                         "Moth & Lantern",
                                         "'; drop table items; --",
                                         "back\\slash \\x41 \\\\",
                                         "line\nbreak\ttab",
                                         "bad \xFF\xFE utf \xC3",
                                         "\xE5\xA4\x9C\xE3\x81\xAE\xE7\x81\xAF",
                                         "\xD7\xA9\xD7\x9C\xD7\x95\xD7\x9D",
                                         "100% _sure_",
                                         "a/" + kLongName + "/" + kLongName + "/" + kLongName + "/" + kLongName};

class Model {
 public:
  explicit Model(std::uint64_t seed) : random_(seed) {}

  Shelf::Change next_change(std::int64_t now) {
    Shelf::Change change;
    std::set<std::int64_t> touched;
    for (std::uint64_t n = random_.below(4) + 1; n > 0; --n) {
      const std::uint64_t what = random_.below(12);
      ShelfItem* const one = pick(touched);
      if (what < 5 || !one) {
        ShelfItem item = what < 4 || !one ? new_item(now) : changed(*one, now);
        if (std::any_of(change.put.begin(), change.put.end(),
                        [&](const ShelfItem& p) { return p.path == item.path && p.inside == item.inside; }))
          continue;
        if (const ShelfItem* there = at(item)) {
          if (!touched.insert(there->id).second) continue;
        }
        change.put.push_back(item);
        continue;
      }
      touched.insert(one->id);
      switch (what) {
        case 5:
          change.forget.push_back(one->id);
          break;
        case 6:
          change.gone.push_back(one->id);
          break;
        case 7:
          change.back.push_back(one->id);
          break;
        case 8:
          change.checked.push_back(one->id);
          break;
        case 9:
          change.rotten.emplace_back(one->id, "it rots");
          break;
        default:
          change.known.push_back({one->id, what == 10 ? "renamed" : "not_known", "a 'list'.dat", "Set"});
      }
    }
    return change;
  }

  void take(const Shelf::Change& change, std::int64_t now) {
    for (const std::int64_t id : change.forget) items.erase(id);
    for (ShelfItem item : change.put) {
      if (const ShelfItem* there = at(item)) item.added_at = there->added_at;
      for (auto& [id, other] : items)  // a file has one state, whoever lies in it
        for (ShelfFile& f : other.files)
          for (const ShelfFile& g : item.files)
            if (f.path == g.path) f = g;
      items[item.id] = item;
    }
    for (const std::int64_t id : change.gone) items[id].gone_at = now;
    for (const std::int64_t id : change.back) items[id].gone_at = 0;
    for (const std::int64_t id : change.checked) items[id].checked_at = now, items[id].rotten = false;
    for (const auto& [id, why] : change.rotten)
      items[id].checked_at = now, items[id].rotten = true, items[id].remark = why;
    for (const auto& k : change.known)
      items[k.id].known = k.verdict, items[k.id].known_list = k.list, items[k.id].known_set = k.set;
  }

  std::map<std::int64_t, ShelfItem> items;

 private:
  ShelfItem* pick(const std::set<std::int64_t>& touched) {
    std::vector<ShelfItem*> free;
    for (auto& [id, item] : items)
      if (!touched.contains(id)) free.push_back(&item);
    return free.empty() ? nullptr : free[random_.below(free.size())];
  }
  const ShelfItem* at(const ShelfItem& item) const {
    for (const auto& [id, there] : items)
      if (there.host == item.host && there.path == item.path && there.inside == item.inside) return &there;
    return nullptr;
  }

  ShelfItem new_item(std::int64_t now) {
    ShelfItem item{.host = "here",
                   .path = fmt::format("/disc s/{}/{}", kNames[random_.below(kNames.size())], random_.below(6))};
    if (random_.below(4) == 0) item.inside = kNames[random_.below(4)], item.archive = "zip";
    item.added_at = now;
    return changed(item, now);
  }

  ShelfItem changed(ShelfItem item, std::int64_t now) {
    item.kind = "image";
    item.format = random_.below(2) == 0 ? "iso" : "chd";
    item.platform = random_.below(2) == 0 ? "ps1" : "saturn";
    item.title = kNames[random_.below(kNames.size() - 1)];
    item.serial = fmt::format("PRXS-{:05}", random_.below(9));
    item.verdict = random_.below(3) == 0 ? "damaged" : "intact";
    item.remark = {};
    item.rotten = false;
    item.gone_at = 0;
    item.known = item.known_list = item.known_set = {};
    item.state = random_.below(5) == 0 ? "trimmed" : "";
    item.set = random_.below(2) == 0 ? "" : fmt::format("set {}", random_.below(3));
    item.disc = item.set.empty() ? 0 : static_cast<int>(1 + random_.below(4));
    item.discs = item.set.empty() || random_.below(2) == 0 ? 0 : 4;
    item.compressed = random_.below(2) == 0;
    item.stored_bytes = random_.below(1000);
    item.content_bytes = random_.below(2) == 0 ? UINT64_C(1) << 40 : 1 + random_.below(1000);
    item.content_key = random_.below(5) == 0 ? "" : fmt::format("data:{}", random_.below(6));
    item.game_key = random_.below(4) == 0 ? fmt::format("files:{}", random_.below(3)) : "";
    item.checked_at = now;
    item.files.clear();
    item.contents.clear();
    // Two items may lie in one file, and one file may have two names.
    const std::uint64_t inode = std::hash<std::string>()(item.path) | 1ULL << 63;
    item.stored_bytes = inode % 1000;
    item.files.push_back({item.path, item.stored_bytes, static_cast<std::int64_t>(random_.next() >> 1), inode, 7});
    for (std::uint64_t n = random_.below(3); n > 0; --n) {
      const std::uint64_t k = random_.below(5);
      item.files.push_back(
          {fmt::format("/disc s/{} {}", random_.below(2) == 0 ? "shared" : "link", k), 1000 + k, 5, 50 + k, 7});
    }
    std::sort(item.files.begin(), item.files.end(), [](const auto& a, const auto& b) { return a.path < b.path; });
    item.files.erase(std::unique(item.files.begin(), item.files.end(),
                                 [](const auto& a, const auto& b) { return a.path == b.path; }),
                     item.files.end());
    item.contents.push_back(
        {.path = item.path, .size_bytes = item.stored_bytes, .crc32 = "0011aabb", .sha1 = std::string(40, 'a')});
    item.contents.push_back({.kind = ShelfContent::Kind::piece,
                             .path = item.path + "#track02",
                             .of = {0, 2, 11},
                             .merged = true,
                             .size_bytes = 7});
    return item;
  }

  mutable Random random_;
};

void expect_same(const ShelfItem& is, const ShelfItem& should, bool with_ids) {
  if (with_ids) {
    EXPECT_EQ(is.id, should.id);
  }
  EXPECT_EQ(place_of(is), place_of(should));
  const auto all = [](const ShelfItem& i) {
    return std::tuple(i.host, i.path, i.inside, i.kind, i.format, i.archive, i.platform, i.title, i.serial, i.region,
                      i.disc, i.discs, i.set, i.verdict, i.remark, i.state, i.complete);
  };
  const auto more = [](const ShelfItem& i) {
    return std::tuple(i.compressed, i.rotten, i.stored_bytes, i.content_bytes, i.content_key, i.game_key, i.known,
                      i.known_list, i.known_set, i.added_at, i.checked_at, i.gone_at);
  };
  EXPECT_TRUE(all(is) == all(should));
  EXPECT_TRUE(more(is) == more(should)) << is.id;
  EXPECT_EQ(is.contents, should.contents);
  ASSERT_EQ(is.files.size(), should.files.size());
  for (std::size_t f = 0; f < is.files.size(); ++f) {
    EXPECT_EQ(is.files[f].path, should.files[f].path);
    EXPECT_TRUE(is.files[f].same_state(should.files[f]) && is.files[f].device == should.files[f].device);
  }
}

std::set<std::int64_t> ids_of(const std::vector<ShelfItem>& items) {
  std::set<std::int64_t> ids;
  for (const ShelfItem& i : items) ids.insert(i.id);
  EXPECT_EQ(ids.size(), items.size()) << "one is told twice";
  return ids;
}

class ShelfModel : public OnBackend {
 protected:
  using Holds = std::function<bool(const ShelfItem&)>;
  void expect_filter(const Shelf& shelf, const Model& model, ShelfFilter filter, const Holds& holds) {
    std::set<std::int64_t> should;
    for (const auto& [id, item] : model.items)
      if (holds(item)) should.insert(id);
    EXPECT_EQ(ids_of(shelf.list(filter)), should);
    EXPECT_EQ(shelf.count(filter), should.size());
    filter.limit = 2;
    EXPECT_EQ(shelf.list(filter).size(), std::min<std::size_t>(2, should.size()));
  }

  static bool is_known(const ShelfItem& i) { return i.known == "renamed"; }

  void expect_filters(const Shelf& shelf, const Model& model) {
    const auto here = [](const ShelfItem& i) { return !i.is_gone(); };
    expect_filter(shelf, model, {}, here);
    expect_filter(shelf, model, {.platform = "ps1"}, [&](const auto& i) { return here(i) && i.platform == "ps1"; });
    expect_filter(shelf, model, {.format = "chd", .verdict = "damaged"},
                  [&](const auto& i) { return here(i) && i.format == "chd" && i.verdict == "damaged"; });
    expect_filter(shelf, model, {.known = ShelfFilter::Known::yes},
                  [&](const auto& i) { return here(i) && is_known(i); });
    expect_filter(shelf, model, {.known = ShelfFilter::Known::no},
                  [&](const auto& i) { return here(i) && !i.known.empty() && !is_known(i); });
    expect_filter(shelf, model, {.known = ShelfFilter::Known::unasked},
                  [&](const auto& i) { return here(i) && i.known.empty(); });
    expect_filter(shelf, model, {.gone = ShelfFilter::Gone::yes}, [&](const auto& i) { return i.is_gone(); });
    expect_filter(shelf, model, {.gone = ShelfFilter::Gone::any, .not_compressed = true},
                  [&](const auto& i) { return !i.compressed; });
    expect_filter(shelf, model, {.not_checked_since = 1'700'000'030},
                  [&](const auto& i) { return here(i) && i.checked_at < 1'700'000'030; });
    for (const std::string& name : kNames) {
      const std::string place = "/disc s/" + name;
      expect_filter(shelf, model, {.below = place},
                    [&](const auto& i) { return here(i) && i.path.starts_with(place + "/"); });
    }
    for (const char* words :
         {"moth", "LANT mot", "prxs 00003", "prxs00003", "\xE7\x81\xAF", "nowhere", "sure 100", "table"})
      expect_filter(shelf, model, {.words = words}, [&](const auto& i) { return here(i) && has_words(i, words); });
  }

  /// Every word begins a word of it: by the texts alone, not by an index.
  static bool has_words(const ShelfItem& item, const char* words) {
    const std::set<std::string> there =
        index_words({item.title, item.serial, item.set, item.known_set, item.inside, item.path});
    const auto wanted = words_in(words);
    return std::all_of(wanted.begin(), wanted.end(), [&](const std::string& w) {
      return std::any_of(there.begin(), there.end(), [&](const std::string& t) { return t.starts_with(w); });
    });
  }

  void expect_copies(const Shelf& shelf, const Model& model) {
    std::map<std::string, std::set<std::int64_t>> should;
    for (const auto& [id, i] : model.items)
      if (const std::string& key = i.game_key.empty() ? i.content_key : i.game_key;
          !i.is_gone() && !i.rotten && !key.empty())
        should[key].insert(id);
    std::erase_if(should, [](const auto& group) { return group.second.size() < 2; });
    std::map<std::string, std::set<std::int64_t>> is;
    for (const ShelfCopies& c : shelf.duplicates()) {
      const ShelfItem& first = c.copies.front();
      is[first.game_key.empty() ? first.content_key : first.game_key] = ids_of(c.copies);
      expect_freed(c, model);
      for (const ShelfItem& other : c.copies) {
        const bool intact_left = other.verdict == "intact" && first.verdict != "intact";
        EXPECT_FALSE(intact_left) << "a damaged copy is not the one to keep";
        const bool whole_left = other.state.empty() && !first.state.empty() && other.verdict == first.verdict;
        EXPECT_FALSE(whole_left) << "a trimmed copy is not the one to keep";
      }
    }
    EXPECT_EQ(is, should);
  }

  /// Bytes of files that nothing is left in when the other copies go.
  static void expect_freed(const ShelfCopies& c, const Model& model) {
    std::set<std::int64_t> removed;
    for (std::size_t n = 1; n < c.copies.size(); ++n) removed.insert(c.copies[n].id);
    std::map<std::uint64_t, std::pair<std::uint64_t, bool>> files;  // by inode: size, and whether it is needed
    for (const auto& [id, item] : model.items) {
      if (item.is_gone()) continue;
      for (const ShelfFile& f : item.files) {
        auto& [size, needed] = files[f.inode];
        size = f.size_bytes;
        needed = needed || !removed.contains(id);
      }
    }
    std::uint64_t freed = 0;
    for (const auto& [inode, file] : files)
      if (!file.second) freed += file.first;
    EXPECT_EQ(c.freed_bytes, freed) << "what else needs a file, under whatever name, keeps it";
  }

  void expect_sets(const Shelf& shelf, const Model& model) {
    std::map<std::pair<std::string, std::string>, std::pair<std::set<int>, int>> should;
    for (const auto& [id, i] : model.items)
      if (!i.is_gone() && !i.set.empty()) {
        auto& [there, most] = should[{i.platform, i.set}];
        there.insert(i.disc);
        most = std::max({most, i.disc, i.discs});
      }
    const std::vector<ShelfSet> sets = shelf.sets(false);
    ASSERT_EQ(sets.size(), should.size());
    std::size_t gaps = 0;
    for (const ShelfSet& s : sets) {
      const auto& [there, most] = should.at({s.platform, s.name});
      std::vector<int> missing;
      for (int n = 1; n <= most; ++n)
        if (!there.contains(n)) missing.push_back(n);
      EXPECT_EQ(s.missing, missing);
      gaps += missing.empty() ? 0U : 1U;
    }
    EXPECT_EQ(shelf.sets(true).size(), gaps);
    const ShelfStats stats = shelf.stats(1'700'000'000);
    EXPECT_EQ(stats.sets, sets.size());
    EXPECT_EQ(stats.incomplete_sets, gaps);
  }

  void expect_moved(const Shelf& shelf, const Model& model) {
    std::set<std::string> there;
    for (const auto& [id, i] : model.items)
      if (!i.is_gone() && !i.rotten && !i.content_key.empty()) there.insert(i.content_key);
    std::set<std::int64_t> should, is;
    for (const auto& [id, i] : model.items)
      if (i.is_gone() && there.contains(i.content_key)) should.insert(id);
    for (const auto& [from, to] : shelf.moved()) {
      is.insert(from.id);
      EXPECT_EQ(from.content_key, to.content_key);
      EXPECT_FALSE(to.is_gone());
    }
    EXPECT_EQ(is, should);
  }

  void expect_all(const Shelf& shelf, const Model& model) {
    std::vector<ShelfItem> items = shelf.list({.gone = ShelfFilter::Gone::any, .sort = {"item"}});
    ASSERT_EQ(items.size(), model.items.size());
    shelf.add_details(items);
    auto should = model.items.begin();
    for (const ShelfItem& item : items) expect_same(item, (should++)->second, true);
    std::set<std::string> files, expected;
    for (const ShelfStanding& s : shelf.standing("here", "/disc s")) {
      files.insert(s.file.path);
      EXPECT_FALSE(s.items.empty());
    }
    for (const auto& [id, item] : model.items)
      for (const ShelfFile& f : item.files) expected.insert(f.path);
    for (const std::string& f : expected) EXPECT_TRUE(files.contains(f)) << printable(f);
  }
};

TEST_P(ShelfModel, KnowsWhatIsTrue) {
  const std::uint64_t rounds = kSanitized ? 3 : 8;
  for (std::uint64_t seed = 1; seed <= rounds; ++seed) {
    SCOPED_TRACE(fmt::format("seed {}", seed));
    at = new_shelf();
    Shelf shelf(at, Shelf::Opening::create);
    Model model(seed);
    std::int64_t now = 1'700'000'000;
    for (int step = 0; step < 40; ++step, ++now) {
      Shelf::Change change = model.next_change(now);
      shelf.apply(change, "here", now);
      for (const ShelfItem& put : change.put) ASSERT_GT(put.id, 0);
      model.take(change, now);
      if (step % 8 != 7) continue;
      SCOPED_TRACE(fmt::format("step {}", step));
      expect_all(shelf, model);
      expect_filters(shelf, model);
      expect_copies(shelf, model);
      expect_sets(shelf, model);
      expect_moved(shelf, model);
      if (HasFailure()) return;
    }
    // All of it, through text and into another shelf.
    std::vector<std::string> lines;
    shelf.write_lines([&](const std::string& line) { lines.push_back(line); });
    Shelf other(new_shelf(), Shelf::Opening::create);
    std::size_t next = 0;
    const auto read = [&]() -> std::optional<std::string> {
      return next < lines.size() ? std::optional(lines[next++]) : std::nullopt;
    };
    EXPECT_EQ(other.read_lines(read, "lines").items, model.items.size());
    std::vector<ShelfItem> back = other.list({.gone = ShelfFilter::Gone::any, .sort = {"item"}});
    other.add_details(back);
    ASSERT_EQ(back.size(), model.items.size());
    auto should = model.items.begin();
    for (const ShelfItem& item : back) expect_same(item, (should++)->second, false);
  }
}
OPIFEX_ON_BOTH(ShelfModel);

TEST(ShelfWords, AreFoundWhateverTheyAreWrittenLike) {
  const std::set<std::string> words =
      index_words({"P\xC3\xA9tanque \xEF\xBC\xA1\xEF\xBC\xA2 PRXS-00101", "\xE5\xA4\x9C\xE3\x81\xAE\xE7\x81\xAF"});
  for (const char* word : {"petanque", "ab", "prxs", "00101"}) EXPECT_TRUE(words.contains(word)) << word;
  EXPECT_TRUE(words.contains("\xE7\x81\xAF")) << "the end of a run without blanks";
  EXPECT_TRUE(index_words({"PRXS-00101"}).contains("prxs00101"));
  EXPECT_EQ(words_in("\xC3\x89t\xC3\xA9 2!"), (std::vector<std::string>{"ete", "2"}));
  EXPECT_TRUE(words_in(" -- \xFF ").size() <= 1u);
  for (const std::string& w : index_words({std::string(5000, 'a')})) EXPECT_LE(w.size(), 64u);
  std::string many;
  for (int i = 0; i < 5000; ++i) many += fmt::format("w{} ", i);
  EXPECT_LE(index_words({many}).size(), 257u);
}

}  // namespace
}  // namespace opifex::testkit
