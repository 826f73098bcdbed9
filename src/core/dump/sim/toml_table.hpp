// How the TOML files of simulated devices are read: every key is known, every value in its range.
#pragma once

#include <algorithm>
#include <filesystem>
#include <set>

#include <toml++/toml.h>

#include "opifex/core/base/error.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex::dump {

struct SimulatedKind {
  const char *name, *manual;
};

/// Error (refused, "bad_simulation") if it is no TOML, or too large to be one.
toml::table parse_simulation(const std::filesystem::path& file, const SimulatedKind& kind);

/// A table of the file: every key is asked for once, what is left over is a mistake of the writer.
class TomlTable {
 public:
  TomlTable(const toml::table& table, std::string where, const std::filesystem::path& file, const SimulatedKind& kind)
      : table_(table), where_(std::move(where)), file_(file), kind_(kind) {}

  [[noreturn]] void fail(const std::string& key, std::string found, std::string expected) const {
    const toml::node* node = table_.get(key);
    const auto& source = node ? node->source() : table_.source();
    Error error(
        {.code = "bad_simulation",
         .what = fmt::format("the simulated {}'s file cannot be used: {}{}", kind_.name, where_, printable(key)),
         .file = file_.string(),
         .line = source.begin.line,
         .found = std::move(found),
         .expected = std::move(expected),
         .hint = fmt::format("{} lists all keys", kind_.manual)});
    throw error;
  }

  template <typename T>
  void get(const char* key, T& out) {
    asked_.insert(key);
    const toml::node* node = table_.get(key);
    if (!node) return;
    const auto value = node->value<T>();
    if (!value) fail(key, "a value of another kind", kind_name<T>());
    out = *value;
  }
  template <typename T>
  void number(const char* key, T& out, std::int64_t low, std::int64_t high) {
    std::int64_t value = static_cast<std::int64_t>(out);
    get(key, value);
    if (value < low || value > high) fail(key, fmt::format("{}", value), fmt::format("{} to {}", low, high));
    out = static_cast<T>(value);
  }
  void share(const char* key, double& out) {
    get(key, out);
    if (!(out >= 0 && out <= 1)) fail(key, fmt::format("{}", out), "0 to 1");
  }
  void path(const char* key, std::filesystem::path& out) {
    std::string text;
    get(key, text);
    if (!text.empty()) out = file_.parent_path() / text;
  }
  const toml::array* array(const char* key) {
    asked_.insert(key);
    const toml::node* node = table_.get(key);
    if (!node) return nullptr;
    if (!node->is_array()) fail(key, "a value of another kind", "a list");
    return node->as_array();
  }
  template <typename Each>
  void tables(const char* key, Each each) {
    const toml::array* list = array(key);
    if (!list) return;
    for (std::size_t i = 0; i < list->size(); ++i) {
      const toml::table* t = list->get(i)->as_table();
      if (!t) fail(key, "a list of values", "a list of tables");
      TomlTable item(*t, fmt::format("{}{}[{}].", where_, key, i + 1), file_, kind_);
      each(item);
      item.finish();
    }
  }
  template <typename Each>
  void table(const char* key, Each each) {
    asked_.insert(key);
    const toml::node* node = table_.get(key);
    if (!node) return;
    if (!node->is_table()) fail(key, "a value of another kind", "a table");
    TomlTable item(*node->as_table(), where_ + key + ".", file_, kind_);
    each(item);
    item.finish();
  }
  std::string word(const char* key, const std::string& usual, const std::vector<std::string>& known) {
    std::string text = usual;
    get(key, text);
    if (std::find(known.begin(), known.end(), text) == known.end())
      fail(key, printable(text), fmt::format("one of {}", fmt::join(known, ", ")));
    return text;
  }
  /// "03/11/05", or three numbers.
  std::uint32_t sense_of(const char* key, const toml::node& node) const {
    const toml::array* list = node.as_array();
    if (!list || list->size() != 3) fail(key, "another value", "[key, asc, ascq]");
    std::uint32_t sense = 0;
    for (const toml::node& part : *list) {
      const auto value = part.value<std::int64_t>().value_or(-1);
      if (value < 0 || value > 255) fail(key, "a part outside 0 to 255", "[key, asc, ascq]");
      sense = sense << 8 | static_cast<std::uint32_t>(value);
    }
    return sense;
  }
  void sense(const char* key, std::uint32_t& out) {
    asked_.insert(key);
    if (const toml::node* node = table_.get(key)) out = sense_of(key, *node);
  }
  void finish() const {
    for (const auto& [key, value] : table_)
      if (!asked_.contains(std::string(key.str())))
        fail(std::string(key.str()), "a key that means nothing", "a known key");
  }

 private:
  template <typename T>
  static const char* kind_name() {
    if constexpr (std::is_same_v<T, bool>) return "true or false";
    if constexpr (std::is_same_v<T, std::string>) return "text";
    return "a number";
  }
  const toml::table& table_;
  std::string where_;
  const std::filesystem::path& file_;
  const SimulatedKind& kind_;
  std::set<std::string> asked_;
};

}  // namespace opifex::dump
