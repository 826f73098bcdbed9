// An image as it is, and what a check found in it.
#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/jobs/check.hpp"
#include "opifex/report/figures.hpp"

#include "sector_figures.hpp"

namespace opifex::report {
namespace {

std::vector<Layer> all_layers(const Image& image, const Identity& id) {
  std::vector<Layer> layers;
  if (image.cd()) layers = layers_of(image.cd()->layout());
  for (Layer& l : layers_of(image, id)) layers.push_back(std::move(l));
  return layers;
}

Tone tone_of_damage(const DamagedRange& range) {
  if (range.repairable) return Tone::repairable;
  switch (range.damage) {
    case cd::Damage::none:
      return Tone::good;
    case cd::Damage::authored:
      return Tone::authored;
    case cd::Damage::placeholder:
    case cd::Damage::missing:
      return Tone::lost;
    case cd::Damage::no_ecc:
    case cd::Damage::parity_only:
    case cd::Damage::damaged:
      return Tone::wrong;
  }
  return Tone::wrong;
}

/// Of all tracks and findings, in order; where they overlap the map shows the worst.
std::vector<ToneRange> damage_of(const CheckResult& result) {
  std::vector<ToneRange> ranges;
  for (const TrackCheck& t : result.tracks)
    for (const DamagedRange& r : t.ranges)
      ranges.push_back({r.first, std::int64_t{r.first} + r.sectors, tone_of_damage(r), ""});
  // Most findings tell of those ranges; of the others the first sector is known.
  const auto told = [&](cd::Lba lba) {
    return std::any_of(ranges.begin(), ranges.end(), [&](const ToneRange& r) { return r.first <= lba && lba < r.end; });
  };
  for (const Finding& f : result.findings)
    if (f.lba && f.severity == Severity::error && !told(*f.lba))
      ranges.push_back(
          {*f.lba, *f.lba + static_cast<std::int64_t>(std::max<std::uint64_t>(1, f.count)), Tone::wrong, ""});
  std::sort(ranges.begin(), ranges.end(), [](const ToneRange& a, const ToneRange& b) { return a.first < b.first; });
  return ranges;
}

/// Something is wrong, and nobody can say where: a bar without damage would be no true picture of it.
bool has_placeless_damage(const CheckResult& result, const std::vector<ToneRange>& damage) {
  if (result.verdict == Verdict::intact) return false;
  if (result.verdict == Verdict::unsupported || damage.empty()) return true;
  return std::any_of(result.findings.begin(), result.findings.end(),
                     [](const Finding& f) { return f.severity == Severity::error && !f.lba; });
}

std::vector<DiscRange> joined_damage(const std::vector<ToneRange>& ranges) {
  std::vector<DiscRange> joined;
  for (const ToneRange& r : ranges) {
    if (r.tone <= Tone::good || r.tone == Tone::authored) continue;
    if (joined.empty() || r.first > joined.back().end) joined.push_back({r.first, r.end});
    joined.back().end = std::max(joined.back().end, r.end);
  }
  return joined;
}

/// Sectors that were looked at, and are not damaged.
std::vector<ToneRange> looked_at(const Image& image, const CheckResult& result, DiscRange disc) {
  std::vector<ToneRange> ranges;
  if (!image.cd()) {
    // Blocks have no checksum of their own: only a container's can say that they are good.
    ranges.push_back({disc.first, disc.end, Tone::unproved, ""});
    return ranges;
  }
  for (const cd::Track& t : image.cd()->layout().tracks) {
    const bool checked = std::any_of(result.tracks.begin(), result.tracks.end(),
                                     [&](const TrackCheck& c) { return c.number == t.number && c.sectors > 0; });
    const bool has_checksums = !t.mode.is_audio() && t.mode.sector_bytes > cd::kUserBytes;
    const Tone tone = !checked ? Tone::untried : has_checksums ? Tone::good : Tone::unproved;
    ranges.push_back({t.pregap_lba, t.end_lba, tone, ""});
  }
  return ranges;
}

}  // namespace

Figures layout_figures(const Image& image, const Identity& id) {
  const auto disc = extent_of(image);
  if (!disc) return {};
  const std::vector<Layer> layers = all_layers(image, id);
  if (layers.empty()) return {};
  return {bar_figure("Layout of " + disc_title(id, image.path.filename().string()), *disc, layers)};
}

Figures check_figures(const jobs::Checked& checked) {
  const auto disc = extent_of(checked.image);
  if (!disc) return {};
  const Identity id = identify_platform(checked.image);
  std::string title = disc_title(id, checked.image.path.filename().string());
  title += ", " + printable(checked.image.path.filename().string());
  const std::vector<ToneRange> damage = damage_of(checked.result);
  const bool placeless = has_placeless_damage(checked.result, damage);
  std::vector<Layer> layers = all_layers(checked.image, id);
  if (!damage.empty() || !placeless) layers.push_back({"damage", damage});
  Figures figures = {bar_figure("Layout of " + title, *disc, layers)};
  figures.back().if_alone = checked.result.verdict == Verdict::intact;
  if (placeless) figures.back().words += " There is damage whose place is not known.";
  const std::vector<DiscRange> hit = joined_damage(damage);
  if (hit.empty()) return figures;
  std::vector<ToneRange> map = looked_at(checked.image, checked.result, *disc);
  const std::vector<Mark> marks = checked.image.cd() ? marks_of(checked.image.cd()->layout()) : std::vector<Mark>{};
  map.insert(map.end(), damage.begin(), damage.end());
  figures.push_back(map_figure("Sectors of " + title, *disc, map, marks));
  for (Figure& f : suffered_figures(title, FileMap(checked.image).suffered(hit))) figures.push_back(std::move(f));
  return figures;
}

}  // namespace opifex::report
