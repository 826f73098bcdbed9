#include "opifex/core/platforms/title_list.hpp"

#include <algorithm>
#include <optional>
#include <vector>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/byte_source.hpp"

namespace opifex {
namespace {

std::string key_of(std::string_view id) {
  std::string key;
  for (const char c : to_upper_ascii(id))
    if ((c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9')) key += c;
  return key;
}

/// The fields of the record at `at`, which moves behind it; nothing if a quote is never closed.
std::optional<std::vector<std::string>> next_record(std::string_view text, std::size_t& at) {
  std::vector<std::string> fields(1);
  bool quoted = false;
  for (; at < text.size(); ++at) {
    const char c = text[at];
    if (quoted) {
      const bool doubled = c == '"' && at + 1 < text.size() && text[at + 1] == '"';
      if (c == '"' && !doubled)
        quoted = false;
      else
        fields.back() += c;
      at += doubled ? 1 : 0;
    } else if (c == '"' && trim(fields.back()).empty()) {
      quoted = true;
      fields.back().clear();
    } else if (c == ',') {
      fields.emplace_back();
    } else if (c == '\n') {
      ++at;
      break;
    } else if (c != '\r') {
      fields.back() += c;
    }
  }
  if (quoted) return std::nullopt;
  return fields;
}

}  // namespace

TitleList TitleList::read(const std::filesystem::path& file) {
  constexpr std::size_t kMost = 64 << 20;
  const SourcePtr source = open_file(file);
  const Bytes bytes = read_up_to(*source, 0, kMost);
  std::string_view text = as_text(bytes);
  if (text.starts_with("\xEF\xBB\xBF")) text.remove_prefix(3);
  TitleList list;
  std::uint32_t line = 1;
  const auto fail = [&](const char* what, std::string found) {
    throw Error({.fault = Fault::usage,
                 .code = "bad_titles",
                 .what = what,
                 .file = file.string(),
                 .line = line,
                 .found = std::move(found),
                 .expected = "id,title"});
  };
  if (!is_utf8(text) || source->size() > kMost) fail("the list of titles is no UTF-8 text", "other bytes");
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t start = at;
    const auto fields = next_record(text, at);
    if (!fields) fail("a quoted title is never closed", "the end of the file");
    const std::string id = std::string(trim(fields->front()));
    const bool heading = line == 1 && fold_case(id) == "id";
    if (!id.empty() && !id.starts_with('#') && !heading) {
      if (fields->size() < 2 || key_of(id).empty()) fail("a line of the list has no id and title", printable(id));
      list.titles_.emplace(key_of(id), std::string(trim((*fields)[1])));
    }
    line += static_cast<std::uint32_t>(std::count(text.begin() + static_cast<std::ptrdiff_t>(start),
                                                  text.begin() + static_cast<std::ptrdiff_t>(at), '\n'));
  }
  return list;
}

std::string TitleList::find(std::string_view id) const {
  const auto at = titles_.find(key_of(id));
  return at == titles_.end() || id.empty() ? std::string{} : at->second;
}

void TitleList::apply(Identity& id) const {
  const bool own = !id.title.empty() && id.title != id.volume;
  if (const std::string title = find(id.serial); !own && !title.empty()) id.title = title;
}

}  // namespace opifex
