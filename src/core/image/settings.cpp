#include "opifex/core/image/settings.hpp"

#include <algorithm>
#include <charconv>

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/error.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

std::optional<std::int64_t> whole_number(std::string_view text) {
  if (text.starts_with('+')) text.remove_prefix(1);
  std::int64_t value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (error != std::errc{} || end != text.data() + text.size()) return std::nullopt;
  return value;
}

/// "90s", "20min", "2h", "0.5s" -> milliseconds
std::optional<std::uint64_t> duration_ms(std::string_view text) {
  double value = -1;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (error != std::errc{} || !(value >= 0)) return std::nullopt;
  const std::string_view unit = text.substr(static_cast<std::size_t>(end - text.data()));
  const double each = unit == "s" || unit.empty() ? 1e3
                      : unit == "ms"              ? 1
                      : unit == "min"             ? 6e4
                      : unit == "h"               ? 3.6e6
                                                  : 0;
  constexpr double kLongest = 1e12;
  if (each == 0 || value * each > kLongest) return std::nullopt;
  return static_cast<std::uint64_t>(value * each);
}

std::optional<std::int64_t> day_seconds(std::string_view text) {
  constexpr std::size_t kLength = 10;  // 2000-01-31
  if (text.size() != kLength || text[4] != '-' || text[7] != '-') return std::nullopt;
  const auto year = whole_number(text.substr(0, 4)), month = whole_number(text.substr(5, 2)),
             day = whole_number(text.substr(8, 2));
  constexpr int kFirst = 1900, kLast = 2155;  // a directory record has a byte for it (ECMA-119, 9.1.5)
  if (!year || !month || !day || *year < kFirst || *year > kLast) return std::nullopt;
  return seconds_of({static_cast<int>(*year), static_cast<int>(*month), static_cast<int>(*day)});
}

bool in_range(const Setting& setting, std::int64_t value) {
  return value >= setting.range.least && value <= setting.range.most;
}

bool is_word(const Setting& setting, const std::string& word) {
  if (!setting.words) return true;
  const std::vector<std::string> known = setting.words();
  return std::find(known.begin(), known.end(), word) != known.end();
}

bool fits(const Setting& setting, std::string_view value) {
  switch (setting.type) {
    case SettingType::flag:
    case SettingType::text:
    case SettingType::reads:
    case SettingType::writes:
      return true;
    case SettingType::number: {
      const auto number = whole_number(value);
      return number && in_range(setting, *number);
    }
    case SettingType::size: {
      const auto bytes = parse_size(value);
      return bytes && *bytes <= static_cast<std::uint64_t>(INT64_MAX) &&
             in_range(setting, static_cast<std::int64_t>(*bytes));
    }
    case SettingType::duration: {
      const auto time = duration_ms(value);
      return time && in_range(setting, static_cast<std::int64_t>(*time));
    }
    case SettingType::date:
      return day_seconds(value).has_value();
    case SettingType::choice:
      return is_word(setting, std::string(value));
    case SettingType::choices: {
      const auto words = comma_list(value);
      return std::all_of(words.begin(), words.end(), [&](const std::string& w) { return is_word(setting, w); });
    }
  }
  return false;
}

/// The first word of the value that is none.
std::string wrong_word(const Setting& setting, std::string_view value) {
  if (setting.type != SettingType::choices) return std::string(value);
  for (const std::string& word : comma_list(value))
    if (!is_word(setting, word)) return word;
  return {};
}

std::string range_text(const Setting& setting) {
  const auto [least, most] = setting.range;
  const std::string unit = setting.unit.empty() ? "" : fmt::format(" of {}", setting.unit);
  if (most == INT64_MAX) return least == 0 ? "a number" + unit : fmt::format("a number{} from {}", unit, least);
  return fmt::format("a number{} from {} to {}", unit, least, most);
}

std::string size_text(const Setting& setting) {
  const auto most = static_cast<std::uint64_t>(setting.range.most);
  return "a size such as 4GiB, 650MB or fat32" +
         (setting.range.most == INT64_MAX ? "" : fmt::format(", at most {}", human_size(most)));
}

}  // namespace

std::vector<std::string> comma_list(std::string_view text) {
  std::vector<std::string> words;
  for (std::size_t at = 0; at <= text.size() && !text.empty();) {
    const std::size_t end = std::min(text.find(',', at), text.size());
    const std::string word(trim(text.substr(at, end - at)));
    if (!word.empty()) words.push_back(word);
    at = end + 1;
  }
  return words;
}

void unknown_word(const std::string& what, const std::string& word, const std::vector<std::string>& known) {
  const std::string nearest = nearest_word(word, known);
  throw Error({.fault = Fault::usage,
               .code = "unknown_word",
               .what = fmt::format("there is no {} named {}", what, printable(word)),
               .hint = nearest.empty() ? fmt::format("one of {}", fmt::join(known, ", "))
                                       : fmt::format("did you mean {}?", nearest)});
}

const Setting* find_setting(std::span<const Setting* const> list, std::string_view name) {
  const auto at = std::find_if(list.begin(), list.end(), [&](const Setting* s) { return s->name == name; });
  return at == list.end() ? nullptr : *at;
}

std::string values_of(const Setting& setting) {
  switch (setting.type) {
    case SettingType::flag:
      return "nothing";
    case SettingType::text:
      return "a text";
    case SettingType::reads:
    case SettingType::writes:
      return "a path";
    case SettingType::number:
      return range_text(setting);
    case SettingType::size:
      return size_text(setting);
    case SettingType::duration:
      return "a time such as 90s, 20min or 2h";
    case SettingType::date:
      return "a day such as 2000-01-31";
    case SettingType::choice:
    case SettingType::choices:
      break;
  }
  const std::vector<std::string> words = setting.words ? setting.words() : std::vector<std::string>{};
  if (words.empty()) return "words";
  const std::vector<std::string> before(words.begin(), words.end() - 1);
  return before.empty() ? words.back() : fmt::format("{} or {}", fmt::join(before, ", "), words.back());
}

Settings Settings::of(std::span<const Setting* const> list,
                      const std::vector<std::pair<std::string, std::string>>& values) {
  Settings settings;
  for (const auto& [name, value] : values) {
    const Setting* setting = find_setting(list, name);
    if (!setting) {
      std::vector<std::string> known;
      for (const Setting* s : list) known.emplace_back(s->name);
      unknown_word("setting", name, known);
    }
    settings.set(*setting, value);
  }
  return settings;
}

void Settings::set(const Setting& setting, std::string_view value) {
  if (!fits(setting, value)) {
    const std::string wrong = wrong_word(setting, value);
    const bool of_words = setting.type == SettingType::choice || setting.type == SettingType::choices;
    const std::string nearest = of_words ? nearest_word(wrong, setting.words()) : "";
    throw Error({.fault = Fault::usage,
                 .code = of_words ? "unknown_word" : "usage",
                 .what = fmt::format("{} takes {}, not {}", setting.name, values_of(setting), printable(wrong)),
                 .hint = nearest.empty() ? "" : fmt::format("did you mean {}?", nearest)});
  }
  given_[std::string(setting.name)] = value;
  if (setting.repeats) repeated_[std::string(setting.name)].emplace_back(value);
}

std::string Settings::text(const Setting& setting) const {
  const auto at = given_.find(setting.name);
  return at == given_.end() ? std::string(setting.preset) : at->second;
}

std::vector<std::string> Settings::list(const Setting& setting) const { return comma_list(text(setting)); }

std::vector<std::string> Settings::all(const Setting& setting) const {
  const auto at = repeated_.find(setting.name);
  return at == repeated_.end() ? std::vector<std::string>{} : at->second;
}

std::optional<std::int64_t> Settings::number(const Setting& setting) const { return whole_number(text(setting)); }

std::optional<std::uint64_t> Settings::bytes(const Setting& setting) const { return parse_size(text(setting)); }

std::optional<std::uint64_t> Settings::milliseconds(const Setting& setting) const { return duration_ms(text(setting)); }

std::optional<std::int64_t> Settings::day(const Setting& setting) const { return day_seconds(text(setting)); }

std::vector<std::string> Settings::names() const {
  std::vector<std::string> names;
  for (const auto& [name, value] : given_) names.push_back(name);
  return names;
}

Settings Settings::only(std::span<const Setting* const> list) const {
  Settings some;
  for (const auto& [name, value] : given_)
    if (find_setting(list, name)) some.given_.emplace(name, value);
  for (const auto& [name, values] : repeated_)
    if (find_setting(list, name)) some.repeated_.emplace(name, values);
  return some;
}

std::size_t Settings::index_of(const Setting& setting) const {
  const std::vector<std::string> words = setting.words();
  const auto at = std::find(words.begin(), words.end(), text(setting));
  return at == words.end() ? 0 : static_cast<std::size_t>(at - words.begin());
}

}  // namespace opifex
