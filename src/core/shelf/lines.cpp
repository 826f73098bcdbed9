// A shelf as text: one JSON object a line, the first of which says what it is (docs/shelf.md).
#include "lines.hpp"

#include <fmt/ranges.h>

#include "opifex/core/base/error.hpp"
#include "opifex/core/shelf/shelf.hpp"

#include "../base/json_names.hpp"
#include "database.hpp"
#include "item_rows.hpp"

namespace opifex {

namespace {

using nlohmann::json;
using Ordered = nlohmann::ordered_json;

constexpr int kLinesVersion = 1;
constexpr std::size_t kLongestLine = 32 << 20;
constexpr std::size_t kMostParts = 200'000;  // files or contents of one item

/// Members of a structure with their names, for both ways.
template <typename Item, typename Do>
void each_text(Item& i, const Do& take) {
  take("host", i.host);
  take("kind", i.kind);
  take("format", i.format);
  take("archive", i.archive);
  take("platform", i.platform);
  take("title", i.title);
  take("serial", i.serial);
  take("region", i.region);
  take("set", i.set);
  take("verdict", i.verdict);
  take("remark", i.remark);
  take("state", i.state);
  take("content_key", i.content_key);
  take("game_key", i.game_key);
  take("known", i.known);
  take("known_list", i.known_list);
  take("known_set", i.known_set);
}
template <typename Item, typename Do>
void each_flag(Item& i, const Do& take) {
  take("complete", i.complete);
  take("compressed", i.compressed);
  take("rotten", i.rotten);
}
template <typename Item, typename Do>
void each_size(Item& i, const Do& take) {
  take("stored_bytes", i.stored_bytes);
  take("content_bytes", i.content_bytes);
}
template <typename Item, typename Do>
void each_time(Item& i, const Do& take) {
  take("added_at", i.added_at);
  take("checked_at", i.checked_at);
  take("gone_at", i.gone_at);
}

const char* const kKinds[] = {"file", "view", "piece"};

Ordered line_of(const ShelfItem& item) {
  Ordered line;
  line["path"] = name_json(item.path);
  if (!item.inside.empty()) line["inside"] = name_json(item.inside);
  each_text(item, [&](const char* name, const std::string& text) {
    if (!text.empty()) line[name] = name_json(text);
  });
  if (item.disc != 0) line["disc"] = item.disc;
  if (item.discs != 0) line["discs"] = item.discs;
  each_flag(item, [&](const char* name, bool flag) { line[name] = flag; });
  each_size(item, [&](const char* name, std::uint64_t size) { line[name] = size; });
  each_time(item, [&](const char* name, std::int64_t time) {
    if (time != 0) line[name] = time;
  });
  line["files"] = Ordered::array();
  for (const ShelfFile& f : item.files)
    line["files"].push_back({{"path", name_json(f.path)},
                             {"size_bytes", f.size_bytes},
                             {"modified_ns", f.modified_ns},
                             {"inode", f.inode},
                             {"device", f.device}});
  line["contents"] = Ordered::array();
  for (const ShelfContent& c : item.contents) {
    Ordered content{{"kind", kKinds[static_cast<int>(c.kind)]}};
    if (!c.path.empty()) content["path"] = name_json(c.path);
    if (!c.through.empty()) content["through"] = c.through;
    if (!c.of.empty()) content["of"] = c.of;
    if (c.disk) content["disk"] = true;
    if (c.merged) content["merged"] = true;
    if (c.sheet) content["sheet"] = true;
    content["size_bytes"] = c.size_bytes;
    for (const auto& [name, value] :
         {std::pair{"crc32", &c.crc32}, std::pair{"md5", &c.md5}, std::pair{"sha1", &c.sha1}})
      if (!value->empty()) content[name] = *value;
    line["contents"].push_back(std::move(content));
  }
  return line;
}

/// What is wrong with a line.
struct BadLine {
  std::string found, expected;
};

class LineReader {
 public:
  explicit LineReader(const json& line) : line_(line) {}

  ShelfItem item() const {
    if (!line_.is_object()) throw BadLine{"something else", "an object"};
    ShelfItem item{.host = "", .path = name("path", line_)};
    if (!item.path.starts_with('/')) throw BadLine{"path: " + item.path, "an absolute path"};
    if (line_.contains("inside")) item.inside = name("inside", line_);
    each_text(item, [&](const char* key, std::string& text) {
      if (line_.contains(key)) text = name(key, line_);
    });
    item.disc = static_cast<int>(number("disc", line_, 0, 10'000));
    item.discs = static_cast<int>(number("discs", line_, 0, 10'000));
    each_flag(item, [&](const char* key, bool& flag) { flag = is("complete" == std::string_view(key), key, line_); });
    each_size(item, [&](const char* key, std::uint64_t& size) { size = unsigned_number(key, line_); });
    each_time(item, [&](const char* key, std::int64_t& time) { time = number(key, line_, 0, kLatest); });
    for (const json& f : list("files")) item.files.push_back(file(f));
    for (const json& c : list("contents")) item.contents.push_back(content(c, item.files.size()));
    return item;
  }

 private:
  static constexpr std::int64_t kLatest = 253'402'300'799;  // the end of the year 9999

  static std::string name(const char* key, const json& in) {
    const auto at = in.find(key);
    if (at == in.end()) throw BadLine{"nothing", key};
    const auto text = name_of(*at);
    if (!text) throw BadLine{key, "a text"};
    return *text;
  }
  static bool is(bool preset, const char* key, const json& in) {
    const auto at = in.find(key);
    if (at == in.end()) return preset;
    if (!at->is_boolean()) throw BadLine{key, "true or false"};
    return at->get<bool>();
  }
  static std::int64_t number(const char* key, const json& in, std::int64_t least, std::int64_t most) {
    const auto at = in.find(key);
    if (at == in.end()) return std::max<std::int64_t>(least, 0);
    const bool fits = at->is_number_integer() && (!at->is_number_unsigned() || at->get<std::uint64_t>() <= INT64_MAX) &&
                      at->get<std::int64_t>() >= least && at->get<std::int64_t>() <= most;
    if (!fits) throw BadLine{key, fmt::format("a number from {} to {}", least, most)};
    return at->get<std::int64_t>();
  }
  static std::uint64_t unsigned_number(const char* key, const json& in) {
    const auto at = in.find(key);
    if (at == in.end()) return 0;
    if (!at->is_number_unsigned()) throw BadLine{key, "a whole number"};
    return at->get<std::uint64_t>();
  }
  static std::string hash(const char* key, std::size_t digits, const json& in) {
    const auto at = in.find(key);
    if (at == in.end()) return {};
    const bool fits = at->is_string() && at->get_ref<const std::string&>().size() == digits &&
                      at->get_ref<const std::string&>().find_first_not_of("0123456789abcdef") == std::string::npos;
    if (!fits) throw BadLine{key, fmt::format("{} hexadecimal digits", digits)};
    return at->get<std::string>();
  }
  const json& list(const char* key) const {
    static const json kNone = json::array();
    const auto at = line_.find(key);
    if (at == line_.end()) return kNone;
    if (!at->is_array() || at->size() > kMostParts) throw BadLine{key, "a list"};
    return *at;
  }

  static ShelfFile file(const json& f) {
    if (!f.is_object()) throw BadLine{"files", "a list of objects"};
    ShelfFile file{.path = name("path", f)};
    if (!file.path.starts_with('/')) throw BadLine{"files: " + file.path, "absolute paths"};
    file.size_bytes = unsigned_number("size_bytes", f);
    file.modified_ns =
        f.contains("modified_ns") ? number("modified_ns", f, INT64_MIN, INT64_MAX) : ShelfFile::kUnsettled;
    file.inode = unsigned_number("inode", f);
    file.device = unsigned_number("device", f);
    return file;
  }

  static ShelfContent content(const json& c, std::size_t) {
    if (!c.is_object()) throw BadLine{"contents", "a list of objects"};
    ShelfContent content;
    const std::string kind = name("kind", c);
    const auto* const at = std::find(std::begin(kKinds), std::end(kKinds), kind);
    if (at == std::end(kKinds)) throw BadLine{"kind: " + kind, "file, view or piece"};
    content.kind = static_cast<ShelfContent::Kind>(at - std::begin(kKinds));
    if (c.contains("path")) content.path = name("path", c);
    if (c.contains("through")) content.through = name("through", c);
    if (const auto of = c.find("of"); of != c.end()) {
      if (!of->is_array() || of->size() > kMostParts) throw BadLine{"of", "a list of numbers"};
      for (const json& n : *of) {
        if (!n.is_number_unsigned() || n.get<std::uint64_t>() >= kMostParts) throw BadLine{"of", "a list of numbers"};
        content.of.push_back(n.get<std::uint32_t>());
      }
    }
    content.disk = is(false, "disk", c);
    content.merged = is(false, "merged", c);
    content.sheet = is(false, "sheet", c);
    content.size_bytes = unsigned_number("size_bytes", c);
    content.crc32 = hash("crc32", 8, c);
    content.md5 = hash("md5", 32, c);
    content.sha1 = hash("sha1", 40, c);
    return content;
  }

  const json& line_;
};

[[noreturn]] void refuse_line(const std::string& file, std::uint32_t number, std::string found, std::string expected) {
  throw Error({.code = "bad_shelf_lines",
               .what = "this is not what a shelf was exported to",
               .file = file,
               .line = number,
               .found = std::move(found),
               .expected = std::move(expected),
               .hint = "nothing of it was taken; mend the line, or export it again"});
}

json parse_line(const std::string& text, const std::string& file, std::uint32_t number) {
  if (text.size() > kLongestLine) refuse_line(file, number, "a line without end", "one item a line");
  constexpr int kDeepest = 8;
  const auto shallow = [&](int depth, json::parse_event_t, json&) {
    if (depth > kDeepest) refuse_line(file, number, "lists in lists", "one item a line");
    return true;
  };
  json line = json::parse(text, shallow, false);
  if (line.is_discarded()) refuse_line(file, number, "no JSON", "one JSON object a line");
  return line;
}

}  // namespace

ShelfItem item_of_line(const std::string& text, const std::string& file, std::uint32_t number) {
  const json line = parse_line(text, file, number);
  try {
    return LineReader(line).item();
  } catch (const BadLine& bad) {
    refuse_line(file, number, bad.found, bad.expected);
  }
}

std::string line_of_item(const ShelfItem& item) {
  return line_of(item).dump(-1, ' ', false, json::error_handler_t::replace);
}

void Shelf::write_lines(const std::function<void(const std::string& line)>& line) const {
  line(Ordered{{"opifex_shelf", kLinesVersion}}.dump());
  const std::vector<std::int64_t> all = ids({.gone = ShelfFilter::Gone::any, .sort = {"item"}});
  constexpr std::size_t kAtOnce = 200;
  for (std::size_t from = 0; from < all.size(); from += kAtOnce) {
    const auto first = all.begin() + static_cast<std::ptrdiff_t>(from);
    std::vector<ShelfItem> some;
    each({first, all.begin() + static_cast<std::ptrdiff_t>(std::min(from + kAtOnce, all.size()))},
         [&](const ShelfItem& item) { some.push_back(item); });
    add_details(some);
    for (const ShelfItem& item : some) line(line_of_item(item));
  }
}

Shelf::Imported Shelf::read_lines(const std::function<std::optional<std::string>()>& next, const std::string& file) {
  Imported imported;
  std::uint32_t number = 1;
  const auto head = next();
  const json first = head ? parse_line(*head, file, number) : json();
  const auto version = first.is_object() ? first.find("opifex_shelf") : first.end();
  if (!first.is_object() || version == first.end() || !version->is_number_integer())
    refuse_line(file, number, "another beginning", "{\"opifex_shelf\": 1}");
  if (*version != kLinesVersion)
    refuse_line(file, number, "version " + version->dump(), fmt::format("version {}", kLinesVersion));
  database_->transaction([&] {
    while (const auto text = next()) {
      ++number;
      if (text->find_first_not_of(" \t\r") == std::string::npos) continue;
      ShelfItem item = item_of_line(*text, file, number);
      const std::int64_t here = database_->number("select checked_at from items where place_key = :a",
                                                  {place_key(item.host, item.path, item.inside)}, -1);
      if (here > item.checked_at) {
        ++imported.older;
        continue;
      }
      put_item(*database_, item);
      ++(here < 0 ? imported.items : imported.renewed);
    }
  });
  return imported;
}

}  // namespace opifex
