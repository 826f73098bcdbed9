#include "page.hpp"

#include <algorithm>
#include <array>
#include <map>
#include <pugixml.hpp>
#include <sstream>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/report/palette.hpp"
#include "opifex/report/terminal.hpp"

#include "page_files.hpp"

namespace opifex::report {
namespace {

using Node = pugi::xml_node;

constexpr std::uint64_t kMostRows = 10'000;  // of a page; the CSV files have all
constexpr std::size_t kMostColumns = 10;
constexpr std::size_t kLongText = 44;  // longer than any hash that is shown: may be broken anywhere

Node element(Node parent, const char* name) { return parent.append_child(name); }
void text_in(Node node, std::string_view text) {
  node.append_child(pugi::node_pcdata).set_value(printable(text).c_str());
}
Node element(Node parent, const char* name, std::string_view text) {
  const Node node = element(parent, name);
  text_in(node, text);
  return node;
}
void attribute(Node node, const char* name, std::string_view value) {
  node.append_attribute(name).set_value(printable(value).c_str());
}

/// HTML knows elements that end by themselves; all others must not be written so.
void close_empty(Node node) {
  constexpr std::array kVoid = {"meta", "br", "hr", "link", "col"};
  for (Node child : node.children()) close_empty(child);
  if (node.type() != pugi::node_element || node.first_child()) return;
  if (std::find(kVoid.begin(), kVoid.end(), std::string_view(node.name())) == kVoid.end())
    node.append_child(pugi::node_pcdata).set_value("");
}

/// Style and script are no text to HTML: an escape in them would stay one, so that they must not need any.
void add_fixed(Node parent, const char* name, const char* content) {
  if (std::string_view(content).find_first_of("<>&") != std::string_view::npos)
    throw std::logic_error(std::string("this file needs escapes: ") + name);
  element(parent, name).append_child(pugi::node_pcdata).set_value(content);
}

std::string date_text(std::int64_t seconds) {
  const CivilTime t = civil_time(seconds);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02} UTC", t.year, t.month, t.day, t.hour, t.minute);
}

/// "-1234.5" with its thousands grouped.
std::string shown_number(const std::string& number) {
  const std::size_t begin = !number.empty() && number[0] == '-' ? 1 : 0;
  const std::size_t end = number.find_first_not_of("0123456789", begin);
  const std::string digits = number.substr(begin, end == std::string::npos ? end : end - begin);
  if (end != std::string::npos && number[end] == '.' && number.size() - end > 4)
    return shown_number(fmt::format("{:.3f}", std::stod(number)));
  if (digits.empty() || digits.size() > 19 || number.find_first_of("eE") != std::string::npos) return number;
  return number.substr(0, begin) + grouped(std::stoull(digits)) + (end == std::string::npos ? "" : number.substr(end));
}

bool holds_states(std::string_view column) {
  constexpr std::array kStates = {"verdict", "state", "outcome", "severity", "damage", "how", "kind", "known.verdict"};
  return std::find(kStates.begin(), kStates.end(), column) != kStates.end();
}
/// Numbers that name something, and do not count.
bool is_name(std::string_view column) {
  constexpr std::array kNames = {"id",          "item",       "number", "session", "track",
                                 "first_track", "last_track", "disc",   "exit",    "line"};
  return std::find(kNames.begin(), kNames.end(), column) != kNames.end();
}

/// The columns of a table that a page has room for, best first; the rest is in its CSV file.
struct View {
  std::string_view command, table;
  std::vector<std::string_view> columns;
};
const std::vector<View>& views() {
  static const std::vector<View> all = {
      {"identify",
       "results",
       {"path", "format", "platform", "title", "serial", "title_id", "region", "disc", "size_bytes", "complete",
        "confidence"}},
      {"check",
       "results",
       {"path", "format", "verdict", "known.verdict", "known.set", "hashes.crc32", "hashes.sha1", "whole.size_bytes",
        "disc.hashes.sha1"}},
      {"identify",
       "tracks",
       {"of", "number", "mode", "session", "start_lba", "start_msf", "pregap_sectors", "length_sectors", "length_bytes",
        "file"}},
      {"check",
       "tracks",
       {"of", "number", "mode", "verdict", "sectors", "bad", "repairable", "hashes.crc32", "hashes.sha1"}},
      {"files",
       "entries",
       {"of", "path", "kind", "size_bytes", "modified", "lba", "attributes", "facts.plain_title", "facts.game_code",
        "facts.blocks", "flaw"}},
      {"shelf",
       "items",
       {"item", "title", "platform", "serial", "region", "disc", "format", "verdict", "stored_bytes", "content_bytes",
        "checked", "path"}}};
  return all;
}

std::vector<std::size_t> shown_columns(const PageContent& page, const ResultTable& table) {
  std::vector<std::size_t> shown;
  const auto offer = [&](std::size_t c) {
    const bool owner = table.columns()[c] == "of" && page.results < 2;
    if (!table.is_empty(c) && !owner && std::find(shown.begin(), shown.end(), c) == shown.end()) shown.push_back(c);
  };
  for (const View& view : views())
    if (view.command == page.command && view.table == table.name())
      for (const std::string_view key : view.columns)
        for (std::size_t c = 0; c < table.columns().size(); ++c)
          if (table.columns()[c] == key) offer(c);
  if (!shown.empty()) return shown;
  for (std::size_t c = 0; c < table.columns().size() && shown.size() < kMostColumns; ++c) offer(c);
  return shown;
}

void add_state(Node cell, const std::string& word) {
  const Tone tone = tone_of(word);
  std::string shown = word;
  std::replace(shown.begin(), shown.end(), '_', ' ');
  if (tone == Tone::blank) return text_in(cell, shown);
  const Node mark = element(cell, "mark", shown);
  attribute(mark, "style", fmt::format("--tone:#{:06x}", shade(tone).rgb));
}

void add_value(Node node, const std::string& column, const Cell& cell) {
  if (cell.kind == CellKind::number && !is_name(column)) return text_in(node, shown_number(cell.text));
  if (holds_states(column)) return add_state(node, cell.text);
  text_in(node, cell.text);
}

void add_table(Node parent, const PageContent& page, const ResultTable& table, std::uint64_t most) {
  const std::vector<std::size_t> columns = shown_columns(page, table);
  if (columns.empty()) return;
  const Node section = element(parent, "section");
  const std::string heading = heading_of(table.name());
  element(section, "h2", heading);
  const Node scroll = element(section, "div");
  attribute(scroll, "class", "scroll");
  attribute(scroll, "tabindex", "0");
  attribute(scroll, "role", "region");
  attribute(scroll, "aria-label", heading);
  const Node node = element(scroll, "table");
  attribute(node, "class", "sorts");
  std::string caption = plural(table.rows(), "row");
  if (table.rows() > most) caption += fmt::format("; the first {} are shown here", grouped(most));
  const auto filled = static_cast<std::size_t>(
      std::count_if(table.columns().begin(), table.columns().end(),
                    [&, c = std::size_t{0}](const std::string&) mutable { return !table.is_empty(c++); }));
  caption += fmt::format("; all of it, with {}, is in {}.csv", plural(filled, "column"), table.name());
  element(node, "caption", caption);
  const Node head = element(element(node, "thead"), "tr");
  for (const std::size_t c : columns) {
    const Node th = element(head, "th", label_of(table.columns()[c]));
    attribute(th, "scope", "col");
    if (table.is_number(c)) attribute(th, "class", "n");
  }
  const Node body = element(node, "tbody");
  table.each(most, [&](const std::vector<Cell>& cells) {
    const Node row = element(body, "tr");
    for (const std::size_t c : columns) {
      const Node td = element(row, "td");
      if (table.is_number(c)) attribute(td, "class", "n");
      if (cells[c].text.size() > kLongText) attribute(td, "class", "w");
      if (cells[c].kind != CellKind::empty) add_value(td, table.columns()[c], cells[c]);
    }
  });
}

/// One result: its values, one below the other.
void add_facts(Node parent, const ResultTable& results) {
  const Node section = element(parent, "section");
  element(section, "h2", "What is known");
  const Node table = element(section, "table");
  attribute(table, "class", "facts");
  const Node body = element(table, "tbody");
  const auto add = [&](const std::string& key, const Cell& cell) {
    const Node row = element(body, "tr");
    attribute(element(row, "th", label_of(key)), "scope", "row");
    const Node td = element(row, "td");
    add_value(td, key, cell);
    const bool is_size = cell.kind == CellKind::number && key.ends_with("_bytes");
    if (is_size && cell.text.find_first_not_of("0123456789") == std::string::npos)
      text_in(td, fmt::format(" ({})", human_size(std::stoull(cell.text))));
  };
  results.each(1, [&](const std::vector<Cell>& cells) {
    // The answer first.
    for (const bool answers : {true, false})
      for (std::size_t c = 0; c < cells.size(); ++c)
        if (cells[c].kind != CellKind::empty && (results.columns()[c] == "verdict") == answers)
          add(results.columns()[c], cells[c]);
  });
}

struct Ending {
  const char *tone, *words;
};
Ending ending_of(int exit_code) {
  switch (exit_code) {
    case 0:
      return {"good", "\u2714 Done, nothing to complain of."};
    case 1:
      return {"bad", "\u2718 Done, and there is bad news: something is damaged, missing, unknown or different."};
    case 3:
      return {"bad", "\u2718 Something was refused: it could not be read as what it claims to be."};
    case 4:
      return {"word", "! Something was not done: your word is needed first."};
    default:
      return {"bad", "\u2718 Something was not done: reading, writing or a device failed."};
  }
}

/// True if any result is only a plan: nothing of it is done.
bool is_planned(const ResultTables& tables) {
  const ResultTable* results = tables.find("results");
  if (!results) return false;
  bool planned = false;
  for (std::size_t c = 0; c < results->columns().size(); ++c)
    if (results->columns()[c] == "planned_only")
      results->each(results->rows(), [&](const std::vector<Cell>& cells) { planned |= cells[c].text == "yes"; });
  return planned;
}

void add_ending(Node parent, const PageContent& page) {
  Ending ending = ending_of(page.exit_code);
  if (page.exit_code == 0 && is_planned(page.tables)) ending = {"word", "! This is a plan: nothing was written."};
  const Node box = element(parent, "div");
  attribute(box, "class", std::string("verdict ") + ending.tone);
  attribute(box, "role", "status");
  element(box, "strong", ending.words);
  const ResultTable* results = page.tables.find("results");
  if (!results) return;
  const auto at = std::find(results->columns().begin(), results->columns().end(), "verdict");
  if (at == results->columns().end()) return;
  const auto column = static_cast<std::size_t>(at - results->columns().begin());
  std::map<std::string, std::uint64_t> verdicts;
  results->each(results->rows(), [&](const std::vector<Cell>& cells) {
    if (cells[column].kind == CellKind::text) ++verdicts[cells[column].text];
  });
  const Node list = element(box, "ul");
  for (const auto& [word, count] : verdicts) {
    const Node item = element(list, "li");
    add_state(item, word);
    text_in(item, ": " + grouped(count));
  }
}

/// Of a drawing only what draws: no script, no link, nothing from elsewhere.
void copy_drawing(Node into, Node from, const std::string& prefix) {
  constexpr std::array kDraws = {"g",    "defs", "path",     "rect",    "circle", "ellipse", "line",
                                 "text", "use",  "polyline", "polygon", "tspan",  "clipPath"};
  for (const Node child : from.children()) {
    if (child.type() == pugi::node_pcdata) {
      text_in(into, child.value());
      continue;
    }
    if (std::find(kDraws.begin(), kDraws.end(), std::string_view(child.name())) == kDraws.end()) continue;
    // The ground is the page's.
    if (std::string_view(child.name()) == "rect" && from.attribute("id").value() == std::string_view("gnuplot_canvas"))
      continue;
    const Node copy = element(into, child.name());
    for (const pugi::xml_attribute a : child.attributes()) {
      const std::string_view name = a.name(), value = a.value();
      if (name.starts_with("on") || name == "style") continue;
      if (name == "id") {
        attribute(copy, "id", prefix + std::string(value));
      } else if (name.ends_with("href")) {
        if (value.starts_with("#")) attribute(copy, "href", "#" + prefix + std::string(value.substr(1)));
      } else if (value.find("url(") == std::string_view::npos) {
        attribute(copy, a.name(), value);
      } else if (value.starts_with("url(#")) {
        attribute(copy, a.name(), "url(#" + prefix + std::string(value.substr(5)));
      }
    }
    copy_drawing(copy, child, prefix);
  }
}

void add_figures(Node parent, const PageContent& page) {
  if (page.figures.empty() && page.undrawn == 0) return;
  const Node section = element(parent, "section");
  element(section, "h2", "Figures");
  for (const auto& [figure, svg] : page.figures) {
    pugi::xml_document drawing;
    if (!drawing.load_buffer(svg.data(), svg.size(), pugi::parse_default | pugi::parse_ws_pcdata_single)) continue;
    const Node node = element(section, "figure");
    const Node picture = element(node, "svg");
    attribute(picture, "viewBox", fmt::format("0 0 {} {}", figure.width, figure.height));
    attribute(picture, "role", "img");
    attribute(picture, "aria-label", figure.words);
    copy_drawing(picture, drawing.child("svg"), figure.name + "-");
    element(node, "figcaption", fmt::format("{} ({}.png, .svg, .dat and .gp)", figure.words, figure.name));
  }
  if (page.undrawn > 0)
    attribute(element(section, "p",
                      fmt::format("The figures of {} are not drawn: there is no room for them, or what they would show "
                                  "cannot be read.",
                                  plural(page.undrawn, "result"))),
              "class", "note");
}

void add_head(Node html, const PageContent& page) {
  const Node head = element(html, "head");
  attribute(element(head, "meta"), "charset", "utf-8");
  const Node policy = element(head, "meta");
  attribute(policy, "http-equiv", "Content-Security-Policy");
  attribute(policy, "content",
            "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; img-src data:");
  const Node width = element(head, "meta");
  attribute(width, "name", "viewport");
  attribute(width, "content", "width=device-width, initial-scale=1");
  element(head, "title", title_of(page.command) + (page.subjects.empty() ? "" : ": " + page.subjects.front()));
  // Without an icon of its own a browser asks for one.
  const Node icon = element(head, "link");
  attribute(icon, "rel", "icon");
  attribute(icon, "href", "data:,");
  add_fixed(head, "style", kPageStyle);
}

void add_header(Node body, const PageContent& page) {
  const Node header = element(body, "header");
  element(header, "h1", title_of(page.command));
  for (const std::string& subject : page.subjects) element(header, "p", subject);
  if (!page.subjects.empty() && page.results > page.subjects.size())
    element(header, "p", fmt::format("and {}", plural(page.results - page.subjects.size(), "more result")));
  attribute(element(header, "p",
                    fmt::format("opifex {} {}, {}. The same for programs: result.json.", page.version, page.command,
                                date_text(page.made))),
            "class", "made");
}

}  // namespace

std::string page_html(const PageContent& page) {
  pugi::xml_document document;
  document.append_child(pugi::node_doctype).set_value("html");
  const Node html = element(document, "html");
  attribute(html, "lang", "en");
  add_head(html, page);
  const Node body = element(html, "body");
  add_header(body, page);
  const Node main = element(body, "main");
  add_ending(main, page);
  std::uint64_t room = kMostRows;
  const auto table = [&](const ResultTable& t) {
    add_table(main, page, t, std::max<std::uint64_t>(room, 100));
    room -= std::min(room, t.rows());
  };
  if (const ResultTable* errors = page.tables.find("errors")) table(*errors);
  const ResultTable* results = page.tables.find("results");
  if (results && results->rows() > 1) table(*results);
  add_figures(main, page);
  if (results && results->rows() == 1) add_facts(main, *results);
  for (const auto& t : page.tables.all())
    if (t->name() != "results" && t->name() != "errors") table(*t);
  if (!page.text.empty()) {
    const Node details = element(element(main, "section"), "details");
    element(details, "summary",
            page.text_cut ? "As the terminal shows it (the beginning)" : "As the terminal shows it");
    element(details, "pre").append_child(pugi::node_pcdata).set_value(plain_text(page.text).c_str());
  }
  add_fixed(body, "script", kPageScript);
  close_empty(html);
  std::ostringstream out;
  document.save(out, "", pugi::format_raw | pugi::format_no_declaration, pugi::encoding_utf8);
  return out.str();
}

}  // namespace opifex::report
