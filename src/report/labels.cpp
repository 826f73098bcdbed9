// The names that keys of results have where people read them.
#include <array>

#include "opifex/core/base/text.hpp"

#include "page.hpp"

namespace opifex::report {
namespace {

struct Label {
  std::string_view key, label;
};
constexpr std::array kLabels = {
    Label{"of", "Of"},
    Label{"path", "Path"},
    Label{"lba", "LBA"},
    Label{"msf", "Time"},
    Label{"start_lba", "Start (LBA)"},
    Label{"start_msf", "Start"},
    Label{"lead_out_lba", "Lead-out (LBA)"},
    Label{"first_lba", "First (LBA)"},
    Label{"length_sectors", "Sectors"},
    Label{"pregap_sectors", "Pregap (sectors)"},
    Label{"isrc", "ISRC"},
    Label{"crc32", "CRC-32"},
    Label{"md5", "MD5"},
    Label{"sha1", "SHA-1"},
    Label{"sha256", "SHA-256"},
    Label{"id", "Number"},
    Label{"title_id", "Title id"},
    Label{"csv", "CSV"},
    Label{"what", "What failed"},
    Label{"try", "What to do"},
    Label{"exit", "Exit code"},
    Label{"seconds", "Time (seconds)"},
    Label{"code", "Kind"},
    Label{"bits", "Bits a byte"},
    Label{"plain_title", "Title"},
};
constexpr std::array kHeadings = {
    Label{"results", "Results"},
    Label{"errors", "What could not be done"},
    Label{"tracks-ranges", "Damaged ranges"},
    Label{"items", "Items"},
    Label{"entries", "Files"},
    Label{"parts", "Parts"},
    Label{"also", "What fits, too"},
    Label{"losses", "What is lost"},
    Label{"outputs", "Files written"},
};
constexpr std::array kTitles = {
    Label{"identify", "What is it?"},
    Label{"check", "Is it intact?"},
    Label{"dump", "What was dumped"},
    Label{"rescue", "What was rescued"},
    Label{"convert", "What was converted"},
    Label{"merge", "What was merged"},
    Label{"split", "What was split"},
    Label{"extract", "Files taken out"},
    Label{"files", "Files inside"},
    Label{"lists", "Known lists"},
    Label{"shelf", "The shelf"},
};

template <std::size_t n>
std::string find_label(const std::array<Label, n>& labels, std::string_view key) {
  for (const Label& l : labels)
    if (l.key == key) return std::string(l.label);
  return {};
}

std::string in_words(std::string_view key) {
  std::string words(key);
  for (char& c : words)
    if (c == '_' || c == '-' || c == '.') c = ' ';
  if (!words.empty() && words[0] >= 'a' && words[0] <= 'z') words[0] = static_cast<char>(words[0] - 'a' + 'A');
  return words;
}

}  // namespace

std::string label_of(std::string_view key) {
  if (std::string known = find_label(kLabels, key); !known.empty()) return known;
  if (const std::size_t dot = key.rfind('.'); dot != std::string_view::npos) {
    const std::string last = label_of(key.substr(dot + 1));
    const std::string_view group = key.substr(0, dot);
    return group == "hashes" || group == "facts" ? last : label_of(group) + ": " + last;
  }
  constexpr std::string_view kBytes = "_bytes";
  if (key.ends_with(kBytes)) return in_words(key.substr(0, key.size() - kBytes.size())) + " (bytes)";
  return in_words(key);
}

std::string heading_of(std::string_view table) {
  std::string known = find_label(kHeadings, table);
  return known.empty() ? in_words(table) : known;
}

std::string title_of(std::string_view command) {
  std::string known = find_label(kTitles, command);
  return known.empty() ? in_words(command) : known;
}

}  // namespace opifex::report
