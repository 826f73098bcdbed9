#include <algorithm>

#include "opifex/core/lists/match.hpp"

namespace opifex {
namespace {

/// The hashes of a view as the tables have them.
struct Hashes {
  unsigned has = 0;
  std::uint32_t crc = 0;
  std::array<std::byte, 16> md5{};
  std::array<std::byte, 20> sha1{};
  Sha256 sha256{};

  explicit Hashes(const ListedView& view) {
    for (const NamedHash& h : view.hashes) {
      std::array<std::byte, 4> crc_bytes{};
      if (h.name == "crc32" && take(h.value, crc_bytes)) crc = load_be32(crc_bytes, 0), has |= bit(ListHash::crc32);
      if (h.name == "md5" && take(h.value, md5)) has |= bit(ListHash::md5);
      if (h.name == "sha1" && take(h.value, sha1)) has |= bit(ListHash::sha1);
      if (h.name == "sha256" && take(h.value, sha256)) has |= bit(ListHash::sha256);
    }
  }

 private:
  static bool take(std::string_view digits, std::span<std::byte> out) {
    if (digits.size() != out.size() * 2) return false;
    const auto value = [](char c) { return c <= '9' ? c - '0' : c - 'a' + 10; };
    for (std::size_t i = 0; i < out.size(); ++i)
      out[i] = static_cast<std::byte>(value(digits[2 * i]) << 4 | value(digits[2 * i + 1]));
    return true;
  }
};

bool fits(const KnownList& list, const ListedEntry& e, const Hashes& h, const ListedView& view) {
  if (e.kind != view.kind || (e.size_bytes != kUnknownSize && e.size_bytes != view.size_bytes)) return false;
  if ((e.hashes & ~h.has) != 0) return false;  // one that was not taken cannot be equal
  const auto equal = [&](ListHash which, bool same) { return (e.hashes & bit(which)) == 0 || same; };
  return equal(ListHash::crc32, e.crc == h.crc) && equal(ListHash::md5, e.md5 == h.md5) &&
         equal(ListHash::sha1, e.sha1 == h.sha1) &&
         ((e.hashes & bit(ListHash::sha256)) == 0 || list.sha256s[e.sha256] == h.sha256);
}

}  // namespace

std::vector<std::uint32_t> entries_of_content(const KnownList& list, const ListedView& view) {
  std::vector<std::uint32_t> found;
  const Hashes h(view);
  const auto search = [&](ListHash which, const auto& key, const auto& key_of) {
    if ((h.has & bit(which)) == 0) return;
    const auto index = list.by_hash[static_cast<std::size_t>(which)];
    auto at = std::lower_bound(index.begin(), index.end(), key, [&](std::uint32_t entry, const auto& wanted) {
      return key_of(list.entries[entry]) < wanted;
    });
    for (; at != index.end() && key_of(list.entries[*at]) == key; ++at)
      if (fits(list, list.entries[*at], h, view)) found.push_back(*at);
  };
  search(ListHash::crc32, h.crc, [](const ListedEntry& e) { return e.crc; });
  search(ListHash::md5, h.md5, [](const ListedEntry& e) { return e.md5; });
  search(ListHash::sha1, h.sha1, [](const ListedEntry& e) { return e.sha1; });
  search(ListHash::sha256, h.sha256, [&](const ListedEntry& e) { return list.sha256s[e.sha256]; });
  std::sort(found.begin(), found.end());
  return found;
}

}  // namespace opifex
