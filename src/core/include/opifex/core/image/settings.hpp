/// What a user can choose, as data. The command line, help, the manual page, shell completions and JSON are made of the
/// same tables: a format's own choices are listed in its Format, a job's in jobs/settings.hpp.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace opifex {

enum class SettingType {
  flag,      ///< given or not
  text,      ///< any words
  reads,     ///< a file (or folder) that is read
  writes,    ///< a file or folder that is written
  number,    ///< whole, within the range
  size,      ///< bytes: 4GiB, 650MB, fat32
  duration,  ///< 90s, 20min, 2h; the range is in milliseconds
  date,      ///< a day: 2000-01-31
  choice,    ///< one of the words
  choices    ///< several of the words, with commas between them
};

/// Both ends are allowed.
struct SettingRange {
  std::int64_t least = 0, most = INT64_MAX;
};

struct Setting {
  std::string_view name;  ///< lower case, with hyphens
  SettingType type = SettingType::flag;
  std::string_view help = {};                     ///< one line, for people
  std::string_view value = {};                    ///< what stands for the value in a line of help: "SIZE"
  std::string_view preset = {};                   ///< the value if none is given; empty: none
  SettingRange range = {};                        ///< of number, size, duration
  std::string_view unit = {};                     ///< of number: "sectors"
  std::vector<std::string> (*words)() = nullptr;  ///< of choice and choices; null: checked by whoever reads them
  std::string_view implied = {};                  ///< the value if only the name is given; empty: a value has to follow
  std::string_view details = {};                  ///< more than a line, for the manual; may be empty
  bool repeats = false;                           ///< it may be given several times, each with a value
};

using SettingList = std::vector<const Setting*>;

/// Null if the list has none of this name.
const Setting* find_setting(std::span<const Setting* const> list, std::string_view name);

/// What a right value is, for people: "a number from 1 to 99", "own or previous".
std::string values_of(const Setting& setting);

/// What was chosen. Every value was held against its table when it was set, so that reading one cannot fail.
class Settings {
 public:
  /// By name. Error (usage, "unknown_word") for a name that is not in the list, else as set().
  static Settings of(std::span<const Setting* const> list,
                     const std::vector<std::pair<std::string, std::string>>& values);

  /// Error (usage, "usage" or "unknown_word") that names the setting, what it takes, and the nearest right word.
  void set(const Setting& setting, std::string_view value);

  bool has(const Setting& setting) const { return given_.contains(setting.name); }
  bool flag(const Setting& setting) const { return has(setting); }
  /// As it was given, else the preset.
  std::string text(const Setting& setting) const;
  std::vector<std::string> list(const Setting& setting) const;
  /// Every value of one that repeats, in the order in which they were given.
  std::vector<std::string> all(const Setting& setting) const;
  std::optional<std::int64_t> number(const Setting& setting) const;
  /// Bytes of a size.
  std::optional<std::uint64_t> bytes(const Setting& setting) const;
  std::optional<std::uint64_t> milliseconds(const Setting& setting) const;
  /// Seconds since 1970 of a date's midnight, UTC.
  std::optional<std::int64_t> day(const Setting& setting) const;
  /// Of a choice: an enumeration whose values are in the order of the words; the first where nothing is chosen.
  template <typename Choice>
  Choice choice(const Setting& setting) const {
    return static_cast<Choice>(index_of(setting));
  }
  /// Names of what was given.
  std::vector<std::string> names() const;
  /// Those of this list.
  Settings only(std::span<const Setting* const> list) const;

 private:
  std::size_t index_of(const Setting& setting) const;
  std::map<std::string, std::string, std::less<>> given_;
  std::map<std::string, std::vector<std::string>, std::less<>> repeated_;
};

/// Words with commas between them, without the blanks around them.
std::vector<std::string> comma_list(std::string_view text);

/// Error (usage, "unknown_word"): "there is no WHAT named WORD", with the nearest right word.
[[noreturn]] void unknown_word(const std::string& what, const std::string& word, const std::vector<std::string>& known);

}  // namespace opifex
