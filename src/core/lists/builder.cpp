#include "builder.hpp"

#include <algorithm>
#include <charconv>
#include <cstring>
#include <numeric>

#include <tbb/parallel_invoke.h>

#include "opifex/core/base/read_budget.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/lists/read_list.hpp"

namespace opifex {
namespace {

constexpr std::array<std::string_view, 10> kHeaderKeys{"name",  "description", "version",  "date", "author",
                                                       "email", "homepage",    "category", "url",  "comment"};

constexpr std::array<std::int8_t, 256> kHexDigits = [] {
  std::array<std::int8_t, 256> values{};
  values.fill(-1);
  for (int i = 0; i < 10; ++i) values[static_cast<std::size_t>('0' + i)] = static_cast<std::int8_t>(i);
  for (int i = 0; i < 6; ++i)
    values[static_cast<std::size_t>('a' + i)] = values[static_cast<std::size_t>('A' + i)] =
        static_cast<std::int8_t>(10 + i);
  return values;
}();

/// False unless `digits` are just the digits of `out`.
bool parse_hex(std::string_view digits, std::span<std::byte> out) {
  if (digits.size() != 2 * out.size()) return false;
  const auto value = [&](std::size_t i) { return int{kHexDigits[static_cast<unsigned char>(digits[i])]}; };
  int wrong = 0;
  for (std::size_t i = 0; i < out.size(); ++i) {
    const int high = value(2 * i), low = value(2 * i + 1);
    wrong |= high | low;  // negative once one of them is
    out[i] = static_cast<std::byte>((high & 15) << 4 | (low & 15));
  }
  return wrong >= 0;
}

std::string shown(std::string_view text) {
  constexpr std::size_t kMost = 60;
  std::string out = printable(text.substr(0, kMost));
  return text.size() > kMost ? out + "…" : out;
}

std::optional<ListedStatus> status_of(std::string_view word) {
  for (const auto s : {ListedStatus::good, ListedStatus::verified, ListedStatus::bad_dump, ListedStatus::no_dump})
    if (to_upper_ascii(word) == to_upper_ascii(to_string(s))) return s;
  return std::nullopt;
}

constexpr std::uint32_t kFewEntries = 8;

bool is_absent(std::string_view value) { return value.empty() || value == "-"; }

}  // namespace

void refuse_list(const std::string& file, std::string code, std::uint64_t line, std::string what, std::string hint) {
  ErrorDetails details{.code = std::move(code), .what = std::move(what), .file = file, .hint = std::move(hint)};
  if (line > 0) details.line = static_cast<std::uint32_t>(std::min<std::uint64_t>(line, UINT32_MAX));
  if (details.hint.empty()) details.hint = "fetch the list again: nothing is compared with one that is broken";
  throw Error(details);
}

ListText ListBuilder::keep(std::string_view text) {
  const ListText t{static_cast<std::uint32_t>(tables_->texts.size()), static_cast<std::uint32_t>(text.size())};
  tables_->texts += text;
  return t;
}

void ListBuilder::header(std::string_view key, std::string_view value) {
  const std::string lower = fold_case(key);
  if (value.empty() || std::find(kHeaderKeys.begin(), kHeaderKeys.end(), lower) == kHeaderKeys.end()) return;
  for (const auto& [name, old] : header_)
    if (name == lower) return;
  header_.emplace_back(lower, value);
}

void ListBuilder::problem(std::string code, std::string message) {
  if (++told_[code] > ReadBudget::kMostProblems) {
    ++more_problems_;
    return;
  }
  problems_.push_back(
      {std::move(code), static_cast<std::uint32_t>(std::min<std::uint64_t>(line_(), UINT32_MAX)), std::move(message)});
}

void ListBuilder::begin_set() {
  if (tables_->sets.size() >= ListLimits::kEntries)
    refuse_list(file_, "too_large", line_(), "this list has more than 20 million sets");
  ListedSet set;
  set.first = static_cast<std::uint32_t>(tables_->entries.size());
  tables_->sets.push_back(set);
  names_.clear();
}

std::string_view ListBuilder::set_name() const {
  const ListedSet& set = tables_->sets.back();
  return text(set.texts[static_cast<std::size_t>(SetField::name)]);
}

void ListBuilder::set_field(SetField field, std::string_view value) {
  ListText& kept = tables_->sets.back().texts[static_cast<std::size_t>(field)];
  if (kept.size > 0 || value.empty()) return;
  // Most sets are described by their own name.
  const ListText name = tables_->sets.back().texts[static_cast<std::size_t>(SetField::name)];
  kept = text(name) == value ? name : keep(value);
  if (field == SetField::name) judge_set_name();
}

void ListBuilder::take_size(ListedEntry& entry, std::string_view digits, std::string_view name) {
  if (is_absent(digits)) return;
  std::uint64_t size = 0;
  const auto [end, error] = std::from_chars(digits.data(), digits.data() + digits.size(), size);
  if (error == std::errc{} && end == digits.data() + digits.size() && size <= INT64_MAX) {
    entry.size_bytes = size;
    return;
  }
  problem("bad_size", fmt::format("{}: \"{}\" is no size; any size is taken", shown(name), shown(digits)));
}

void ListBuilder::take_hash(ListedEntry& entry, ListHash hash, std::string_view digits, std::string_view name) {
  if (is_absent(digits)) return;
  bool good = false;
  if (hash == ListHash::crc32) {
    std::array<std::byte, 4> bytes{};
    good = digits.size() < 8 ? parse_hex(std::string(8 - digits.size(), '0') + std::string(digits), bytes)
                             : parse_hex(digits, bytes);
    if (good) entry.crc = load_be32(bytes, 0);
    if (good && digits.size() < 8)
      problem("short_crc", fmt::format("{}: the CRC-32 \"{}\" has lost its leading zeros", shown(name), shown(digits)));
  } else if (hash == ListHash::md5) {
    good = parse_hex(digits, entry.md5);
  } else if (hash == ListHash::sha1) {
    good = parse_hex(digits, entry.sha1);
  } else {
    Sha256 bytes{};
    good = parse_hex(digits, bytes);
    if (good) {
      entry.sha256 = static_cast<std::uint32_t>(tables_->sha256s.size());
      tables_->sha256s.push_back(bytes);
    }
  }
  if (good)
    entry.hashes = static_cast<std::uint8_t>(entry.hashes | bit(hash));
  else
    problem("bad_hash",
            fmt::format("{}: \"{}\" is no {}; it is not compared", shown(name), shown(digits), to_string(hash)));
}

void ListBuilder::take_status(ListedEntry& entry, std::string_view word, std::string_view name) {
  if (word.empty()) return;
  if (const auto status = status_of(word))
    entry.status = *status;
  else
    problem("bad_status", fmt::format("{}: there is no status \"{}\"; taken as good", shown(name), shown(word)));
}

bool ListBuilder::agree(const ListedEntry& a, const ListedEntry& b) const {
  const unsigned both = a.hashes & b.hashes;
  const auto differs = [&](ListHash h, bool equal) { return (both & bit(h)) != 0 && !equal; };
  const bool sizes = a.size_bytes == b.size_bytes || a.size_bytes == kUnknownSize || b.size_bytes == kUnknownSize;
  return sizes && a.kind == b.kind && !differs(ListHash::crc32, a.crc == b.crc) &&
         !differs(ListHash::md5, a.md5 == b.md5) && !differs(ListHash::sha1, a.sha1 == b.sha1) &&
         ((both & bit(ListHash::sha256)) == 0 || tables_->sha256s[a.sha256] == tables_->sha256s[b.sha256]);
}

template <typename Visit>
void ListBuilder::visit_same_name(std::string_view name, const Visit& visit) {
  const ListedSet& set = tables_->sets.back();
  if (set.entries <= kFewEntries) {
    for (std::uint32_t i = set.first; i < set.first + set.entries; ++i)
      if (ListedEntry& old = tables_->entries[i]; text(old.name) == name && !visit(old)) return;
    return;
  }
  const auto [from, to] = names_.equal_range(std::hash<std::string_view>{}(name));
  for (auto at = from; at != to; ++at) {
    ListedEntry& old = tables_->entries[at->second];
    if (text(old.name) == name && !visit(old)) return;
  }
}

bool ListBuilder::stands_already(const ListedEntry& entry, std::string_view name) {
  bool same = false, any = false;
  visit_same_name(name, [&](const ListedEntry& old) {
    any = true;
    same = agree(old, entry);
    return !same;
  });
  if (same)
    problem("duplicate_entry", fmt::format("{} stands twice in \"{}\"", shown(name), shown(set_name())));
  else if (any)
    problem("conflicting_entry", fmt::format("{} stands twice in \"{}\", with other content: both are kept",
                                             shown(name), shown(set_name())));
  return same;
}

void ListBuilder::append(ListedEntry entry, std::string_view name) {
  if (tables_->entries.size() >= ListLimits::kEntries)
    refuse_list(file_, "too_large", line_(), "this list has more than 20 million entries");
  entry.set = static_cast<std::uint32_t>(tables_->sets.size() - 1);
  entry.name = keep(name);
  entry.unsafe = is_unsafe_name(name) ? 1 : 0;
  if (entry.unsafe != 0)
    problem("unsafe_name", fmt::format("\"{}\" is no name a file may have: compared by content only", shown(name)));
  tables_->entries.push_back(entry);
  ListedSet& set = tables_->sets.back();
  ++set.entries;
  // A set of few entries is looked through: to fill a table for each of half a million sets takes longer.
  if (set.entries <= kFewEntries) return;
  const std::uint32_t first = set.entries == kFewEntries + 1 ? set.first : set.first + set.entries - 1;
  for (std::uint32_t i = first; i < set.first + set.entries; ++i)
    names_.emplace(std::hash<std::string_view>{}(text(tables_->entries[i].name)), i);
}

void ListBuilder::add(const EntryText& words) {
  if (words.name.empty()) {
    problem("no_name", fmt::format("an entry of \"{}\" has no name: it is left out", shown(set_name())));
    return;
  }
  ListedEntry entry{.kind = words.kind};
  take_size(entry, words.size, words.name);
  take_hash(entry, ListHash::crc32, words.crc, words.name);
  take_hash(entry, ListHash::md5, words.md5, words.name);
  take_hash(entry, ListHash::sha1, words.sha1, words.name);
  take_hash(entry, ListHash::sha256, words.sha256, words.name);
  take_status(entry, words.status, words.name);
  if (entry.hashes == 0 && entry.status != ListedStatus::no_dump)
    problem("no_check", fmt::format("{} has no hash: nothing can be compared with it", shown(words.name)));
  if (stands_already(entry, words.name)) return;
  if (!words.serial.empty()) entry.serial = keep(words.serial);
  if (!words.merge.empty()) entry.merge = keep(words.merge);
  append(entry, words.name);
}

void ListBuilder::add_sum(std::string_view name, ListHash hash, std::string_view digits) {
  ListedEntry entry;
  take_hash(entry, hash, digits, name);
  if (entry.hashes == 0) return;
  bool joined = false, same = false;
  visit_same_name(name, [&](const ListedEntry& old) {
    same = (old.hashes & bit(hash)) != 0 && agree(old, entry);
    return !same;
  });
  if (!same)
    visit_same_name(name, [&](ListedEntry& old) {
      if ((old.hashes & bit(hash)) != 0) return true;
      if (hash == ListHash::crc32) old.crc = entry.crc;
      if (hash == ListHash::md5) old.md5 = entry.md5;
      if (hash == ListHash::sha1) old.sha1 = entry.sha1;
      if (hash == ListHash::sha256) old.sha256 = entry.sha256;
      old.hashes = static_cast<std::uint8_t>(old.hashes | bit(hash));
      joined = true;
      return false;
    });
  if (!joined && !stands_already(entry, name)) append(entry, name);
}

void ListBuilder::end_set() {
  if (!set_name().empty()) return;
  problem("no_set_name", "a set has no name");
  tables_->sets.back().unsafe = 1;
}

void ListBuilder::judge_set_name() {
  const auto number = static_cast<std::uint32_t>(tables_->sets.size() - 1);
  const std::string_view name = set_name();
  if (is_unsafe_name(name)) {
    problem("unsafe_set_name",
            fmt::format("\"{}\" is no name a folder may have: compared by content only", shown(name)));
    tables_->sets.back().unsafe = 1;
  }
  const auto [first, is_new] = sets_.try_emplace(std::hash<std::string_view>{}(name), number);
  if (!is_new && text(tables_->sets[first->second].texts[0]) == name)
    problem("duplicate_set", fmt::format("\"{}\" stands twice", shown(name)));
}

namespace {

/// The hash by which an entry is found, as text that sorts; nothing: by none.
std::optional<ListHash> strongest(const ListedEntry& e) {
  if (e.status == ListedStatus::no_dump) return std::nullopt;
  for (const ListHash h : {ListHash::sha256, ListHash::sha1, ListHash::md5, ListHash::crc32})
    if ((e.hashes & bit(h)) != 0) return h;
  return std::nullopt;
}

}  // namespace

void ListBuilder::make_indexes(KnownList& list) {
  Tables& t = *tables_;
  t.by_name.reserve(t.entries.size());
  for (std::uint32_t i = 0; i < t.entries.size(); ++i) {
    const ListedEntry& e = t.entries[i];
    list.algorithms |= e.hashes;
    if (e.size_bytes != kUnknownSize)
      list.totals.bytes = checked_add(list.totals.bytes, e.size_bytes).value_or(UINT64_MAX);
    list.totals.bad_dumps += e.status == ListedStatus::bad_dump ? 1U : 0U;
    list.totals.no_dumps += e.status == ListedStatus::no_dump ? 1U : 0U;
    if (e.size_bytes == kUnknownSize && e.status != ListedStatus::no_dump) list.sizes_everywhere = false;
    if (const auto hash = strongest(e)) t.by_hash[static_cast<std::size_t>(*hash)].push_back(i);
    t.by_name.push_back({name_key(listed_base(text(e.name))), i});
  }
  const auto order_names = [&] {
    std::sort(t.by_name.begin(), t.by_name.end(),
              [](const NameKey& a, const NameKey& b) { return std::tie(a.hash, a.entry) < std::tie(b.hash, b.entry); });
  };
  const auto order = [&](ListHash hash, auto key) {
    // By the first bytes, beside the number: to look at the entries themselves is a jump through the memory each.
    auto& index = t.by_hash[static_cast<std::size_t>(hash)];
    std::vector<std::pair<std::uint32_t, std::uint32_t>> keyed;
    keyed.reserve(index.size());
    for (const std::uint32_t i : index) keyed.emplace_back(load_be32(key(i), 0), i);
    std::sort(keyed.begin(), keyed.end(), [&](const auto& a, const auto& b) {
      if (a.first != b.first) return a.first < b.first;
      const ByteView x = key(a.second), y = key(b.second);
      const int rest = std::memcmp(x.data(), y.data(), x.size());
      return rest != 0 ? rest < 0 : a.second < b.second;
    });
    for (std::size_t i = 0; i < keyed.size(); ++i) index[i] = keyed[i].second;
    list.by_hash[static_cast<std::size_t>(hash)] = index;
  };
  const auto order_hashes = [&] {
    order(ListHash::md5, [&](std::uint32_t i) { return ByteView(t.entries[i].md5); });
    order(ListHash::sha1, [&](std::uint32_t i) { return ByteView(t.entries[i].sha1); });
    order(ListHash::sha256, [&](std::uint32_t i) { return ByteView(t.sha256s[t.entries[i].sha256]); });
  };
  tbb::parallel_invoke(order_names, order_hashes);
  auto& by_crc = t.by_hash[static_cast<std::size_t>(ListHash::crc32)];
  std::stable_sort(by_crc.begin(), by_crc.end(),
                   [&](std::uint32_t a, std::uint32_t b) { return t.entries[a].crc < t.entries[b].crc; });
  list.by_hash[static_cast<std::size_t>(ListHash::crc32)] = by_crc;
  list.by_name = t.by_name;
}

KnownListPtr ListBuilder::finish(ListKind kind) {
  sets_ = {};
  if (tables_->entries.empty()) problem("empty_list", "there is no entry in this list");
  const auto list = std::make_shared<KnownList>();
  list->file = file_;
  list->kind = kind;
  list->header = std::move(header_);
  make_indexes(*list);
  list->problems = std::move(problems_);
  list->more_problems = more_problems_;
  list->sets = tables_->sets;
  list->entries = tables_->entries;
  list->sha256s = tables_->sha256s;
  list->texts = tables_->texts;
  list->owner = tables_;
  return list;
}

}  // namespace opifex
