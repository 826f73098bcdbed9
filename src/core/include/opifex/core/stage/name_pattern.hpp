/// Names by a pattern: "{title}[ ({region})][ (Disc {disc})]".
#pragma once

#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace opifex {

/// Fields stand in braces. What stands in brackets is left out if a field in it is empty; "[[", "{{" and their kin are
/// the characters themselves.
class NamePattern {
 public:
  /// Error (usage, "bad_pattern"; "unknown_word" with the nearest right field).
  NamePattern(std::string_view text, const std::vector<std::string>& fields);

  /// Nothing if a field outside of brackets is empty; `missing` is its name then.
  std::optional<std::string> fill(const std::map<std::string, std::string>& values, std::string& missing) const;

 private:
  struct Piece {
    std::string text = {}, field = {};
    int group = 0;  // of the brackets it stands in; 0: in none
  };
  std::vector<Piece> pieces_;
};

}  // namespace opifex
