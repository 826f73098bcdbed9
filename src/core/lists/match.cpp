#include "opifex/core/lists/match.hpp"

#include <algorithm>
#include <set>
#include <unordered_map>

#include "opifex/core/image/format.hpp"

namespace opifex {
namespace {

using EntryNumber = std::uint32_t;
using SetNumber = std::uint32_t;

std::string lower(std::string_view s) {
  std::string out(s);
  for (char& c : out)
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c + 32);
  return out;
}

std::string_view stem(std::string_view base) {
  const std::size_t dot = base.rfind('.');
  return dot == std::string_view::npos || dot == 0 ? base : base.substr(0, dot);
}

/// Sheets are text that many programs write in their own way: they do not decide about a set.
bool is_sheet(std::string_view name) {
  static const std::vector<std::string_view> endings = [] {
    std::vector<std::string_view> all;
    for (const Format* format : formats())
      if (format->shape == Shape::sheet) all.insert(all.end(), format->extensions.begin(), format->extensions.end());
    return all;
  }();
  const std::string folded = lower(name.substr(name.find_last_of('.') == name.npos ? 0 : name.find_last_of('.')));
  return std::find(endings.begin(), endings.end(), folded) != endings.end();
}

bool is_checkable(const ListedEntry& e) { return e.status != ListedStatus::no_dump && e.hashes != 0; }

bool only_sheets(const KnownList& list, const ListedSet& set) {
  const auto entries = list.entries_of(set);
  return std::all_of(entries.begin(), entries.end(), [&](const ListedEntry& e) { return is_sheet(list.name(e)); });
}

/// Entries that a verdict on the set goes by.
bool counts(const KnownList& list, const ListedEntry& e, bool sheets_alone) {
  return is_checkable(e) && (sheets_alone || !is_sheet(list.name(e)));
}

bool can_be_checked(const KnownList& list, const ListedSet& set) {
  const bool sheets_alone = only_sheets(list, set);
  const auto entries = list.entries_of(set);
  return std::any_of(entries.begin(), entries.end(),
                     [&](const ListedEntry& e) { return counts(list, e, sheets_alone); });
}

/// What a view could be by its content.
struct Pair {
  EntryNumber entry;
  std::uint32_t item, view;  // file or piece
  bool alone;                // the list has this content once
  auto operator<=>(const Pair&) const = default;
};

/// Where an entry was found.
struct Given {
  std::uint32_t item = 0, view = 0;
  bool piece = false;
};

class Matcher {
 public:
  Matcher(const KnownList& list, const Collection& collection)
      : list_(list),
        all_(collection),
        bound_(collection.units.size()),
        named_(collection.units.size()),
        file_given_(collection.files.size()),
        file_duplicate_(collection.files.size()) {}

  ListMatch run() {
    name_units();
    give_files();
    give_pieces();
    give_sheets();
    blame_by_name();
    judge_files();
    judge_sets();
    return std::move(result_);
  }

 private:
  SetNumber set_of(EntryNumber e) const { return list_.entries[e].set; }
  std::string_view base_of(EntryNumber e) const { return listed_base(list_.name(list_.entries[e])); }

  /// Units that bear the name of a set.
  void name_units() {
    std::unordered_multimap<std::string_view, std::size_t> units;
    for (std::size_t u = 0; u < all_.units.size(); ++u) units.emplace(all_.units[u], u);
    for (SetNumber s = 0; s < list_.sets.size(); ++s) {
      const auto [from, to] = units.equal_range(list_.name(list_.sets[s]));
      for (auto at = from; at != to; ++at) {
        named_[at->second].insert(s);
        bound_[at->second].insert(s);
      }
    }
  }

  /// A name in a list of checksums may hold a backslash that is none between folders: both readings count.
  bool same_base(EntryNumber e, std::string_view base) const {
    const std::string_view name = list_.name(list_.entries[e]);
    return listed_base(name) == base || name.substr(name.rfind('/') + 1) == base;
  }
  bool same_name(EntryNumber e, const CollectedFile& file, std::uint32_t view) const {
    if (file.views[view].through.empty()) return same_base(e, file.base);
    return stem(base_of(e)) == stem(file.base);
  }

  /// Of content that very many entries have (zeros), those that the names speak for and the first ones: every one of a
  /// thousand such files against every one of a thousand such entries would be a million pairs.
  void keep_likely(std::vector<EntryNumber>& found, std::string_view base, std::size_t unit) const {
    constexpr std::size_t kMost = 64;
    if (found.size() <= kMost) return;
    std::vector<EntryNumber> kept;
    for (const EntryNumber e : found)
      if (kept.size() < kMost || (kept.size() < 2 * kMost && (same_base(e, base) || named_[unit].contains(set_of(e)))))
        kept.push_back(e);
    found = std::move(kept);
  }

  void add_pairs(std::vector<Pair>& pairs, const ListedView& view, std::uint32_t item, std::uint32_t number,
                 std::string_view base, std::size_t unit) const {
    if (view.hashes.empty()) return;
    std::vector<EntryNumber> found = entries_of_content(list_, view);
    const bool alone = found.size() == 1;
    keep_likely(found, base, unit);
    for (const EntryNumber e : found) pairs.push_back({e, item, number, alone});
  }

  void give_files() {
    for (std::uint32_t f = 0; f < all_.files.size(); ++f)
      for (std::uint32_t v = 0; v < all_.files[f].views.size(); ++v)
        add_pairs(pairs_, all_.files[f].views[v], f, v, all_.files[f].base, all_.files[f].unit);
    std::sort(pairs_.begin(), pairs_.end());
    for (int step = 1; step <= 8; ++step)
      for (const Pair& p : pairs_) {
        const CollectedFile& file = all_.files[p.item];
        if (given_.contains(p.entry) || file_given_[p.item]) continue;
        if (!fits_step(step, p, file.unit, same_name(p.entry, file, p.view))) continue;
        given_[p.entry] = {p.item, p.view, false};
        file_given_[p.item] = p.entry;
        bound_[file.unit].insert(set_of(p.entry));
      }
    for (const Pair& p : pairs_)
      if (!file_given_[p.item] && !file_duplicate_[p.item]) file_duplicate_[p.item] = p;
  }

  bool fits_step(int step, const Pair& p, std::size_t unit, bool same_name) const {
    const bool named = named_[unit].contains(set_of(p.entry)), bound = bound_[unit].contains(set_of(p.entry));
    switch (step) {
      case 1:
        return named && same_name;
      case 2:
        return named;
      case 3:
        return same_name && p.alone;
      case 4:
        return same_name && bound;
      case 5:
        return same_name;
      case 6:
        return p.alone;
      case 7:
        return bound;
      default:
        return true;
    }
  }

  /// What lies in another layout than the list has it: the tracks of one bin, the bins of one track each.
  void give_pieces() {
    std::vector<Pair> pairs;
    for (std::uint32_t i = 0; i < all_.pieces.size(); ++i)
      add_pairs(pairs, all_.pieces[i].view, i, 0, {}, all_.pieces[i].unit);
    std::sort(pairs.begin(), pairs.end());
    std::vector<std::optional<EntryNumber>>& used = result_.pieces;
    used.resize(all_.pieces.size());
    for (int step = 6; step <= 8; ++step)
      for (const Pair& p : pairs) {
        const CollectedPiece& piece = all_.pieces[p.item];
        if (given_.contains(p.entry) || used[p.item] || !fits_step(step, p, piece.unit, false)) continue;
        given_[p.entry] = {p.item, 0, true};
        used[p.item] = p.entry;
        bound_[piece.unit].insert(set_of(p.entry));
        for (const std::size_t f : piece.files) laid_out_.insert(f);
      }
    result_.piece_copies.resize(all_.pieces.size());
    for (const Pair& p : pairs) result_.piece_copies[p.item] = !used[p.item];
  }

  std::vector<EntryNumber> sheets_of(SetNumber s) const {
    std::vector<EntryNumber> sheets;
    const ListedSet& set = list_.sets[s];
    for (EntryNumber e = set.first; e < set.first + set.entries; ++e)
      if (is_sheet(list_.name(list_.entries[e])) && !given_.contains(e)) sheets.push_back(e);
    return sheets;
  }

  /// Sets that the files of each image were given to.
  void find_image_sets() {
    const auto add = [&](const CollectedFile& file, EntryNumber e) {
      if (file.image) image_sets_[*file.image].insert(set_of(e));
    };
    for (const auto& [e, given] : given_)
      if (!given.piece)
        add(all_.files[given.item], e);
      else
        for (const std::size_t f : all_.pieces[given.item].files) add(all_.files[f], e);
  }

  /// Where the sheet belongs: to the sets of the files it names; alone, to those of its folder.
  const std::set<SetNumber>& sets_around(const CollectedFile& file) const {
    static const std::set<SetNumber> none;
    if (!file.image) return bound_[file.unit];
    const auto at = image_sets_.find(*file.image);
    return at == image_sets_.end() ? none : at->second;
  }

  std::vector<EntryNumber> sheets_of_name(const CollectedFile& file) const {
    std::vector<EntryNumber> sheets;
    for (const EntryNumber e : entries_named(file.base))
      if (is_sheet(list_.name(list_.entries[e])) && !given_.contains(e)) sheets.push_back(e);
    return sheets;
  }

  std::vector<EntryNumber> sheets_around(const CollectedFile& file) const {
    std::vector<EntryNumber> sheets;
    constexpr std::size_t kMostSets = 1000;  // a folder of everything: the names decide
    if (sets_around(file).size() <= kMostSets)
      for (const SetNumber s : sets_around(file))
        for (const EntryNumber e : sheets_of(s)) sheets.push_back(e);
    return sheets;
  }

  bool is_equivalent(const CollectedFile& file, EntryNumber sheet) const {
    std::vector<std::string> names;
    for (const ListedEntry& e : list_.entries_of(list_.sets[set_of(sheet)]))
      if (!is_sheet(list_.name(e))) names.emplace_back(list_.name(e));
    for (const bool crlf : {true, false}) {
      const auto text = file.sheet(names, crlf);
      if (!text) return false;
      ListedView view{.size_bytes = text->size()};
      for (const ListHash h : kListHashes)
        view.hashes.push_back({std::string(to_string(h)), digest_of(to_string(h), as_view(*text))});
      const auto found = entries_of_content(list_, view);
      if (std::find(found.begin(), found.end(), sheet) != found.end()) return true;
    }
    return false;
  }

  void give_sheet(std::uint32_t f, EntryNumber e, FileVerdict verdict) {
    given_[e] = {f, 0, false};
    file_given_[f] = e;
    sheet_verdicts_[f] = verdict;
  }

  void give_sheets() {
    find_image_sets();
    const auto each_free = [&](const auto& action) {
      for (std::uint32_t f = 0; f < all_.files.size(); ++f)
        if (all_.files[f].sheet && !file_given_[f]) action(f, all_.files[f]);
    };
    const auto give_first = [&](std::uint32_t f, const std::vector<EntryNumber>& sheets, FileVerdict verdict) {
      if (!sheets.empty() && !file_given_[f]) give_sheet(f, sheets.front(), verdict);
    };
    each_free([&](std::uint32_t f, const CollectedFile& file) {
      std::vector<EntryNumber> sheets = sheets_around(file);
      for (const EntryNumber e : sheets_of_name(file)) sheets.push_back(e);
      for (const EntryNumber e : sheets)
        if (!file_given_[f] && is_equivalent(file, e)) give_sheet(f, e, FileVerdict::equivalent);
    });
    each_free(
        [&](std::uint32_t f, const CollectedFile& file) { give_first(f, sheets_of_name(file), FileVerdict::differs); });
    each_free([&](std::uint32_t f, const CollectedFile& file) {
      if (sets_around(file).size() == 1) give_first(f, sheets_around(file), FileVerdict::differs);
    });
  }

  /// Without case, of ASCII letters only.
  std::vector<EntryNumber> entries_named(std::string_view base) const {
    std::vector<EntryNumber> found;
    const std::uint64_t key = name_key(base);
    auto at = std::lower_bound(list_.by_name.begin(), list_.by_name.end(), key,
                               [](const NameKey& k, std::uint64_t wanted) { return k.hash < wanted; });
    const std::string wanted = lower(base);
    for (; at != list_.by_name.end() && at->hash == key; ++at)
      if (lower(base_of(at->entry)) == wanted) found.push_back(at->entry);
    return found;
  }

  /// Right name, wrong content.
  void blame_by_name() {
    struct Named {
      EntryNumber entry;
      std::uint32_t file;
      bool alone;
    };
    std::vector<Named> named;
    for (std::uint32_t f = 0; f < all_.files.size(); ++f) {
      // What is not all there has other content than the list for a reason: that makes it no bad dump.
      const bool can_be_bad = all_.files[f].not_comparable.empty();
      if (file_given_[f] || laid_out_.contains(f) || !can_be_bad) continue;
      const auto entries = entries_named(all_.files[f].base);
      constexpr std::size_t kMost = 64;  // "track01.bin": only its own folder's set can be meant
      for (const EntryNumber e : entries)
        if (!given_.contains(e) && is_checkable(list_.entries[e]) &&
            (entries.size() <= kMost || bound_[all_.files[f].unit].contains(set_of(e))))
          named.push_back({e, f, entries.size() == 1});
    }
    std::sort(named.begin(), named.end(),
              [](const Named& a, const Named& b) { return std::tie(a.entry, a.file) < std::tie(b.entry, b.file); });
    for (int step = 0; step < 3; ++step)
      for (const Named& n : named) {
        const std::size_t unit = all_.files[n.file].unit;
        if (given_.contains(n.entry) || blamed_.contains(n.entry) || file_given_[n.file]) continue;
        const bool fits = step == 0   ? named_[unit].contains(set_of(n.entry))
                          : step == 1 ? bound_[unit].contains(set_of(n.entry))
                                      : n.alone;
        if (!fits) continue;
        blamed_[n.entry] = n.file;
        file_given_[n.file] = n.entry;
        bad_files_.insert(n.file);
        bound_[unit].insert(set_of(n.entry));
      }
  }

  BadReason reason_of(std::uint32_t f, EntryNumber e) const {
    const CollectedFile& file = all_.files[f];
    if (!file.unreadable.empty() || file.views.empty()) return BadReason::unreadable;
    if (file_duplicate_[f]) return BadReason::other_content;
    const ListedEntry& entry = list_.entries[e];
    const bool size = entry.size_bytes != kUnknownSize && entry.size_bytes != file.views.front().size_bytes;
    return size ? BadReason::size : BadReason::hash;
  }

  /// The hash that says most of those the entry has.
  static std::string decided_by(const ListedEntry& e) {
    for (const ListHash h : {ListHash::sha256, ListHash::sha1, ListHash::md5, ListHash::crc32})
      if ((e.hashes & bit(h)) != 0) return std::string(to_string(h));
    return {};
  }

  FileMatch judge_file(std::uint32_t f) const {
    const CollectedFile& file = all_.files[f];
    FileMatch m;
    if (const auto e = file_given_[f]) {
      m.entry = e;
      m.set = set_of(*e);
      if (bad_files_.contains(f)) {
        m.verdict = FileVerdict::bad;
        m.reason = reason_of(f, *e);
        return m;
      }
      m.by = decided_by(list_.entries[*e]);
      if (const auto sheet = sheet_verdicts_.find(f); sheet != sheet_verdicts_.end()) {
        m.verdict = sheet->second;
        return m;
      }
      const std::uint32_t view = given_.at(*e).view;
      m.through = file.views[view].through;
      m.verdict = same_name(*e, file, view) ? FileVerdict::good : FileVerdict::renamed;
      if (m.verdict == FileVerdict::renamed) m.expected_name = list_.name(list_.entries[*e]);
      return m;
    }
    if (laid_out_.contains(f)) {
      m.verdict = FileVerdict::layout;
    } else if (file_duplicate_[f]) {
      m.verdict = FileVerdict::duplicate;
      m.entry = file_duplicate_[f]->entry;
      m.set = set_of(*m.entry);
      m.through = file.views[file_duplicate_[f]->view].through;
    } else if (!file.not_comparable.empty()) {
      m.verdict = FileVerdict::not_comparable;
    } else if (bound_[file.unit].size() == 1 && !file.sheet && !is_of_another(file)) {
      m.verdict = FileVerdict::extra;
      m.set = *bound_[file.unit].begin();
    }
    return m;
  }

  /// Files of an image that has nothing to do with the set beside it.
  bool is_of_another(const CollectedFile& file) const {
    return file.image && !sets_around(file).contains(*bound_[file.unit].begin());
  }

  void judge_files() {
    for (std::uint32_t f = 0; f < all_.files.size(); ++f) result_.files.push_back(judge_file(f));
  }

  EntryMatch judge_entry(EntryNumber e) const {
    const ListedEntry& entry = list_.entries[e];
    EntryMatch m;
    if (const auto at = given_.find(e); at != given_.end()) {
      const Given& given = at->second;
      m.file = given.piece ? all_.pieces[given.item].path : all_.files[given.item].path;
      const FileVerdict v = given.piece ? FileVerdict::good : result_.files[given.item].verdict;
      m.state = v == FileVerdict::good         ? EntryState::good
                : v == FileVerdict::renamed    ? EntryState::renamed
                : v == FileVerdict::equivalent ? EntryState::equivalent
                                               : EntryState::differs;
      m.known_bad = entry.status == ListedStatus::bad_dump;
    } else if (const auto bad = blamed_.find(e); bad != blamed_.end()) {
      m.state = EntryState::bad;
      m.file = all_.files[bad->second].path;
      m.reason = result_.files[bad->second].reason;
    } else if (entry.status == ListedStatus::no_dump) {
      m.state = EntryState::nodump;
    } else if (entry.hashes == 0) {
      m.state = EntryState::unverifiable;
    } else if (const auto pair = std::lower_bound(pairs_.begin(), pairs_.end(), Pair{e, 0, 0, false});
               pair != pairs_.end() && pair->entry == e) {
      m.also_at = all_.files[pair->item].path;
    }
    return m;
  }

  void add_layout_flags(const ListedSet& set, std::set<std::string>& flags) const {
    for (EntryNumber e = set.first; e < set.first + set.entries; ++e)
      if (const auto at = given_.find(e); at != given_.end() && at->second.piece)
        flags.insert(all_.pieces[at->second.item].merged ? "layout_merge" : "layout_split");
  }

  SetMatch judge_set(SetNumber s) const {
    const ListedSet& set = list_.sets[s];
    SetMatch m{.set = s, .flags = {}, .entries = {}, .extra = {}};
    const auto entries = list_.entries_of(set);
    const bool sheets_alone = only_sheets(list_, set);
    std::set<std::string> flags;
    std::size_t checkable = 0, there = 0, bad = 0;
    bool sheet_missing = false;
    for (std::uint32_t i = 0; i < set.entries; ++i) {
      const ListedEntry& e = entries[i];
      EntryMatch& entry = m.entries.emplace_back(judge_entry(set.first + i));
      const bool satisfied = entry.state == EntryState::good || entry.state == EntryState::renamed ||
                             entry.state == EntryState::equivalent;
      if (entry.state == EntryState::renamed) flags.insert("renamed");
      if (entry.state == EntryState::equivalent) flags.insert("cue_equivalent");
      if (entry.state == EntryState::differs) flags.insert("cue_differs");
      if (entry.known_bad && satisfied) flags.insert("known_bad");
      if (e.status == ListedStatus::no_dump) flags.insert("has_nodump");
      if (is_sheet(list_.name(e)) && entry.state == EntryState::missing) sheet_missing = true;
      if (!counts(list_, e, sheets_alone)) continue;
      ++checkable;
      there += satisfied ? 1 : 0;
      bad += entry.state == EntryState::bad || entry.state == EntryState::differs ? 1 : 0;
    }
    m.verdict = checkable == 0       ? SetVerdict::unverifiable
                : there == checkable ? SetVerdict::complete
                : there > 0          ? SetVerdict::partial
                : bad > 0            ? SetVerdict::bad
                                     : SetVerdict::absent;
    if (sheet_missing && there > 0) flags.insert("cue_missing");
    add_layout_flags(set, flags);
    if (const auto extra = extra_.find(s); extra != extra_.end()) {
      m.extra = extra->second;
      flags.insert("extra");
    }
    m.flags.assign(flags.begin(), flags.end());
    return m;
  }

  void judge_sets() {
    std::set<SetNumber> touched;
    for (const auto& [e, given] : given_) touched.insert(set_of(e));
    for (const auto& [e, file] : blamed_) touched.insert(set_of(e));
    for (std::uint32_t f = 0; f < all_.files.size(); ++f)
      if (result_.files[f].verdict == FileVerdict::extra) {
        extra_[*result_.files[f].set].push_back(all_.files[f].path);
        touched.insert(*result_.files[f].set);
      }
    for (const SetNumber s : touched) {
      result_.sets.push_back(judge_set(s));
      ++result_.totals[result_.sets.back().verdict];
    }
    for (SetNumber s = 0; s < list_.sets.size(); ++s)
      if (!touched.contains(s))
        ++result_.totals[can_be_checked(list_, list_.sets[s]) ? SetVerdict::absent : SetVerdict::unverifiable];
  }

  const KnownList& list_;
  const Collection& all_;
  std::vector<std::set<SetNumber>> bound_, named_;  // by unit
  std::vector<Pair> pairs_;                         // of files, by entry
  std::unordered_map<EntryNumber, Given> given_;
  std::vector<std::optional<EntryNumber>> file_given_;
  std::vector<std::optional<Pair>> file_duplicate_;  // an entry whose content a file has that was not given to one
  std::set<std::size_t> laid_out_;                   // files of pieces
  std::map<std::size_t, std::set<SetNumber>> image_sets_;
  std::map<std::uint32_t, FileVerdict> sheet_verdicts_;
  std::unordered_map<EntryNumber, std::uint32_t> blamed_;
  std::set<std::uint32_t> bad_files_;
  std::map<SetNumber, std::vector<std::string>> extra_;
  ListMatch result_;
};

}  // namespace

std::string_view to_string(FileVerdict verdict) {
  constexpr std::array<std::string_view, 10> kWords{"good",   "renamed",    "bad",     "duplicate", "extra",
                                                    "layout", "equivalent", "differs", "unknown",   "not_comparable"};
  return kWords[static_cast<std::size_t>(verdict)];
}

std::string_view to_string(EntryState state) {
  constexpr std::array<std::string_view, 8> kWords{"good",   "renamed",      "bad",        "missing",
                                                   "nodump", "unverifiable", "equivalent", "differs"};
  return kWords[static_cast<std::size_t>(state)];
}

std::string_view to_string(SetVerdict verdict) {
  constexpr std::array<std::string_view, 5> kWords{"complete", "partial", "bad", "absent", "unverifiable"};
  return kWords[static_cast<std::size_t>(verdict)];
}

std::string_view to_string(BadReason reason) {
  constexpr std::array<std::string_view, 5> kWords{"", "size", "hash", "other_content", "unreadable"};
  return kWords[static_cast<std::size_t>(reason)];
}

ListMatch match(const KnownList& list, const Collection& collection) { return Matcher(list, collection).run(); }

SetMatch absent_set(const KnownList& list, std::uint32_t set) {
  SetMatch m{.set = set, .flags = {}, .entries = {}, .extra = {}};
  bool nodump = false;
  for (const ListedEntry& e : list.entries_of(list.sets[set])) {
    const EntryState state = e.status == ListedStatus::no_dump ? EntryState::nodump
                             : e.hashes == 0                   ? EntryState::unverifiable
                                                               : EntryState::missing;
    m.entries.push_back({.state = state});
    nodump = nodump || state == EntryState::nodump;
  }
  m.verdict = can_be_checked(list, list.sets[set]) ? SetVerdict::absent : SetVerdict::unverifiable;
  if (nodump) m.flags.emplace_back("has_nodump");
  return m;
}

}  // namespace opifex
