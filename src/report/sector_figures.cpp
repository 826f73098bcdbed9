#include "sector_figures.hpp"

#include <algorithm>
#include <set>

#include "opifex/core/base/text.hpp"

#include "gnuplot.hpp"

namespace opifex::report {
namespace {

constexpr std::size_t kMostMarks = 60, kMostFiles = 25;

/// The entries of a legend: squares of their colours.
std::string legend_entries(const std::set<Tone>& used) {
  std::string plots;
  for (const Tone tone : used)
    if (tone != Tone::blank)
      plots += fmt::format(", NaN with points pt 5 ps 1.6 lc rgb \"#{:06X}\" title \"{}\"", shade(tone).rgb,
                           shade(tone).name);
  return plots;
}

/// The same without overlaps: the worst of those that hold a sector counts.
std::vector<ToneRange> flattened(std::span<const ToneRange> ranges, DiscRange disc) {
  std::map<std::int64_t, std::vector<std::pair<Tone, int>>> edges;
  for (const ToneRange& r : ranges) {
    const std::int64_t first = std::max(r.first, disc.first), end = std::min(r.end, disc.end);
    if (first >= end) continue;
    edges[first].emplace_back(r.tone, 1);
    edges[end].emplace_back(r.tone, -1);
  }
  std::map<Tone, int> open;
  std::vector<ToneRange> flat;
  std::int64_t from = disc.first;
  for (const auto& [at, changes] : edges) {
    if (!open.empty() && from < at) flat.push_back({from, at, open.rbegin()->first, ""});
    for (const auto& [tone, step] : changes)
      if ((open[tone] += step) == 0) open.erase(tone);
    from = at;
  }
  return flat;
}

/// In words, for who cannot see the picture: "good 59 000, lost 12".
std::string counted(std::span<const ToneRange> ranges, DiscRange disc) {
  std::map<Tone, std::uint64_t> counts;
  for (const ToneRange& r : flattened(ranges, disc))
    if (r.tone != Tone::blank) counts[r.tone] += static_cast<std::uint64_t>(r.end - r.first);
  std::string text;
  for (const auto& [tone, n] : counts)
    text += fmt::format("{}{} {}", text.empty() ? "" : ", ", shade(tone).name, grouped(n));
  return text.empty() ? "none" : text;
}

/// White on what is dark, black on what is light.
const char* ink_on(std::uint32_t rgb) {
  const unsigned light = (rgb >> 16) * 299 + (rgb >> 8 & 0xFF) * 587 + (rgb & 0xFF) * 114;
  return light > 140'000 ? "#000001" : "#ffffff";
}

}  // namespace

std::string disc_title(const Identity& id, const std::string& otherwise) {
  std::string title = id.title.empty() ? otherwise : id.title;
  const std::string& serial = id.serial.empty() ? id.title_id : id.serial;
  if (!serial.empty()) title += " (" + serial + ")";
  return printable(title);
}

std::vector<Mark> marks_of(const cd::Layout& layout) {
  std::vector<Mark> marks;
  for (const cd::Track& t : layout.tracks) marks.push_back({t.start_lba, fmt::format("track {}", t.number)});
  return marks;
}

Figure map_figure(const std::string& title, DiscRange disc, std::span<const ToneRange> ranges,
                  const std::vector<Mark>& marks) {
  constexpr std::int64_t kColumns = 100, kMostRows = 40;
  const std::int64_t total = std::max<std::int64_t>(1, disc.end - disc.first);
  const std::int64_t each = std::max<std::int64_t>(1, (total + kColumns * kMostRows - 1) / (kColumns * kMostRows));
  const std::int64_t cells = (total + each - 1) / each, rows = (cells + kColumns - 1) / kColumns;
  std::vector<Tone> worst(static_cast<std::size_t>(cells), Tone::blank);
  for (const ToneRange& r : ranges) {
    const std::int64_t first = std::max(r.first, disc.first) - disc.first, end = std::min(r.end, disc.end) - disc.first;
    for (std::int64_t c = first / each; first < end && c <= (end - 1) / each; ++c) {
      Tone& cell = worst[static_cast<std::size_t>(c)];
      cell = std::max(cell, r.tone);
    }
  }
  Figure figure{.name = "sector-map", .title = title, .height = 760};
  figure.data = "# column row colour first_lba state\n";
  std::set<Tone> used;
  for (std::int64_t c = 0; c < cells; ++c) {
    const Tone tone = worst[static_cast<std::size_t>(c)];
    if (tone == Tone::blank) continue;
    used.insert(tone);
    figure.data += fmt::format("{} {} {} {} {}\n", c % kColumns, c / kColumns, shade(tone).rgb, disc.first + c * each,
                               field(shade(tone).name));
  }
  if (used.empty()) figure.data += "NaN NaN 0 0 none\n";
  std::string& body = figure.body;
  body = fmt::format("set xrange [-0.6:{}]\nset yrange [{}:-0.6]\n", static_cast<double>(kColumns) - 0.4,
                     static_cast<double>(rows) - 0.4);
  body += "unset xtics\nset border 0\nset lmargin 12\nset bmargin 6\n";
  body += "set key at screen 0.5, screen 0.05 center horizontal Left reverse samplen 1 width 2\n";
  const std::string cell_text = each == 1 ? "each cell is a sector"
                                          : fmt::format("each cell stands for {} sectors and shows the worst of them",
                                                        grouped(static_cast<std::uint64_t>(each)));
  body += fmt::format("set xlabel \"{}; on the left the address a row begins with\"\n", cell_text);
  body += "set ytics scale 0 (";
  const std::int64_t step = std::max<std::int64_t>(1, rows / 16);
  for (std::int64_t r = 0; r < rows; r += step)
    body += fmt::format("{}\"{}\" {}", r > 0 ? ", " : "", disc.first + r * kColumns * each, r);
  body += ")\n";
  int label = 0;
  for (const Mark& m : marks) {
    const std::int64_t cell = (m.lba - disc.first) / each;
    if (cell < 0 || cell >= cells || marks.size() > kMostMarks) continue;
    const std::int64_t x = cell % kColumns, y = cell / kColumns;
    ++label;
    body += fmt::format("set arrow {} from {},{} to {},{} nohead lw 2.5 lc rgb \"black\" front\n", label,
                        static_cast<double>(x) - 0.5, static_cast<double>(y) - 0.5, static_cast<double>(x) - 0.5,
                        static_cast<double>(y) + 0.5);
    body += fmt::format("set label {} {} at {},{} left front font \",9\" tc rgb \"{}\"\n", label, in_quotes(m.text),
                        static_cast<double>(x) - 0.2, y, ink_on(shade(worst[static_cast<std::size_t>(cell)]).rgb));
  }
  body += "plot data using 1:2:(0.42):(0.42):3 with boxxyerror fillstyle solid noborder lc rgb variable notitle" +
          legend_entries(used);
  figure.words = fmt::format("{}: {} sectors, of them {}.", title, grouped(static_cast<std::uint64_t>(total)),
                             counted(ranges, disc));
  return figure;
}

namespace {

constexpr double kPixels = 1100, kThin = 6, kThinnest = 3;  // of a bar: its width, and of its pieces
constexpr std::size_t kMostPieces = 1000, kMostLabels = 120;

/// What is drawn of a layer, the worst last, so that it covers the rest. Of very many pieces those that would share a
/// pixel become one.
std::vector<ToneRange> pieces_of(const Layer& layer, DiscRange disc) {
  std::vector<ToneRange> pieces;
  for (const ToneRange& r : layer.ranges)
    if (std::max(r.first, disc.first) < std::min(r.end, disc.end))
      pieces.push_back({std::max(r.first, disc.first), std::min(r.end, disc.end), r.tone, r.label});
  if (pieces.size() > kMostPieces) {
    const std::int64_t step = std::max<std::int64_t>(1, (disc.end - disc.first) / static_cast<std::int64_t>(kPixels));
    std::map<std::int64_t, Tone> worst;
    for (const ToneRange& r : pieces)
      for (std::int64_t at = (r.first - disc.first) / step; at <= (r.end - 1 - disc.first) / step; ++at)
        worst[at] = std::max(worst[at], r.tone);
    pieces.clear();
    for (const auto& [at, tone] : worst) {
      const std::int64_t first = disc.first + at * step, end = std::min(disc.end, first + step);
      if (!pieces.empty() && pieces.back().end == first && pieces.back().tone == tone)
        pieces.back().end = end;
      else
        pieces.push_back({first, end, tone, ""});
    }
  }
  std::stable_sort(pieces.begin(), pieces.end(),
                   [](const ToneRange& a, const ToneRange& b) { return a.tone < b.tone; });
  return pieces;
}

/// The pieces of a bar as lines of data: the wide ones have a border, the thin ones none.
struct BarLines {
  std::string wide, thin, labels;
  std::size_t label_count = 0;

  void add(const ToneRange& r, std::size_t row, double total) {
    const double middle = static_cast<double>(r.first + r.end) / 2;
    const double width = kPixels * static_cast<double>(r.end - r.first) / total;
    // What is too thin to be seen is shown as a line: damage of one sector is still damage.
    const double half = std::max(static_cast<double>(r.end - r.first), kThinnest * total / kPixels) / 2;
    const std::string_view what = r.label.empty() ? shade(r.tone).name : std::string_view(r.label);
    (width < kThin ? thin : wide) += fmt::format("{} {} {} {} {} {} {}\n", r.first, r.end, row, shade(r.tone).rgb,
                                                 middle - half, middle + half, field(what));
    if (r.label.empty() || width < 6.5 * static_cast<double>(r.label.size()) || label_count >= kMostLabels) return;
    labels += fmt::format("set label {} {} at {},{} center front font \",9\" tc rgb \"{}\"\n", ++label_count,
                          in_quotes(r.label), middle, row, ink_on(shade(r.tone).rgb));
  }
};

}  // namespace

Figure bar_figure(const std::string& title, DiscRange disc, const std::vector<Layer>& layers) {
  disc.end = std::max(disc.end, disc.first + 1);
  const double total = static_cast<double>(disc.end - disc.first);
  Figure figure{.name = "disc-layout",
                .title = title,
                .words = title + ", in sectors.",
                .height = 190 + 58 * static_cast<int>(layers.size())};
  std::set<Tone> used;
  BarLines lines;
  for (std::size_t row = 0; row < layers.size(); ++row) {
    for (const ToneRange& r : pieces_of(layers[row], disc)) {
      used.insert(r.tone);
      lines.add(r, row, total);
    }
    figure.words += fmt::format(" {}: {}.", layers[row].name, counted(layers[row].ranges, disc));
  }
  // Neither block of the data may be empty.
  constexpr std::string_view kNothing = "NaN NaN 0 0 NaN NaN none\n";
  figure.data = fmt::format("# first_lba end_lba row colour drawn_first drawn_end what\n{0}{2}\n\n{1}{2}", lines.wide,
                            lines.thin, kNothing);
  std::string& body = figure.body;
  body = fmt::format("set xrange [{}:{}]\nset yrange [{}:-0.7]\nset border 1\nset lmargin 14\nset bmargin 7\n",
                     disc.first, disc.end, static_cast<double>(layers.size()) - 0.3);
  body += "set format x \"%.0f\"\nset xtics nomirror out\nset xlabel \"sector (LBA)\"\n";
  body += "set key at screen 0.5, screen 0.06 center horizontal Left reverse samplen 1 width 2\nset ytics scale 0 (";
  for (std::size_t row = 0; row < layers.size(); ++row)
    body += fmt::format("{}\"{}\" {}", row > 0 ? ", " : "", layers[row].name, row);
  body += ")\n" + lines.labels + "plot ";
  for (const auto& [index, border] : {std::pair(0, "border rgb \"white\""), std::pair(1, "noborder")})
    body += fmt::format(
        "{}data index {} using (($5+$6)/2):3:5:6:($3-0.36):($3+0.36):4 with boxxyerror fillstyle solid {} "
        "lc rgb variable notitle",
        index > 0 ? ", " : "", index, border);
  body += legend_entries(used);
  return figure;
}

std::vector<Layer> layers_of(const cd::Layout& layout) {
  Layer sessions{"sessions", {}}, tracks{"tracks", {}};
  for (const cd::Track& t : layout.tracks) {
    if (t.pregap_lba < t.start_lba) tracks.ranges.push_back({t.pregap_lba, t.start_lba, Tone::gap, ""});
    const Tone tone = t.mode.is_audio() ? Tone::music : Tone::data;
    tracks.ranges.push_back({t.start_lba, t.end_lba, tone, fmt::format("{}", t.number)});
  }
  for (const cd::Session& s : layout.sessions) {
    const cd::Track* first = layout.track(s.first_track);
    if (first)
      sessions.ranges.push_back({first->pregap_lba, s.lead_out, Tone::session, fmt::format("session {}", s.number)});
  }
  // One session is no news.
  std::vector<Layer> layers;
  if (layout.sessions.size() > 1) layers.push_back(std::move(sessions));
  layers.push_back(std::move(tracks));
  return layers;
}

std::vector<Layer> layers_of(const Image& image, const Identity& id) {
  std::vector<Layer> layers;
  Layer partitions{"partitions", {}}, files{"files", {}};
  for (const Identity::Partition& p : id.partitions)
    partitions.ranges.push_back({static_cast<std::int64_t>(p.offset / cd::kUserBytes),
                                 static_cast<std::int64_t>((p.offset + p.size_bytes) / cd::kUserBytes), Tone::data,
                                 p.kind});
  if (!partitions.ranges.empty()) layers.push_back(std::move(partitions));
  for (const DiscRange& r : FileMap(image).used()) files.ranges.push_back({r.first, r.end, Tone::files, ""});
  if (!files.ranges.empty()) layers.push_back(std::move(files));
  return layers;
}

std::optional<DiscRange> extent_of(const Image& image) {
  if (image.cd()) {
    const cd::Layout& layout = image.cd()->layout();
    if (layout.tracks.empty()) return std::nullopt;
    return DiscRange{std::min<std::int64_t>(0, layout.tracks.front().pregap_lba), layout.lead_out};
  }
  const auto* blocks = std::get_if<BlockContent>(&image.content);
  if (!blocks || !blocks->is_disc() || !blocks->bytes || blocks->bytes->size() == 0) return std::nullopt;
  return DiscRange{0, static_cast<std::int64_t>(ceil_div(blocks->bytes->size(), std::uint64_t{cd::kUserBytes}))};
}

Figures suffered_figures(const std::string& title, const std::vector<FileHit>& hits) {
  if (hits.empty()) return {};
  std::vector<FileHit> worst = hits;
  std::stable_sort(worst.begin(), worst.end(), [](const FileHit& a, const FileHit& b) {
    return static_cast<double>(a.hit) * static_cast<double>(b.sectors) >
           static_cast<double>(b.hit) * static_cast<double>(a.sectors);
  });
  if (worst.size() > kMostFiles) worst.resize(kMostFiles);
  Figure figure{.name = "files-hit",
                .title = "What the files of " + title + " suffered",
                .height = 190 + 26 * static_cast<int>(worst.size())};
  figure.data = "# row percent_lost sectors_lost sectors path\n";
  std::string names;
  for (std::size_t row = 0; row < worst.size(); ++row) {
    const FileHit& f = worst[row];
    const double share =
        100.0 * static_cast<double>(f.hit) / static_cast<double>(std::max<std::uint64_t>(1, f.sectors));
    figure.data += fmt::format("{} {:.3f} {} {} {}\n", row, std::max(share, 0.15), f.hit, f.sectors, field(f.path));
    names += fmt::format("{}{} {}", row > 0 ? ", " : "", in_quotes(f.path, 44), row);
    figure.words += fmt::format("{}{}: {} of {} sectors lost", figure.words.empty() ? "" : "; ", printable(f.path),
                                grouped(f.hit), grouped(f.sectors));
    figure.body += fmt::format("set label {} \"{} of {} sectors\" at {},{} left offset 0.6,0 font \",9\"\n", row + 1,
                               grouped(f.hit), grouped(f.sectors), share, row);
  }
  if (hits.size() > worst.size()) figure.words += fmt::format("; and {} more", hits.size() - worst.size());
  figure.words += ".";
  figure.body += fmt::format("set xrange [0:122]\nset yrange [{}:-0.7]\nset lmargin 48\nset bmargin 4\nunset key\n",
                             static_cast<double>(worst.size()) - 0.3);
  figure.body +=
      "set xlabel \"per cent of the file that is lost\"\nset xtics nomirror 0,20,100\nset border 3\nset grid xtics "
      "lc rgb \"#d0d0d0\"\n";
  figure.body += "set ytics scale 0 (" + names + ")\n";
  figure.body += fmt::format(
      "plot data using ($2/2):1:(0):2:($1-0.36):($1+0.36) with boxxyerror fillstyle solid noborder "
      "lc rgb \"#{:06X}\"",
      shade(Tone::lost).rgb);
  return {std::move(figure)};
}

}  // namespace opifex::report
