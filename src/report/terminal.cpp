#include "opifex/report/terminal.hpp"

#include <algorithm>
#include <ostream>
#include <sstream>
#include <vector>

#include "opifex/core/base/text.hpp"
#include "opifex/report/palette.hpp"
#include "opifex/report/table.hpp"

namespace opifex::report {
namespace {

constexpr std::size_t kBetween = 2, kLeastWidth = 12;

/// Of the sixteen colours every terminal has; empty: as the text around it.
std::string_view colour_of(Tone tone) {
  switch (tone) {
    case Tone::good:
      return "\x1B[32m";
    case Tone::retried:
    case Tone::taken:
    case Tone::repairable:
    case Tone::mended:
      return "\x1B[33m";
    case Tone::music:
    case Tone::authored:
    case Tone::combined:
    case Tone::data:
    case Tone::files:
      return "\x1B[36m";
    case Tone::unsure:
    case Tone::unproved:
      return "\x1B[35m";
    case Tone::wrong:
    case Tone::lost:
    case Tone::other:
    case Tone::hang:
      return "\x1B[1;31m";
    case Tone::untried:
    case Tone::gap:
      return "\x1B[2m";
    case Tone::blank:
    case Tone::session:
    case Tone::tables:
      return {};
  }
  return {};
}

constexpr char kFirstTone = 'A';

void print_toned(Tone tone, std::string_view word, const TextStyle& style, std::ostream& out) {
  const std::string_view colour = style.colour ? colour_of(tone) : std::string_view{};
  out << colour << word << (colour.empty() ? "" : "\x1B[0m");
}

/// The word a cell begins with: "damaged: 3 of 420 sectors bad" is damaged.
std::string_view first_word(std::string_view cell) { return cell.substr(0, cell.find_first_of(":,;(")); }

/// A table as Table::text() left it.
class MarkedTable {
 public:
  explicit MarkedTable(std::string_view marked) {
    const std::size_t end = marked.find(kRow);
    indent_ = marked.substr(0, end);
    rows_ = marked.substr(end + 1);
    const std::string_view head = rows_.substr(0, rows_.find(kRow));
    columns_ = static_cast<std::size_t>(std::count(head.begin(), head.end(), kCell)) + 1;
    measure();
  }

  void print(const TextStyle& style, std::ostream& out) {
    if (style.width > 0) fit(style.width);
    bool head = true;
    each_row([&](const std::vector<std::string_view>& cells) {
      print_row(cells, head, style, out);
      head = false;
    });
  }

 private:
  template <typename Take>
  void each_row(const Take& take) const {
    std::vector<std::string_view> cells;
    for (std::size_t at = 0; at < rows_.size();) {
      const std::size_t end = rows_.find(kRow, at);
      cells.clear();
      for (std::size_t from = at; from <= end;) {
        const std::size_t to = std::min(end, rows_.find(kCell, from));
        cells.push_back(rows_.substr(from, to - from));
        from = to + 1;
      }
      if (at == 0)
        for (std::string_view& cell : cells) cell.remove_prefix(1);
      take(cells);
      at = end + 1;
    }
  }

  void measure() {
    std::vector<std::size_t> titles;
    for (std::size_t at = 0; kinds_.size() < columns_; at = rows_.find_first_of(std::string_view("\x1E\x1F"), at) + 1)
      kinds_ += rows_[at];
    widths_.assign(columns_, 0);
    each_row([&](const std::vector<std::string_view>& cells) {
      if (titles.empty()) {
        for (const std::string_view title : cells) titles.push_back(shown_width(title));
        return;
      }
      for (std::size_t c = 0; c < columns_; ++c) widths_[c] = std::max(widths_[c], shown_width(cells[c]));
    });
    for (std::size_t c = 0; c < columns_; ++c)
      if (widths_[c] > 0) widths_[c] = std::max(widths_[c], titles[c]);
  }

  /// The widest columns that may lose anything become narrower, until all fits or all of them are narrow.
  void fit(std::size_t width) {
    const auto whole = [&] {
      std::size_t sum = indent_.size();
      for (const std::size_t w : widths_) sum += w > 0 ? w + kBetween : 0;
      return sum - std::min(sum, kBetween);
    };
    while (whole() > width) {
      std::size_t widest = columns_;
      for (std::size_t c = 0; c < columns_; ++c)
        if (kinds_[c] == 's' && widths_[c] > kLeastWidth && (widest == columns_ || widths_[c] > widths_[widest]))
          widest = c;
      if (widest == columns_) return;
      widths_[widest] = std::max(kLeastWidth, widths_[widest] - std::min(widths_[widest], whole() - width));
    }
  }

  void print_row(const std::vector<std::string_view>& cells, bool head, const TextStyle& style,
                 std::ostream& out) const {
    std::string blanks(indent_);
    for (std::size_t c = 0; c < columns_; ++c) {
      if (widths_[c] == 0) continue;
      const std::string shown = shortened_middle(cells[c], widths_[c]);
      const std::size_t pad = widths_[c] - shown_width(shown);
      if (kinds_[c] == 'r') blanks.append(pad, ' ');
      // A line does not end in blanks.
      if (!shown.empty()) {
        out << blanks;
        blanks.clear();
        print_cell(shown, kinds_[c] == 'c' && !head, style, out);
      }
      if (kinds_[c] != 'r') blanks.append(pad, ' ');
      blanks.append(kBetween, ' ');
    }
    out << '\n';
  }

  static void print_cell(const std::string& shown, bool is_state, const TextStyle& style, std::ostream& out) {
    if (!is_state) {
      out << shown;
      return;
    }
    const std::string_view word = first_word(shown);
    print_toned(tone_of(word), word, style, out);
    out << std::string_view(shown).substr(word.size());
  }

  std::string_view indent_, rows_;
  std::size_t columns_ = 0;
  std::string kinds_;
  std::vector<std::size_t> widths_;
};

}  // namespace

std::string tone_text(Tone tone, std::string_view text, std::size_t width) {
  const std::string shown = printable(text);
  const std::size_t pad = width - std::min(width, shown_width(shown));
  std::string marked{kStateBegin, static_cast<char>(kFirstTone + static_cast<char>(tone))};
  return marked + shown + kStateEnd + std::string(pad, ' ');
}

std::string state_text(std::string_view word, std::size_t width) { return tone_text(tone_of(word), word, width); }

void show(std::string_view text, const TextStyle& style, std::ostream& out) {
  while (!text.empty()) {
    const std::size_t mark = text.find_first_of(std::string_view("\x1D\x02"));
    out << printable_lines(text.substr(0, mark));
    if (mark == std::string_view::npos) return;
    const char end_mark = text[mark] == kTable ? kTable : kStateEnd;
    const std::size_t end = text.find(end_mark, mark + 1);
    const bool is_sound =
        end != std::string_view::npos && end > mark + 1 &&
        (end_mark == kTable || static_cast<std::size_t>(text[mark + 1] - kFirstTone) < shades().size());
    if (!is_sound) {
      out << printable_lines(text.substr(mark));
      return;
    }
    const std::string_view inside = text.substr(mark + 1, end - mark - 1);
    if (end_mark == kTable)
      MarkedTable(inside).print(style, out);
    else
      print_toned(static_cast<Tone>(inside.front() - kFirstTone), inside.substr(1), style, out);
    text.remove_prefix(end + 1);
  }
}

std::string plain_text(std::string_view text) {
  std::ostringstream out;
  show(text, {}, out);
  return std::move(out).str();
}

std::string shortened_middle(std::string_view text, std::size_t columns) {
  constexpr std::string_view kLeftOut = "...";
  const std::size_t width = shown_width(text);
  if (width <= columns) return std::string(text);
  const auto ends_character = [&](std::size_t at) {
    return at >= text.size() || (static_cast<unsigned char>(text[at]) & 0xC0) != 0x80;
  };
  const std::size_t room = columns - std::min(columns, kLeftOut.size()), front = room / 2, back = room - front;
  std::size_t head = 0, tail = text.size();
  for (std::size_t at = 1; at < text.size() && shown_width(text.substr(0, at)) <= front; ++at)
    if (ends_character(at)) head = at;
  for (std::size_t at = text.size() - 1; at > head && shown_width(text.substr(at)) <= back; --at)
    if (ends_character(at)) tail = at;
  return std::string(text.substr(0, head)) + std::string(kLeftOut.substr(0, columns)) + std::string(text.substr(tail));
}

}  // namespace opifex::report
