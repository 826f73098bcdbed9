#include <algorithm>

#include "opifex/core/base/text.hpp"

#include "reader.hpp"

namespace opifex::cue {
namespace {

std::string decoded_sheet(std::string_view bytes, const Sheet& sheet) {
  if (bytes.starts_with("\xFF\xFE")) return decode(bytes.substr(2), "UTF-16LE").value_or("");
  if (bytes.starts_with("\xFE\xFF")) return decode(bytes.substr(2), "UTF-16BE").value_or("");
  if (bytes.starts_with("\xEF\xBB\xBF")) return std::string(bytes.substr(3));
  if (sheet.encoding == "cp1252") return decode(bytes, "windows-1252").value_or(std::string(bytes));
  if (sheet.encoding == "cp932") return decode(bytes, "windows-31j").value_or(std::string(bytes));
  return std::string(bytes);
}

/// The sheet's text with `names`, in the order of its files, in its FILE lines; every other line stays. UTF-8.
std::string with_new_names(std::string_view bytes, const Sheet& sheet, const std::vector<std::string>& names) {
  const std::string text = decoded_sheet(bytes, sheet);
  std::string out;
  std::size_t file = 0;  // of the FILE line met last, from 1
  std::uint32_t number = 0;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find_first_of("\r\n", at), text.size());
    const std::size_t next = std::min(end + (text.compare(end, 2, "\r\n") == 0 ? 2 : 1), text.size());
    const std::string_view line = std::string_view(text).substr(at, end - at);
    const auto words = split_words(line);
    ++number;
    if (!words.empty() && to_upper_ascii(words[0]) == "FILE") {
      if (file < names.size() && sheet.files[file].line == number) ++file;  // else the same file, named again
      out += fmt::format("{}{} \"{}\" {}", line.substr(0, line.find_first_not_of(" \t")), words[0], names[file - 1],
                         to_string(sheet.files[file - 1].type));
    } else {
      out += line;
    }
    out += text.substr(end, next - end);
    at = next;
  }
  return out;
}

}  // namespace

SheetText read_sheet_text(const std::filesystem::path& path) {
  const Bytes bytes = read_up_to(*open_file(path), 0, kMaxSheetBytes);
  const std::string text(as_text(bytes));
  Sheet sheet;
  std::vector<FoundFile> found;
  for (const std::string& encoding : candidate_encodings(text, path.string())) {
    sheet = parse(text, encoding, path.string());
    found = find_files(sheet, path);
    if (std::all_of(found.begin(), found.end(), [](const auto& f) { return f.path.has_value(); })) break;
  }
  SheetText result;
  for (std::size_t i = 0; i < found.size(); ++i)
    result.files.push_back({found[i].path, sheet.files[i].line, sheet.files[i].name, found[i].hint});
  result.with_names = [text, sheet](const std::vector<std::string>& names) {
    return with_new_names(text, sheet, names);
  };
  return result;
}

}  // namespace opifex::cue
