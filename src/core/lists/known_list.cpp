#include "opifex/core/lists/known_list.hpp"

#include <algorithm>

#include "opifex/core/lists/read_list.hpp"

namespace opifex {

std::string_view to_string(ListKind kind) {
  constexpr std::array<std::string_view, 8> kWords{"xml", "text", "sfv", "md5", "sha1", "sha256", "bsd", "mixed"};
  return kWords[static_cast<std::size_t>(kind)];
}

std::string_view to_string(ListedKind kind) { return kind == ListedKind::rom ? "rom" : "disk"; }

std::string_view to_string(ListedStatus status) {
  constexpr std::array<std::string_view, 4> kWords{"good", "verified", "baddump", "nodump"};
  return kWords[static_cast<std::size_t>(status)];
}

std::string_view to_string(ListHash hash) {
  constexpr std::array<std::string_view, 4> kWords{"crc32", "md5", "sha1", "sha256"};
  return kWords[static_cast<std::size_t>(hash)];
}

std::string_view to_string(SetField field) {
  constexpr std::array<std::string_view, kSetFields> kWords{
      "name", "description", "year", "manufacturer", "category", "serial", "cloneof", "romof", "id"};
  return kWords[static_cast<std::size_t>(field)];
}

std::string KnownList::hash(const ListedEntry& entry, ListHash which) const {
  if ((entry.hashes & bit(which)) == 0) return {};
  switch (which) {
    case ListHash::crc32:
      return fmt::format("{:08x}", entry.crc);
    case ListHash::md5:
      return hex(entry.md5);
    case ListHash::sha1:
      return hex(entry.sha1);
    case ListHash::sha256:
      return hex(sha256s[entry.sha256]);
  }
  return {};
}

std::string_view KnownList::header_text(std::string_view key) const {
  for (const auto& [name, value] : header)
    if (name == key) return value;
  return {};
}

std::string_view listed_base(std::string_view name) {
  const std::size_t at = name.find_last_of("/\\");
  return at == std::string_view::npos ? name : name.substr(at + 1);
}

std::uint64_t name_key(std::string_view base) {
  std::uint64_t h = 0xcbf29ce484222325;  // FNV-1a
  for (const char c : base) {
    const bool upper = c >= 'A' && c <= 'Z';
    h = (h ^ static_cast<unsigned char>(upper ? c + 32 : c)) * 0x100000001b3;
  }
  return h;
}

bool is_unsafe_name(std::string_view name) {
  if (name.empty() || name.size() > ListLimits::kName) return true;
  const bool letter = (name[0] >= 'A' && name[0] <= 'Z') || (name[0] >= 'a' && name[0] <= 'z');
  if (letter && name.size() > 1 && name[1] == ':') return true;
  std::size_t part = 0;  // where it begins
  for (std::size_t i = 0; i <= name.size(); ++i) {
    const char c = i < name.size() ? name[i] : '/';
    if (static_cast<unsigned char>(c) < 0x20 || c == '\x7F') return true;
    if (c != '/' && c != '\\') continue;
    const std::string_view text = name.substr(part, i - part);
    if (text.empty() || text == "." || text == "..") return true;
    part = i + 1;
  }
  return false;
}

}  // namespace opifex
