#include "opifex/core/base/file_names.hpp"

#include <algorithm>
#include <array>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

constexpr std::string_view kSeparators = "/\\", kReservedOnDrives = "<>:\"|?*", kReservedOnFatx = "<>:\"|?*+,;=";

bool is_control(char c) { return static_cast<unsigned char>(c) < 0x20 || c == 0x7F; }
bool is_one_of(std::string_view characters, char c) { return characters.find(c) != std::string_view::npos; }

}  // namespace

bool is_safe_name(std::string_view name) {
  if (name.empty() || name == "." || name == ".." || !is_utf8(name)) return false;
  return std::none_of(name.begin(), name.end(), [](char c) { return is_one_of(kSeparators, c) || is_control(c); });
}

std::string name_fault(std::string_view name) {
  for (char c : name) {
    if (is_one_of(kReservedOnDrives, c) || is_one_of(kSeparators, c)) return fmt::format("the character {}", c);
    if (is_control(c)) return "a control character";
  }
  if (name.empty()) return "an empty name";
  if (name.ends_with(' ') || name.ends_with('.')) return "a blank or dot at its end";
  if (!is_utf8(name)) return "bytes that are no UTF-8";
  if (utf16_units(name) > kLongestName) return fmt::format("{} characters", utf16_units(name));
  std::string base = to_upper_ascii(name.substr(0, name.find('.')));
  constexpr std::array<std::string_view, 4> kReserved = {"CON", "PRN", "AUX", "NUL"};
  const bool numbered =
      base.size() == 4 && (base.starts_with("COM") || base.starts_with("LPT")) && base[3] >= '1' && base[3] <= '9';
  if (numbered || std::find(kReserved.begin(), kReserved.end(), base) != kReserved.end())
    return fmt::format("the reserved name {}", base);
  return {};
}

std::string made_safe(std::string_view name, NameRules rules) {
  std::string out(is_utf8(name) ? std::string(name) : std::string(name.size(), '_'));
  for (char& c : out) {
    const bool reserved =
        (rules == NameRules::drive && is_one_of(kReservedOnDrives, c)) ||
        (rules == NameRules::fatx && (is_one_of(kReservedOnFatx, c) || static_cast<unsigned char>(c) > 0x7F));
    if (reserved || is_control(c) || is_one_of(kSeparators, c)) c = '_';
  }
  if (out.empty() || out == "." || out == "..") out = std::string(std::max<std::size_t>(1, out.size()), '_');
  if (rules != NameRules::host && (out.ends_with('.') || out.ends_with(' '))) out.back() = '_';
  return out;
}

std::string escaped_name(std::string_view latin1, bool (*plain)(unsigned char)) {
  constexpr std::string_view kNever = "%/\\:*?\"<>|";
  const std::string stem = to_upper_ascii(latin1.substr(0, latin1.find('.')));
  const bool numbered =
      stem.size() == 4 && (stem.starts_with("COM") || stem.starts_with("LPT")) && stem[3] >= '1' && stem[3] <= '9';
  const bool device = stem == "CON" || stem == "PRN" || stem == "AUX" || stem == "NUL" || numbered;
  std::string name;
  for (std::size_t i = 0; i < latin1.size(); ++i) {
    const auto c = static_cast<unsigned char>(latin1[i]);
    const bool last = i + 1 == latin1.size() && (c == '.' || c == ' ');
    if (c < 0x20 || c == 0x7F || kNever.find(static_cast<char>(c)) != std::string_view::npos || last || !plain(c) ||
        (device && i == 0))
      name += fmt::format("%{:02X}", c);
    else if (c < 0x80)
      name += static_cast<char>(c);
    else
      name += {static_cast<char>(0xC0 | c >> 6), static_cast<char>(0x80 | (c & 0x3F))};
  }
  return name.empty() ? "%" : name;
}

std::string shortened(const std::string& name, std::size_t most_units, std::size_t most_bytes) {
  constexpr std::size_t kLongestExtension = 16;
  if (name.size() <= most_bytes && utf16_units(name) <= most_units) return name;
  const std::size_t dot = name.rfind('.');
  const bool has_extension = dot != std::string::npos && dot > 0 && name.size() - dot <= kLongestExtension;
  const std::string extension = has_extension ? name.substr(dot) : "";
  std::string stem = has_extension ? name.substr(0, dot) : name;
  while (!stem.empty() &&
         (stem.size() + extension.size() > most_bytes || utf16_units(stem) + utf16_units(extension) > most_units)) {
    do stem.pop_back();
    while (!stem.empty() && !is_utf8(stem));
  }
  return stem + extension;
}

std::string member_path_fault(std::string_view name) {
  constexpr std::size_t kLongestPath = 4096;
  if (name.empty()) return "it has no name";
  if (name.size() > kLongestPath) return "its name is too long";
  if (name.starts_with('/') || (name.size() > 1 && name[1] == ':')) return "its name begins at the root of a drive";
  for (std::size_t at = 0; at <= name.size();) {
    const std::size_t end = std::min(name.find_first_of("/\\", at), name.size());
    if (name.substr(at, end - at) == "..") return "its name leads out of the folder";
    at = end + 1;
  }
  const bool odd = std::any_of(name.begin(), name.end(), [](char c) { return static_cast<unsigned char>(c) < 0x20; });
  return odd ? "its name has control characters" : "";
}

}  // namespace opifex
