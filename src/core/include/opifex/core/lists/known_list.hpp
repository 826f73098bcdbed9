/// A known list: which dumps others have made, told by sizes and hashes. Every form of list becomes this one model; its
/// tables are plain arrays, so that a list that was read once can be mapped from a cache (lists/cache.hpp).
#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex {

/// What the file was: an XML datafile, the older form in parentheses, or a checksum list by its lines.
enum class ListKind : std::uint8_t { xml, text, sfv, md5, sha1, sha256, bsd, mixed };
std::string_view to_string(ListKind kind);

enum class ListedKind : std::uint8_t {
  rom,  ///< a file
  disk  ///< a CHD, known by the hash in its header
};
std::string_view to_string(ListedKind kind);

enum class ListedStatus : std::uint8_t {
  good,
  verified,  ///< several people have dumped the same
  bad_dump,  ///< the best dump there is, known to be damaged
  no_dump    ///< it exists, and nobody has dumped it
};
/// "good", "verified", "baddump", "nodump": the words of the lists themselves.
std::string_view to_string(ListedStatus status);

/// Digests that lists have, weakest first. Also bits of a set of them: 1 << index.
enum class ListHash : std::uint8_t { crc32, md5, sha1, sha256 };
inline constexpr std::array kListHashes{ListHash::crc32, ListHash::md5, ListHash::sha1, ListHash::sha256};
/// As digest_names() has it.
std::string_view to_string(ListHash hash);
constexpr unsigned bit(ListHash hash) { return 1U << static_cast<unsigned>(hash); }

/// A text of the list: where it lies among all of them.
struct ListText {
  std::uint32_t at = 0, size = 0;
};

inline constexpr std::uint64_t kUnknownSize = UINT64_MAX;

/// One file of a set. Fixed layout: it stands so in the cache.
struct ListedEntry {
  std::uint64_t size_bytes = kUnknownSize;
  ListText name = {}, serial = {}, merge = {};
  std::uint32_t set = 0;
  std::uint32_t crc = 0;
  std::uint32_t sha256 = 0;  ///< number in KnownList::sha256s
  std::array<std::byte, 16> md5 = {};
  std::array<std::byte, 20> sha1 = {};
  std::uint8_t hashes = 0;  ///< bits of ListHash: which it has
  ListedKind kind = ListedKind::rom;
  ListedStatus status = ListedStatus::good;
  std::uint8_t unsafe = 0;  ///< 1: the name is no path that may be opened, made or renamed to
};
static_assert(sizeof(ListedEntry) == 88);

enum class SetField : std::uint8_t { name, description, year, manufacturer, category, serial, cloneof, romof, id };
inline constexpr std::size_t kSetFields = 9;
std::string_view to_string(SetField field);

/// One game, or one disc of a game. Fixed layout, as above; its entries lie one behind the other.
struct ListedSet {
  std::array<ListText, kSetFields> texts = {};
  std::uint32_t first = 0, entries = 0;
  std::uint8_t unsafe = 0;  ///< 1: its name is no path; a byte that a cache may have with any value
  std::array<std::uint8_t, 3> unused = {};
};
static_assert(sizeof(ListedSet) == 84);

/// Something wrong in a list that is read on.
struct ListProblem {
  std::string code;  ///< "bad_size", "unsafe_name" ... (docs/lists.md)
  std::uint32_t line = 0;
  std::string message;
};

/// An entry number with the hash of its name; see KnownList::by_name.
struct NameKey {
  std::uint64_t hash = 0;
  std::uint32_t entry = 0, unused = 0;
};

using Sha256 = std::array<std::byte, 32>;

struct ListTotals {
  std::uint64_t bytes = 0;  ///< of all entries whose size is known; at most 2^64 - 1
  std::uint64_t bad_dumps = 0, no_dumps = 0;
};

class KnownList {
 public:
  std::string file;  ///< as the user named it
  ListKind kind = ListKind::xml;
  std::vector<std::pair<std::string, std::string>> header;  ///< name, description, version ... as the list has them
  std::vector<ListProblem> problems;                        ///< of one code at most ReadBudget::kMostProblems
  std::uint64_t more_problems = 0;                          ///< beyond those

  std::span<const ListedSet> sets;
  std::span<const ListedEntry> entries;
  std::span<const Sha256> sha256s;
  std::string_view texts;
  /// Entries by their strongest hash, one order for each of ListHash; those that have none, or are no dump, in none.
  std::array<std::span<const std::uint32_t>, 4> by_hash;
  std::span<const NameKey> by_name;  ///< by name_key() of the last part of their names
  ListTotals totals;
  unsigned algorithms = 0;            ///< bits of ListHash: what has to be taken of a file
  bool sizes_everywhere = true;       ///< false: some entry has no size, which any file may have
  std::shared_ptr<const void> owner;  ///< of the arrays

  std::string_view text(ListText t) const { return texts.substr(t.at, t.size); }
  std::string_view text(const ListedSet& set, SetField field) const {
    return text(set.texts[static_cast<std::size_t>(field)]);
  }
  std::string_view name(const ListedSet& set) const { return text(set, SetField::name); }
  std::string_view name(const ListedEntry& entry) const { return text(entry.name); }
  std::span<const ListedEntry> entries_of(const ListedSet& set) const {
    return entries.subspan(set.first, set.entries);
  }
  const ListedSet& set_of(const ListedEntry& entry) const { return sets[entry.set]; }
  /// Lower-case hexadecimal; empty: the entry has none.
  std::string hash(const ListedEntry& entry, ListHash which) const;
  /// The value of a header's key; empty: none.
  std::string_view header_text(std::string_view key) const;
};
using KnownListPtr = std::shared_ptr<const KnownList>;

/// The last part of a path in a list, behind '/' or '\'.
std::string_view listed_base(std::string_view name);
/// Equal for names that differ in nothing but the case of ASCII letters.
std::uint64_t name_key(std::string_view base);
/// Empty, absolute, with a drive letter, with a part that is empty, "." or "..", with a control character, or longer
/// than 4096 bytes: matched by content only, never used as a path.
bool is_unsafe_name(std::string_view name);

}  // namespace opifex
