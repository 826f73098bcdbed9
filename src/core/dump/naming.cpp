#include "opifex/core/dump/naming.hpp"

#include <algorithm>
#include <array>
#include <iterator>
#include <optional>

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/platforms/platforms.hpp"

namespace opifex::dump {
namespace {

/// Of a title: what nobody would miss is left out, and a file of that name is not hidden.
std::string safe(std::string_view title) {
  constexpr std::size_t kLongest = 120;
  std::string text;
  std::copy_if(title.begin(), title.end(), std::back_inserter(text),
               [](char c) { return static_cast<unsigned char>(c) >= 0x20 && c != 0x7F; });
  text.resize(std::min(text.size(), kLongest));
  while (!is_utf8(text)) text.pop_back();
  text = trim(text);
  while (!text.empty() && (text.back() == '.' || text.back() == ' ')) text.pop_back();
  if (text.empty()) return text;
  text = made_safe(text, NameRules::drive);
  return text.starts_with('.') ? "_" + text : text;
}

struct Numbered {
  std::string name;
  char disc;
};

/// KESTREL_CIRCUIT_1, KESTREL DISC2 ...: discs of one set.
std::optional<Numbered> split_number(std::string_view title) {
  constexpr std::array<std::string_view, 4> kWords = {"DISC", "DISK", "DVD", "CD"};
  if (title.size() < 3 || title.back() < '1' || title.back() > '9') return std::nullopt;
  const char disc = title.back();
  title.remove_suffix(1);
  bool parted = false;
  const auto strip = [&] {
    for (; !title.empty() && (title.back() == '_' || title.back() == ' ' || title.back() == '-'); parted = true)
      title.remove_suffix(1);
  };
  strip();
  for (const std::string_view word : kWords)
    if (title.size() > word.size() && to_upper_ascii(title.substr(title.size() - word.size())) == word) {
      const std::string_view before = title.substr(0, title.size() - word.size());
      if (before.back() != '_' && before.back() != ' ' && before.back() != '-') continue;
      title = before;
      strip();
      break;
    }
  if (!parted || title.empty()) return std::nullopt;
  return Numbered{std::string(title), disc};
}

}  // namespace

DumpName name_of(const Medium& medium) {
  const Identity& id = medium.identity;
  std::string title = safe(id.title);
  if (title.empty()) title = safe(id.serial);
  if (title.empty()) {
    const bool music = is_kind(id.platform, PlatformKind::music);
    return {fmt::format("{} {}", music ? "Audio CD" : "Disc", medium.fingerprint.substr(0, 8)), ""};
  }
  const auto numbered = split_number(title);
  if (!numbered) return {title, ""};
  return {fmt::format("{} (Disc {})", numbered->name, numbered->disc), numbered->name};
}

}  // namespace opifex::dump
