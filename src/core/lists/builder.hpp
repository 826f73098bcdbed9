/// What the readers of all forms fill: one set of rules for sizes, hashes, names and doubles.
#pragma once

#include <functional>
#include <map>
#include <unordered_map>

#include "opifex/core/base/error.hpp"
#include "opifex/core/lists/known_list.hpp"

namespace opifex {

/// An entry in the words of the list.
struct EntryText {
  std::string_view name = {}, size = {}, crc = {}, md5 = {}, sha1 = {}, sha256 = {}, status = {}, serial = {},
                   merge = {};
  ListedKind kind = ListedKind::rom;
};

/// An Error that refuses the list as a whole.
[[noreturn]] void refuse_list(const std::string& file, std::string code, std::uint64_t line, std::string what,
                              std::string hint = {});

class ListBuilder {
 public:
  explicit ListBuilder(std::string file) : file_(std::move(file)) {}

  /// Where the reader is; asked only when there is something to tell, since expat counts lines anew each time.
  void set_line(std::function<std::uint64_t()> line) { line_ = std::move(line); }

  /// The first value of a key counts; keys that no list is known to have are skipped.
  void header(std::string_view key, std::string_view value);
  void begin_set();
  /// The first value counts.
  void set_field(SetField field, std::string_view value);
  void add(const EntryText& entry);
  void end_set();
  /// Of a checksum list: one hash of a name. The same name under several algorithms is one entry.
  void add_sum(std::string_view name, ListHash hash, std::string_view digits);
  void problem(std::string code, std::string message);

  std::uint64_t entries() const { return tables_->entries.size(); }
  const std::string& file() const { return file_; }
  KnownListPtr finish(ListKind kind);

 private:
  struct Tables {
    std::vector<ListedSet> sets;
    std::vector<ListedEntry> entries;
    std::vector<Sha256> sha256s;
    std::string texts;
    std::array<std::vector<std::uint32_t>, 4> by_hash;
    std::vector<NameKey> by_name;
  };

  ListText keep(std::string_view text);
  std::string_view text(ListText t) const { return std::string_view(tables_->texts).substr(t.at, t.size); }
  std::string_view set_name() const;
  void take_size(ListedEntry& entry, std::string_view digits, std::string_view name);
  void take_hash(ListedEntry& entry, ListHash hash, std::string_view digits, std::string_view name);
  void take_status(ListedEntry& entry, std::string_view word, std::string_view name);
  bool stands_already(const ListedEntry& entry, std::string_view name);
  bool agree(const ListedEntry& a, const ListedEntry& b) const;
  template <typename Visit>
  void visit_same_name(std::string_view name, const Visit& visit);
  void append(ListedEntry entry, std::string_view name);
  void judge_set_name();
  void make_indexes(KnownList& list);

  std::string file_;
  std::shared_ptr<Tables> tables_ = std::make_shared<Tables>();
  std::vector<std::pair<std::string, std::string>> header_;
  std::vector<ListProblem> problems_;
  std::map<std::string, std::uint64_t> told_;  // problems by code
  std::uint64_t more_problems_ = 0;
  std::unordered_multimap<std::size_t, std::uint32_t> names_;  // entries of the open set by their names' hashes
  std::function<std::uint64_t()> line_ = [] { return std::uint64_t{0}; };
  std::unordered_map<std::size_t, std::uint32_t> sets_;  // the first by the hash of its name
};

}  // namespace opifex
