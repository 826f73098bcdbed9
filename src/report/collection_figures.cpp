// Collections drawn: what they consist of, what they lack, what they take.
#include <algorithm>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/known.hpp"
#include "opifex/core/jobs/lists.hpp"
#include "opifex/core/jobs/shelf.hpp"
#include "opifex/core/lists/known_list.hpp"
#include "opifex/core/lists/match.hpp"
#include "opifex/report/figures.hpp"
#include "opifex/report/text.hpp"

#include "bar_rows.hpp"
#include "gnuplot.hpp"
#include "sector_figures.hpp"

namespace opifex::report {
namespace {

constexpr std::size_t kMostRows = 18;
constexpr double kGiB = 1024.0 * 1024 * 1024, kMiB = 1024.0 * 1024;

/// Of sizes that are drawn together: GiB, or MiB if they are small.
struct Unit {
  double bytes;
  const char* name;
};
Unit unit_for(std::uint64_t most) { return static_cast<double>(most) >= kGiB ? Unit{kGiB, "GiB"} : Unit{kMiB, "MiB"}; }

/// The largest rows; all others as one.
std::vector<ShelfCount> largest(std::vector<ShelfCount> counts) {
  std::stable_sort(counts.begin(), counts.end(),
                   [](const ShelfCount& a, const ShelfCount& b) { return a.items > b.items; });
  if (counts.size() <= kMostRows) return counts;
  ShelfCount rest{fmt::format("{} others", counts.size() - kMostRows + 1), 0, 0, 0};
  for (std::size_t i = kMostRows - 1; i < counts.size(); ++i) {
    rest.items += counts[i].items;
    rest.stored_bytes += counts[i].stored_bytes;
    rest.content_bytes += counts[i].content_bytes;
  }
  counts.resize(kMostRows - 1);
  counts.push_back(rest);
  return counts;
}

std::string or_unknown(const std::string& name) { return name.empty() ? "unknown" : name; }

Figure composition(const char* name, const std::string& title, const std::vector<ShelfCount>& counts) {
  BarChart chart{.name = name, .title = title, .unit = "items", .series = {{"items", series_rgb(0)}}, .rows = {}};
  for (const ShelfCount& c : largest(counts))
    chart.rows.push_back({or_unknown(c.name),
                          fmt::format("{}, {}", plural(c.items, "item"), human_size(c.stored_bytes)),
                          {{static_cast<double>(c.items), 0}}});
  return bar_rows(chart);
}

/// What is stored, and what it would take uncompressed.
Figure space(const std::vector<ShelfCount>& formats) {
  std::uint64_t most = 0;
  for (const ShelfCount& c : formats) most = std::max({most, c.stored_bytes, c.content_bytes});
  const Unit unit = unit_for(most);
  BarChart chart{.name = "space",
                 .title = "Space taken, and saved by compression, by format",
                 .unit = unit.name,
                 .series = {{"stored", series_rgb(0)}, {"saved", series_rgb(3)}},
                 .rows = {}};
  for (const ShelfCount& c : largest(formats)) {
    const std::uint64_t saved = c.content_bytes > c.stored_bytes ? c.content_bytes - c.stored_bytes : 0;
    chart.rows.push_back(
        {or_unknown(c.name),
         fmt::format("{} stored, {} saved", human_size(c.stored_bytes), human_size(saved)),
         {{static_cast<double>(c.stored_bytes) / unit.bytes, 0}, {static_cast<double>(saved) / unit.bytes, 1}}});
  }
  return bar_rows(chart);
}

Figure ages_figure(const std::vector<ShelfCount>& ages) {
  BarChart chart{.name = "age",
                 .title = "How long ago the items were checked",
                 .unit = "items",
                 .series = {{"items", series_rgb(1)}},
                 .rows = {}};
  for (const ShelfCount& c : ages)
    chart.rows.push_back({c.name == "never" || c.name == "longer" ? c.name : "within " + c.name,
                          plural(c.items, "item"),
                          {{static_cast<double>(c.items), 0}}});
  return bar_rows(chart);
}

Figure verdicts_figure(const std::vector<ShelfCount>& verdicts) {
  BarChart chart{.name = "verdicts", .title = "What the checks have found", .unit = "items", .series = {}, .rows = {}};
  for (const ShelfCount& c : largest(verdicts)) {
    chart.series.push_back(
        {or_unknown(c.name), shade(tone_of(c.name) == Tone::blank ? Tone::untried : tone_of(c.name)).rgb});
    chart.rows.push_back(
        {or_unknown(c.name), plural(c.items, "item"), {{static_cast<double>(c.items), chart.series.size() - 1}}});
  }
  return bar_rows(chart);
}

Figure sets_figure(std::uint64_t whole, std::uint64_t incomplete) {
  BarChart chart{.name = "sets",
                 .title = "Games of several discs",
                 .unit = "games",
                 .series = {{"complete", shade(Tone::good).rgb}, {"discs missing", shade(Tone::lost).rgb}},
                 .rows = {}};
  chart.rows.push_back({"complete", plural(whole, "game"), {{static_cast<double>(whole), 0}}});
  chart.rows.push_back({"discs missing", plural(incomplete, "game"), {{static_cast<double>(incomplete), 1}}});
  return bar_rows(chart);
}

void count(std::vector<ShelfCount>& counts, const std::string& name, const ShelfItem& item) {
  auto at = std::find_if(counts.begin(), counts.end(), [&](const ShelfCount& c) { return c.name == name; });
  if (at == counts.end()) at = counts.insert(at, ShelfCount{name, 0, 0, 0});
  ++at->items;
  at->stored_bytes += item.stored_bytes;
  at->content_bytes += item.content_bytes;
}

std::string age_of(const ShelfItem& item, std::int64_t now) {
  constexpr std::int64_t kDay = 86'400;
  if (item.checked_at == 0) return "never";
  const std::int64_t days = (now - item.checked_at) / kDay;
  return days < 7 ? "a week" : days < 30 ? "a month" : days < 365 ? "a year" : "longer";
}

}  // namespace

Figures size_figures(const std::vector<SizeChange>& changes) {
  std::vector<SizeChange> shown = changes;
  std::stable_sort(shown.begin(), shown.end(),
                   [](const SizeChange& a, const SizeChange& b) { return a.before > b.before; });
  if (shown.size() > kMostRows) shown.resize(kMostRows);
  if (shown.empty()) return {};
  std::uint64_t most = 0, before = 0, after = 0;
  for (const SizeChange& c : shown) most = std::max({most, c.before, c.after});
  for (const SizeChange& c : changes) before += c.before, after += c.after;
  const Unit unit = unit_for(most);
  BarChart chart{.name = "sizes",
                 .title = fmt::format("Sizes before and after: {} became {}", human_size(before), human_size(after)),
                 .unit = unit.name,
                 .series = {{"before", series_rgb(7)}, {"after", series_rgb(0)}},
                 .rows = {}};
  for (const SizeChange& c : shown) {
    chart.rows.push_back({c.name, human_size(c.before), {{static_cast<double>(c.before) / unit.bytes, 0}}});
    const double share = c.before == 0 ? 0 : 100.0 * static_cast<double>(c.after) / static_cast<double>(c.before);
    chart.rows.push_back({"",
                          fmt::format("{}, {:.1f} %", human_size(c.after), share),
                          {{static_cast<double>(c.after) / unit.bytes, 1}}});
  }
  return {bar_rows(chart)};
}

Figures shelf_figures(const jobs::ShelfSummary& summary) {
  const ShelfStats& s = summary.stats;
  std::vector<ShelfCount> platforms = s.platforms;
  Figures figures = {composition("platforms", "The shelf by platform", platforms),
                     composition("formats", "The shelf by format", s.formats), space(s.formats), ages_figure(s.ages),
                     verdicts_figure(s.verdicts)};
  if (s.sets > 0) figures.push_back(sets_figure(s.sets - s.incomplete_sets, s.incomplete_sets));
  return figures;
}

Figures shelf_figures(const jobs::ShelfListed& listed) {
  if (listed.ids.empty()) return {};
  ShelfStats stats;
  const std::int64_t now = seconds_now();
  for (const char* age : {"a week", "a month", "a year", "longer", "never"}) stats.ages.push_back({age, 0, 0, 0});
  listed.shelf.each(listed.ids, [&](const ShelfItem& item) {
    count(stats.platforms, item.platform, item);
    count(stats.formats, item.format, item);
    count(stats.verdicts, item.verdict, item);
    count(stats.ages, age_of(item, now), item);
  });
  return {composition("platforms", "These items by platform", stats.platforms), space(stats.formats),
          ages_figure(stats.ages), verdicts_figure(stats.verdicts)};
}

Figures shelf_figures(const jobs::ShelfSetsTold& sets) {
  std::uint64_t incomplete = 0;
  BarChart chart{.name = "discs",
                 .title = "Discs of the sets with gaps",
                 .unit = "discs",
                 .series = {{"here", shade(Tone::good).rgb}, {"missing", shade(Tone::lost).rgb}},
                 .rows = {}};
  for (const ShelfSet& set : sets.sets) {
    if (set.missing.empty()) continue;
    ++incomplete;
    if (chart.rows.size() < kMostRows)
      chart.rows.push_back(
          {set.name,
           fmt::format("{} here, {} missing", set.discs.size(), set.missing.size()),
           {{static_cast<double>(set.discs.size()), 0}, {static_cast<double>(set.missing.size()), 1}}});
  }
  if (sets.sets.empty()) return {};
  Figures figures = {sets_figure(sets.sets.size() - incomplete, incomplete)};
  if (!chart.rows.empty()) figures.push_back(bar_rows(chart));
  return figures;
}

Figures known_figures(const jobs::KnownTold& told) {
  if (told.images.size() < 2) return {};
  std::map<jobs::KnownVerdict, std::uint64_t> counts;
  for (const jobs::KnownImage& image : told.images) ++counts[image.best.verdict];
  BarChart chart{
      .name = "known", .title = "What the lists know of it", .unit = "images and files", .series = {}, .rows = {}};
  for (const auto& [verdict, images] : counts) {
    const std::string word(to_string(verdict));
    const Tone tone = tone_of(word) == Tone::blank ? Tone::unsure : tone_of(word);
    chart.series.push_back({word, shade(tone).rgb});
    chart.rows.push_back({word, grouped(images), {{static_cast<double>(images), chart.series.size() - 1}}});
  }
  return {bar_rows(chart)};
}

Figures missing_figures(const jobs::MissingTold& told) {
  BarChart chart{.name = "sets", .title = "Sets of the list that are here", .unit = "sets", .series = {}, .rows = {}};
  for (const auto& [verdict, sets] : told.match.totals) {
    const std::string word(to_string(verdict));
    const Tone tone = verdict == SetVerdict::complete       ? Tone::good
                      : verdict == SetVerdict::partial      ? Tone::repairable
                      : verdict == SetVerdict::unverifiable ? Tone::unsure
                                                            : Tone::lost;
    chart.series.push_back({word, shade(tone).rgb});
    chart.rows.push_back({word, plural(sets, "set"), {{static_cast<double>(sets), chart.series.size() - 1}}});
  }
  if (chart.rows.empty()) return {};
  return {bar_rows(chart)};
}

}  // namespace opifex::report
