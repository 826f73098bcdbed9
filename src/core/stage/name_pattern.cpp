#include "opifex/core/stage/name_pattern.hpp"

#include <algorithm>
#include <set>

#include "opifex/core/base/error.hpp"
#include "opifex/core/image/settings.hpp"

namespace opifex {

namespace {

[[noreturn]] void bad_pattern(std::string_view text, std::string what) {
  throw Error({.fault = Fault::usage,
               .code = "bad_pattern",
               .what = std::move(what),
               .found = std::string(text),
               .expected = "a pattern such as {title}[ ({region})]",
               .hint = "write [[ or {{ for the characters themselves"});
}

}  // namespace

NamePattern::NamePattern(std::string_view text, const std::vector<std::string>& fields) {
  int groups = 0, group = 0;
  for (std::size_t at = 0; at < text.size(); ++at) {
    const char c = text[at];
    const bool twice = at + 1 < text.size() && text[at + 1] == c;
    if (std::string_view("[]{}").find(c) != std::string_view::npos && twice) {
      pieces_.push_back({.text = std::string(1, c), .group = group});
      ++at;
    } else if (c == '[') {
      if (group != 0) bad_pattern(text, "brackets stand in brackets");
      group = ++groups;
    } else if (c == ']') {
      if (group == 0) bad_pattern(text, "a bracket is closed that none has opened");
      group = 0;
    } else if (c == '{') {
      const std::size_t end = text.find('}', at);
      if (end == std::string_view::npos) bad_pattern(text, "a brace is not closed");
      std::string field(text.substr(at + 1, end - at - 1));
      if (std::find(fields.begin(), fields.end(), field) == fields.end()) unknown_word("field of names", field, fields);
      pieces_.push_back({.field = std::move(field), .group = group});
      at = end;
    } else if (c == '}') {
      bad_pattern(text, "a brace is closed that none has opened");
    } else {
      pieces_.push_back({.text = std::string(1, c), .group = group});
    }
  }
  if (group != 0) bad_pattern(text, "a bracket is not closed");
  if (pieces_.empty()) bad_pattern(text, "the pattern is empty");
}

std::optional<std::string> NamePattern::fill(const std::map<std::string, std::string>& values,
                                             std::string& missing) const {
  const auto value_of = [&](const Piece& piece) {
    const auto at = values.find(piece.field);
    return at == values.end() ? std::string() : at->second;
  };
  std::set<int> left_out;
  for (const Piece& piece : pieces_)
    if (piece.group != 0 && !piece.field.empty() && value_of(piece).empty()) left_out.insert(piece.group);
  std::string name;
  for (const Piece& piece : pieces_) {
    if (left_out.contains(piece.group)) continue;
    if (piece.field.empty()) {
      name += piece.text;
      continue;
    }
    const std::string value = value_of(piece);
    if (value.empty()) {
      missing = piece.field;
      return std::nullopt;
    }
    name += value;
  }
  return name;
}

}  // namespace opifex
