#include "opifex/core/lists/write_list.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

constexpr std::string_view kReplacement = "\xEF\xBF\xBD";

/// Bytes of the character at the start; 0: it is none.
std::size_t character(std::string_view s) {
  for (std::size_t n = 1; n <= 4 && n <= s.size(); ++n)
    if (is_utf8(s.substr(0, n))) return n;
  return 0;
}

/// XML 1.0, 2.2: no control character but tab and line ends, and neither U+FFFE nor U+FFFF.
bool is_xml(std::string_view c) {
  if (c.size() == 1) return static_cast<unsigned char>(c[0]) >= 0x20;
  return c != "\xEF\xBF\xBE" && c != "\xEF\xBF\xBF";
}

std::string escaped(std::string_view text) {
  std::string out;
  while (!text.empty()) {
    const std::size_t n = character(text);
    const std::string_view c = text.substr(0, std::max<std::size_t>(1, n));
    text.remove_prefix(c.size());
    if (c == "&")
      out += "&amp;";
    else if (c == "<")
      out += "&lt;";
    else if (c == ">")
      out += "&gt;";
    else if (c == "\"")
      out += "&quot;";
    else if (c == "\t" || c == "\n" || c == "\r")
      out += fmt::format("&#{};", static_cast<int>(c[0]));  // in an attribute they would be read as blanks
    else
      out += n == 0 || !is_xml(c) ? kReplacement : c;
  }
  return out;
}

std::string entry_text(const MadeEntry& entry) {
  std::string out = fmt::format("\t\t<rom name=\"{}\" size=\"{}\"", escaped(entry.name), entry.size_bytes);
  for (const auto& [digest, attribute] :
       {std::pair{"crc32", "crc"}, std::pair{"md5", "md5"}, std::pair{"sha1", "sha1"}, std::pair{"sha256", "sha256"}})
    for (const NamedHash& hash : entry.hashes)
      if (hash.name == digest) out += fmt::format(" {}=\"{}\"", attribute, hash.value);
  return out + "/>\n";
}

}  // namespace

std::string list_text(const std::string& name, std::vector<MadeSet> sets) {
  std::string body;
  for (MadeSet& set : sets)
    if (set.name.empty()) set.name = "unnamed";
  // Sets of one name by what is in them: their order must not be that in which they were found.
  std::vector<std::pair<std::string, std::string>> texts;
  for (const MadeSet& set : sets) {
    std::string text = fmt::format("\t<game name=\"{0}\">\n\t\t<description>{0}</description>\n", escaped(set.name));
    for (const MadeEntry& entry : set.entries) text += entry_text(entry);
    texts.emplace_back(set.name, text + "\t</game>\n");
  }
  std::sort(texts.begin(), texts.end());
  for (const auto& [set, text] : texts) body += text;
  constexpr std::size_t kVersionDigits = 8;
  const std::string version = digest_of("sha1", as_view(body)).substr(0, kVersionDigits);
  return fmt::format(
      "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"
      "<!DOCTYPE datafile PUBLIC \"-//Logiqx//DTD ROM Management Datafile//EN\" "
      "\"http://www.logiqx.com/Dats/datafile.dtd\">\n"
      "<datafile>\n\t<header>\n\t\t<name>{0}</name>\n\t\t<description>{0}</description>\n"
      "\t\t<version>{1}</version>\n\t</header>\n{2}</datafile>\n",
      escaped(name), version, body);
}

}  // namespace opifex
