#include "identifiers.hpp"

#include <algorithm>
#include <set>

namespace opifex {
namespace {

/// UTF-8 to code points; what is beyond FFFF becomes FFFF's stand-in, which no rule allows.
std::u16string units_of(std::string_view text) {
  std::u16string out;
  for (std::size_t i = 0; i < text.size();) {
    const auto c = static_cast<unsigned char>(text[i]);
    const std::size_t n = c < 0x80 ? 1 : c < 0xE0 ? 2 : c < 0xF0 ? 3 : 4;
    char32_t v = n == 1 ? c : c & (0xFFu >> (n + 1));
    for (std::size_t k = 1; k < n && i + k < text.size(); ++k)
      v = v << 6 | (static_cast<unsigned char>(text[i + k]) & 0x3Fu);
    out += v > 0xFFFE ? u'\0' : static_cast<char16_t>(v);
    i += n;
  }
  return out;
}

struct Limits {
  std::size_t name, extension, together, folder;
};

char16_t map_character(char16_t c, NameRule rule) {
  const bool printable = c >= 0x20 && c < 0x7F;
  switch (rule) {
    case NameRule::level1:
    case NameRule::level2:
      if (c >= u'a' && c <= u'z') return static_cast<char16_t>(c - u'a' + u'A');
      return (c >= u'A' && c <= u'Z') || (c >= u'0' && c <= u'9') ? c : u'_';
    case NameRule::relaxed:
      return printable && std::u16string_view(u"/\\:*?\"<>|;").find(c) == std::u16string_view::npos ? c : u'_';
    case NameRule::joliet:
      return c >= 0x20 && std::u16string_view(u"*/:;?\\").find(c) == std::u16string_view::npos ? c : u'_';
  }
  return u'_';
}

/// How long the name may be beside its extension, after cutting the extension if both are too long.
std::size_t cut(IsoIdentifier& id, NameRule rule) {
  constexpr std::size_t kLevel1Name = 8, kLevel1Extension = 3, kLevel2 = 30, kLevel2Folder = 31, kLevel2Extension = 10,
                        kRelaxed = 192, kRelaxedExtension = 64, kJoliet = 64, kJolietExtension = 16;
  std::size_t room = 0;
  const std::size_t dot = id.dotted ? 1 : 0;
  if (rule == NameRule::level1) {
    id.extension = id.extension.substr(0, kLevel1Extension);
    room = kLevel1Name;
  } else if (rule == NameRule::level2) {
    if (id.name.size() + id.extension.size() > kLevel2) id.extension = id.extension.substr(0, kLevel2Extension);
    room = id.folder ? kLevel2Folder : kLevel2 - id.extension.size();
  } else {
    const std::size_t most = rule == NameRule::relaxed ? kRelaxed : kJoliet;
    if (id.name.size() + dot + id.extension.size() > most)
      id.extension = id.extension.substr(0, rule == NameRule::relaxed ? kRelaxedExtension : kJolietExtension);
    room = most - dot - id.extension.size();
  }
  id.name = id.name.substr(0, room);
  return room;
}

struct Mapped {
  IsoIdentifier id;
  std::size_t room = 0;
  bool unchanged = false;
};

std::u16string whole(const IsoIdentifier& id) { return id.dotted ? id.name + u'.' + id.extension : id.name; }

Mapped map_one(const HostName& host, NameRule rule) {
  const std::u16string original = units_of(host.name);
  Mapped m;
  m.id.folder = host.folder;
  const std::size_t dot = original.rfind(u'.');
  m.id.dotted = !host.folder && dot != std::u16string::npos && dot != 0;
  m.id.name = m.id.dotted ? original.substr(0, dot) : original;
  if (m.id.dotted) m.id.extension = original.substr(dot + 1);
  for (std::u16string* part : {&m.id.name, &m.id.extension})
    for (char16_t& c : *part) c = map_character(c, rule);
  m.room = cut(m.id, rule);
  m.unchanged = whole(m.id) == original;
  return m;
}

}  // namespace

std::optional<std::vector<IsoIdentifier>> map_names(const std::vector<HostName>& names, NameRule rule) {
  constexpr int kMostAlike = 1000;
  constexpr std::size_t kDigits = 3;
  std::vector<Mapped> mapped;
  for (const HostName& n : names) mapped.push_back(map_one(n, rule));
  std::set<std::u16string> taken;
  // A file without extension and one with an empty one are the same on the disc.
  const auto key = [](const IsoIdentifier& id) { return id.name + u'.' + id.extension; };
  for (const bool unchanged : {true, false})
    for (Mapped& m : mapped) {
      if (m.unchanged != unchanged) continue;
      IsoIdentifier id = m.id;
      for (int n = 0; !taken.insert(key(id)).second; ++n) {
        if (n == kMostAlike) return std::nullopt;
        const std::string digits = fmt::format("{:03}", n);
        id.name = m.id.name.substr(0, m.room - kDigits) + std::u16string(digits.begin(), digits.end());
      }
      m.id = id;
    }
  std::vector<IsoIdentifier> result;
  for (Mapped& m : mapped) result.push_back(std::move(m.id));
  return result;
}

Bytes IsoIdentifier::bytes(bool joliet) const {
  std::u16string text = name;
  if (!folder) {
    if (dotted || !joliet) text += u'.';
    text += extension;
    text += u";1";
  }
  Bytes out;
  for (const char16_t c : text) {
    if (joliet) out.push_back(static_cast<std::byte>(c >> 8));
    out.push_back(static_cast<std::byte>(c & 255));
  }
  return out;
}

std::string IsoIdentifier::name_text() const {
  std::string out;
  for (const char16_t c : name) out += static_cast<char>(c);
  return out;
}

bool comes_before(const IsoIdentifier& a, const IsoIdentifier& b) {
  const auto compare = [](std::u16string x, std::u16string y) {
    const std::size_t n = std::max(x.size(), y.size());
    x.resize(n, u' ');
    y.resize(n, u' ');
    return x.compare(y);
  };
  const int names = compare(a.name, b.name);
  return names != 0 ? names < 0 : compare(a.extension, b.extension) < 0;
}

Bytes padded_field(const std::string& text, std::size_t size) {
  std::string field = text.substr(0, size);
  field.resize(size, ' ');
  return to_bytes(field);
}

Bytes ucs2_field(const std::string& text, std::size_t size) {
  std::u16string units = units_of(text).substr(0, size / 2);
  units.resize(size / 2, u' ');
  Bytes out;
  for (const char16_t c : units) {
    out.push_back(static_cast<std::byte>(c >> 8));
    out.push_back(static_cast<std::byte>(c & 255));
  }
  out.resize(size);
  return out;
}

}  // namespace opifex
