#include "opifex/core/check/rescue.hpp"

#include <algorithm>
#include <array>
#include <cstring>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/check/combine.hpp"

namespace opifex {
namespace {

using cd::Lba;

constexpr std::byte kFill{0x55};
constexpr int kMostShift = 5000;  // samples
constexpr std::int64_t kSampleBytes = 4;

struct Choice {
  RescueHow how = RescueHow::lost;
  std::vector<std::size_t> inputs = {};
};

bool filled(ByteView bytes) {
  return std::all_of(bytes.begin(), bytes.end(), [](std::byte b) { return b == kFill; });
}

/// The inputs, and what is decided about each sector. Immutable once made: read from many threads.
class Joiner {
 public:
  explicit Joiner(std::vector<RescueInput> inputs) : inputs_(std::move(inputs)), shifts_(inputs_.size(), 0) {
    blocks_ = inputs_[0].image.blocks != nullptr;
    size_ = blocks_ ? cd::kUserBytes : cd::kRawBytes;
  }

  bool blocks() const { return blocks_; }
  std::size_t sector_bytes() const { return size_; }
  const std::vector<RescueInput>& inputs() const { return inputs_; }
  const std::vector<int>& shifts() const { return shifts_; }
  /// What the input's own dump knew of the sector; `outside` if it left no map.
  SectorState state(std::size_t input, Lba lba) const {
    return inputs_[input].map ? inputs_[input].map->map.at(lba) : SectorState::outside;
  }
  const cd::Layout& layout() const { return inputs_[0].image.cd->layout(); }
  bool is_audio(Lba lba) const {
    if (blocks_) return false;
    const cd::Track* t = layout().track_at(lba);
    return t && t->mode.is_audio();
  }

  /// Sectors of one kind from one input.
  void read(std::size_t input, Lba lba, std::uint32_t count, std::span<std::byte> out) const {
    const Image& image = inputs_[input].image;
    if (blocks_) return image.blocks->read_at(static_cast<std::uint64_t>(lba) * size_, out);
    const std::int64_t shift = shifts_[input] * kSampleBytes;
    if (shift == 0 || !is_audio(lba)) return image.cd->read(SectorForm::raw, lba, count, out);
    constexpr std::int64_t kRaw = static_cast<std::int64_t>(cd::kRawBytes);
    const std::int64_t from = std::int64_t{lba} * kRaw + shift, to = from + count * kRaw;
    std::fill(out.begin(), out.end(), std::byte{0});
    for (std::int64_t s = from / kRaw - 1; s <= to / kRaw; ++s) {
      const std::int64_t begin = std::max(from, s * kRaw), end = std::min(to, (s + 1) * kRaw);
      const auto at = static_cast<Lba>(s);
      if (begin >= end || at < 0 || !is_audio(at)) continue;
      cd::Sector sector;
      image.cd->read_sector(at, sector);
      std::copy(sector.begin() + (begin - s * kRaw), sector.begin() + (end - s * kRaw), out.begin() + (begin - from));
    }
  }

  /// `sectors` holds the sector of every input, one behind the other.
  Choice decide(Lba lba, std::span<const ByteView> sectors, cd::Sector& out) const {
    std::vector<Reading> readings;
    std::vector<std::size_t> owners;
    for (std::size_t i = 0; i < sectors.size(); ++i) {
      if (!has(i, lba, sectors[i])) continue;
      Reading r;
      std::copy(sectors[i].begin(), sectors[i].end(), r.bytes.begin());
      if (const auto& map = inputs_[i].map)
        if (const auto flags = map->suspect_bytes.find(lba); flags != map->suspect_bytes.end() && shifts_[i] == 0)
          r.flagged = flags->second;
      readings.push_back(std::move(r));
      owners.push_back(i);
    }
    if (readings.empty()) return {};
    const bool audio = is_audio(lba), proof = !blocks_ && !audio;
    CombinedSector joined = proof ? combine_data(readings, lba) : combine_without_proof(readings, owners, lba);
    if (joined.how == Combining::none) return {};
    out = joined.bytes;
    Choice choice{how_of(joined, readings.size()), {}};
    for (const std::size_t giver : joined.givers) choice.inputs.push_back(owners[giver]);
    return choice;
  }

  /// By how much the music of each input lies behind the first's.
  void align() {
    if (blocks_ || layout().audio_track_count() == 0) return;
    for (std::size_t i = 1; i < inputs_.size(); ++i) shifts_[i] = shift_of(i);
  }

 private:
  /// False if the input only holds a place for the sector.
  bool has(std::size_t input, Lba lba, ByteView bytes) const {
    const SectorState s = state(input, lba);
    if (s == SectorState::unreadable || s == SectorState::hang || s == SectorState::untried) return false;
    if (blocks_) return !filled(bytes);
    if (is_audio(lba)) return true;
    return !filled(bytes.subspan(cd::kMode2UserAt)) && !all_zero(bytes);
  }

  CombinedSector combine_without_proof(std::span<const Reading> readings, const std::vector<std::size_t>& owners,
                                       Lba lba) const {
    const bool equal =
        std::all_of(readings.begin(), readings.end(), [&](const Reading& r) { return r.bytes == readings[0].bytes; });
    CombinedSector result{Combining::unsure, readings[0].bytes, {}};
    if (equal) {
      for (std::size_t i = 0; i < readings.size(); ++i) result.givers.push_back(i);
      const bool confirmed = std::any_of(owners.begin(), owners.end(), [&](std::size_t i) {
        const SectorState s = state(i, lba);
        return s == SectorState::audio_confirmed || s == SectorState::good || s == SectorState::retried;
      });
      if (readings.size() > 1 || confirmed || blocks_) result.how = Combining::as_read;
      return result;
    }
    if (!blocks_) {
      // A reading that its own dump confirmed outweighs one that it did not.
      std::vector<Reading> confirmed;
      for (std::size_t i = 0; i < readings.size(); ++i)
        if (state(owners[i], lba) == SectorState::audio_confirmed) confirmed.push_back(readings[i]);
      const bool alone = !confirmed.empty() && std::all_of(confirmed.begin(), confirmed.end(), [&](const Reading& r) {
        return r.bytes == confirmed[0].bytes;
      });
      CombinedSector joined =
          alone ? CombinedSector{Combining::as_read, confirmed[0].bytes, {}} : combine_audio(readings);
      joined.givers.clear();
      for (std::size_t i = 0; i < readings.size(); ++i)
        if (readings[i].bytes == joined.bytes) joined.givers.push_back(i);
      return joined;
    }
    // Blocks that were both read without an error and still differ: the more frequent, then the smaller.
    std::map<cd::Sector, std::vector<std::size_t>> groups;
    for (std::size_t i = 0; i < readings.size(); ++i) groups[readings[i].bytes].push_back(i);
    const auto best = std::max_element(groups.begin(), groups.end(),
                                       [](const auto& a, const auto& b) { return a.second.size() < b.second.size(); });
    return {Combining::conflict, best->first, best->second};
  }

  RescueHow how_of(const CombinedSector& joined, std::size_t readings) const {
    switch (joined.how) {
      case Combining::as_read:
        return joined.givers.size() == inputs_.size() && readings == inputs_.size() ? RescueHow::agreed
                                                                                    : RescueHow::taken;
      case Combining::repaired:
        return RescueHow::repaired;
      case Combining::combined:
        return RescueHow::combined;
      case Combining::conflict:
        return RescueHow::conflict;
      case Combining::unsure:
        return RescueHow::unsure;
      case Combining::none:
        return RescueHow::lost;
    }
    return RescueHow::lost;
  }

  /// A few sectors of the first input's music are looked for in the other's.
  int shift_of(std::size_t input) const {
    std::map<int, int> votes;
    constexpr int kProbes = 24;
    for (const cd::Track& t : layout().tracks) {
      if (!t.mode.is_audio()) continue;
      for (int p = 1; p <= kProbes; ++p) {
        const Lba lba = t.start_lba + static_cast<Lba>(std::int64_t{t.length()} * p / (kProbes + 1));
        if (const auto shift = shift_at(input, lba)) ++votes[*shift];
      }
    }
    const auto best =
        std::max_element(votes.begin(), votes.end(), [](const auto& a, const auto& b) { return a.second < b.second; });
    return best == votes.end() ? 0 : best->first;
  }

  std::optional<int> shift_at(std::size_t input, Lba lba) const {
    constexpr Lba kAround = 9;                // sectors: 5000 samples and some
    constexpr std::size_t kNeedle = 588 * 2;  // half a sector
    if (!is_audio(lba - kAround) || !is_audio(lba + kAround)) return std::nullopt;
    cd::Sector reference;
    inputs_[0].image.cd->read_sector(lba, reference);
    const ByteView needle = ByteView(reference).first(kNeedle);
    if (std::equal(needle.begin() + kSampleBytes, needle.end(), needle.begin())) return std::nullopt;  // one value
    Bytes stream((2 * kAround + 1) * cd::kRawBytes);
    inputs_[input].image.cd->read(SectorForm::raw, lba - kAround, 2 * kAround + 1, stream);
    constexpr std::size_t kExpected = static_cast<std::size_t>(kAround) * cd::kRawBytes;
    for (int off = 0; off <= kMostShift; ++off)
      for (const int sign : {1, -1}) {
        const std::ptrdiff_t at = static_cast<std::ptrdiff_t>(kExpected) + sign * off * kSampleBytes;
        if (std::memcmp(stream.data() + at, needle.data(), needle.size()) == 0) return sign * off;
      }
    return std::nullopt;
  }

  std::vector<RescueInput> inputs_;
  std::vector<int> shifts_;
  bool blocks_ = false;
  std::size_t size_ = 0;
};

[[noreturn]] void different(const Joiner& j, std::size_t input, std::string found, std::string expected) {
  throw Error({.code = "different_discs",
               .what = "these are not dumps of the same disc",
               .file = j.inputs()[input].image.path.string(),
               .found = std::move(found),
               .expected = std::move(expected) + " as in " + j.inputs()[0].image.path.string(),
               .hint = "only dumps of one pressing can be joined"});
}

void compare_layouts(const Joiner& j) {
  for (std::size_t i = 1; i < j.inputs().size(); ++i) {
    const Image &a = j.inputs()[0].image, &b = j.inputs()[i].image;
    if ((a.blocks != nullptr) != (b.blocks != nullptr))
      different(j, i, std::string(b.format->id), std::string(a.format->id));
    if (j.blocks()) {
      if (a.blocks->size() != b.blocks->size())
        different(j, i, fmt::format("{} bytes", b.blocks->size()), fmt::format("{}", a.blocks->size()));
      continue;
    }
    const auto &x = a.cd->layout(), &y = b.cd->layout();
    if (x.tracks.size() != y.tracks.size())
      different(j, i, fmt::format("{} tracks", y.tracks.size()), fmt::format("{}", x.tracks.size()));
    for (std::size_t t = 0; t < x.tracks.size(); ++t) {
      const cd::Track &p = x.tracks[t], &q = y.tracks[t];
      if (p.mode.is_audio() != q.mode.is_audio() || p.start_lba != q.start_lba)
        different(j, i, fmt::format("track {} {} at LBA {}", q.number, cd::to_string(q.mode), q.start_lba),
                  fmt::format("{} at LBA {}", cd::to_string(p.mode), p.start_lba));
      if (p.end_lba != q.end_lba && t + 1 == x.tracks.size())
        different(j, i, fmt::format("an end at LBA {}", q.end_lba), fmt::format("LBA {}", p.end_lba));
    }
  }
}

/// Runs of sectors that the first input stores, of one kind.
struct Run {
  Lba first, end;
};
std::vector<Run> runs_of(const Joiner& j) {
  if (j.blocks()) {
    constexpr std::uint64_t kMost = 0x7FFFFFFF;
    const std::uint64_t n = std::min(j.inputs()[0].image.blocks->size() / cd::kUserBytes, kMost);
    return {{0, static_cast<Lba>(n)}};
  }
  std::vector<Run> runs;
  for (const Extent& e : j.inputs()[0].image.cd->extents()) runs.push_back({e.lba, e.end()});
  return runs;
}

SectorState state_of(RescueHow how, bool audio) {
  switch (how) {
    case RescueHow::agreed:
    case RescueHow::taken:
      return audio ? SectorState::audio_confirmed : SectorState::good;
    case RescueHow::repaired:
      return SectorState::repaired;
    case RescueHow::combined:
      return SectorState::combined;
    case RescueHow::unsure:
      return SectorState::audio_unsure;
    case RescueHow::conflict:
      return SectorState::good;
    case RescueHow::lost:
      return SectorState::unreadable;
  }
  return SectorState::unreadable;
}

/// The result, decided anew for each sector that the inputs do not agree on: nothing of it is held in memory.
class JoinedSource final : public ByteSource {
 public:
  JoinedSource(std::shared_ptr<const Joiner> joiner, Lba first, Lba end,
               std::shared_ptr<const std::vector<RescueRange>> ranges)
      : joiner_(std::move(joiner)), first_(first), end_(end), ranges_(std::move(ranges)) {}
  std::uint64_t size() const override { return static_cast<std::uint64_t>(end_ - first_) * joiner_->sector_bytes(); }
  std::string name() const override { return "the joined dumps"; }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    const std::size_t size = joiner_->sector_bytes();
    while (!out.empty()) {
      const Lba lba = first_ + static_cast<Lba>(offset / size);
      const auto inside = static_cast<std::size_t>(offset % size);
      const RescueRange& range = range_at(lba);
      const auto run = static_cast<std::uint32_t>(
          std::min<std::uint64_t>(out.size() / size, static_cast<std::uint64_t>(range.end - lba)));
      if (inside == 0 && run > 0 && !range.inputs.empty()) {
        joiner_->read(range.inputs.front(), lba, run, out.first(run * size));
        out = out.subspan(run * size);
        offset += run * size;
        continue;
      }
      Bytes sector(size);
      make(lba, range, sector);
      const std::size_t n = std::min(out.size(), size - inside);
      std::copy_n(sector.begin() + static_cast<std::ptrdiff_t>(inside), n, out.begin());
      out = out.subspan(n);
      offset += n;
    }
  }

 private:
  const RescueRange& range_at(Lba lba) const {
    const auto after = std::upper_bound(ranges_->begin(), ranges_->end(), lba,
                                        [](Lba at, const RescueRange& r) { return at < r.first; });
    return *std::prev(after);
  }
  void make(Lba lba, const RescueRange& range, std::span<std::byte> out) const {
    if (!range.inputs.empty()) return joiner_->read(range.inputs.front(), lba, 1, out);
    if (range.how == RescueHow::lost) {
      const bool audio = joiner_->is_audio(lba);
      std::fill(out.begin(), out.end(), audio ? std::byte{0} : kFill);
      if (joiner_->blocks() || audio) return;
      const bool mode1 = joiner_->layout().track_at(lba)->mode.kind == cd::TrackMode::Kind::mode1;
      return cd::put_header(cd::SectorSpan(out), lba, mode1 ? 1 : 2);
    }
    std::vector<Bytes> sectors(joiner_->inputs().size(), Bytes(out.size()));
    std::vector<ByteView> views;
    for (std::size_t i = 0; i < sectors.size(); ++i) {
      joiner_->read(i, lba, 1, sectors[i]);
      views.emplace_back(sectors[i]);
    }
    cd::Sector decided{};
    joiner_->decide(lba, views, decided);
    std::copy_n(decided.begin(), out.size(), out.begin());
  }

  std::shared_ptr<const Joiner> joiner_;
  Lba first_, end_;
  std::shared_ptr<const std::vector<RescueRange>> ranges_;
};

/// Sectors that two inputs both prove, and in how many of them they differ.
struct Likeness {
  std::uint64_t compared = 0, different = 0;
  std::optional<Lba> first = {};
  std::uint64_t music = 0, same_music = 0;  // sectors that are not silent
};

}  // namespace

std::string_view to_string(RescueHow how) {
  constexpr std::array<std::string_view, 7> kNames = {"agreed", "taken",    "repaired", "combined",
                                                      "unsure", "conflict", "lost"};
  return kNames[static_cast<std::size_t>(how)];
}

std::uint64_t RescueResult::count(RescueHow how) const {
  std::uint64_t n = 0;
  for (const RescueRange& r : ranges)
    if (r.how == how) n += static_cast<std::uint64_t>(r.end - r.first);
  return n;
}

std::optional<SectorMapFile> find_sector_map(const Image& image) {
  std::filesystem::path path = image.path;
  path.replace_extension(".opifex-map");
  std::error_code ignored;
  if (!std::filesystem::exists(path, ignored)) return std::nullopt;
  const SourcePtr file = open_file(path);
  return parse_sector_map(as_text(read_up_to(*file, 0, kMaxSectorMapBytes)), path.string());
}

RescueResult plan_rescue(std::vector<RescueInput> inputs, Work& work) {
  if (inputs.size() < 2)
    throw Error({.fault = Fault::usage, .code = "usage", .what = "rescue needs at least two dumps of the same disc"});
  const Image first = inputs[0].image;
  auto joiner = std::make_shared<Joiner>(std::move(inputs));
  compare_layouts(*joiner);
  if (!joiner->blocks())
    for (const cd::Track& t : joiner->layout().tracks)
      if (t.mode.kind == cd::TrackMode::Kind::cdg)
        throw Error({.code = "unsupported",
                     .what = "tracks with subchannel (CD+G) cannot be joined yet",
                     .file = first.path.string()});
  joiner->align();

  RescueResult result;
  result.shifts = joiner->shifts();
  result.only_from.assign(joiner->inputs().size(), 0);
  const std::vector<Run> runs = runs_of(*joiner);
  result.map = SectorMap(runs.front().first, runs.back().end);
  const std::size_t size = joiner->sector_bytes(), count = joiner->inputs().size();
  // Blocks of the flow: sectors of one run, of all inputs one behind the other.
  const auto batch = static_cast<std::uint32_t>(kFlowBlockBytes / size / count);
  std::vector<Run> batches;
  for (const Run& run : runs)
    for (Lba at = run.first; at < run.end;) {
      Lba end = std::min(run.end, at + static_cast<Lba>(std::max(1u, batch)));
      if (!joiner->blocks()) {  // one kind only
        Lba same = at + 1;
        while (same < end && joiner->is_audio(same) == joiner->is_audio(at)) ++same;
        end = same;
      }
      batches.push_back({at, end});
      at = end;
    }
  struct Decision {
    std::vector<RescueRange> ranges;
    std::vector<Likeness> likeness;
  };
  std::vector<Decision> decisions(2 * kBlocksInFlight);
  std::vector<Likeness> likeness(count);
  std::uint64_t total = 0;
  for (const Run& run : runs) total += static_cast<std::uint64_t>(run.end - run.first) * size * count;
  work.progress.begin("comparing the dumps", total);
  Flow flow;
  flow.next = [&](FlowBlock& block) {
    if (block.index >= batches.size()) return false;
    const Run& b = batches[block.index];
    block.data.resize(static_cast<std::size_t>(b.end - b.first) * size * count);
    return true;
  };
  flow.work = [&](FlowBlock& block) {
    const Run& b = batches[block.index];
    Decision& decision = decisions[block.index % decisions.size()];
    decision = {{}, std::vector<Likeness>(count)};
    const auto n = static_cast<std::uint32_t>(b.end - b.first);
    const std::span data(block.data);
    for (std::size_t i = 0; i < count; ++i) joiner->read(i, b.first, n, data.subspan(i * n * size, n * size));
    std::vector<ByteView> views(count);
    for (std::uint32_t s = 0; s < n; ++s) {
      const Lba lba = b.first + static_cast<Lba>(s);
      for (std::size_t i = 0; i < count; ++i) views[i] = data.subspan((i * n + s) * size, size);
      cd::Sector out{};
      const Choice choice = joiner->decide(lba, views, out);
      if (!decision.ranges.empty() && decision.ranges.back().how == choice.how &&
          decision.ranges.back().inputs == choice.inputs)
        decision.ranges.back().end = lba + 1;
      else
        decision.ranges.push_back({lba, lba + 1, choice.how, choice.inputs});
      const bool audio = joiner->is_audio(lba);
      for (std::size_t i = 1; i < count; ++i) {
        Likeness& like = decision.likeness[i];
        const bool same = std::equal(views[0].begin(), views[0].end(), views[i].begin());
        // Does this input claim to have read the sector right?
        const auto known = [&](std::size_t k) {
          if (audio) return joiner->state(k, lba) == SectorState::audio_confirmed && joiner->shifts()[k] == 0;
          if (joiner->blocks()) return choice.how == RescueHow::conflict;
          return proves_itself(cd::SectorView(views[k]), lba);
        };
        if (audio && !all_zero(views[0])) {
          ++like.music;
          like.same_music += same ? 1u : 0u;
        }
        if (!same && !(known(0) && known(i))) continue;
        ++like.compared;
        if (same) continue;
        ++like.different;
        if (!like.first) like.first = lba;
      }
    }
  };
  flow.consume.emplace_back([&](const FlowBlock& block) {
    Decision& decision = decisions[block.index % decisions.size()];
    for (RescueRange& r : decision.ranges) {
      result.map.set(r.first, r.end, state_of(r.how, joiner->is_audio(r.first)));
      if (r.inputs.size() == 1) result.only_from[r.inputs.front()] += static_cast<std::uint64_t>(r.end - r.first);
      auto& ranges = result.ranges;
      if (!ranges.empty() && ranges.back().end == r.first && ranges.back().how == r.how &&
          ranges.back().inputs == r.inputs)
        ranges.back().end = r.end;
      else
        ranges.push_back(std::move(r));
    }
    for (std::size_t i = 1; i < count; ++i) {
      likeness[i].compared += decision.likeness[i].compared;
      likeness[i].different += decision.likeness[i].different;
      likeness[i].music += decision.likeness[i].music;
      likeness[i].same_music += decision.likeness[i].same_music;
      if (!likeness[i].first) likeness[i].first = decision.likeness[i].first;
    }
    work.progress.done_bytes += block.data.size();
  });
  run_flow(flow, work);
  // One pressing: of what both know, at least 999 in 1000 sectors are the same.
  for (std::size_t i = 1; i < count; ++i)
    if (likeness[i].different * 1000 > likeness[i].compared)
      different(
          *joiner, i,
          fmt::format("{} of {} sectors that both have differ, the first at LBA {}", grouped(likeness[i].different),
                      grouped(likeness[i].compared), likeness[i].first.value_or(0)),
          "the same sectors");
  // Music proves nothing by itself, but most of it must be the same.
  for (std::size_t i = 1; i < count; ++i)
    if (likeness[i].same_music * 2 < likeness[i].music)
      different(*joiner, i,
                fmt::format("{} of {} sectors of music are the same", grouped(likeness[i].same_music),
                            grouped(likeness[i].music)),
                "most of them");
  for (std::size_t i = 1; i < count; ++i)
    if (result.shifts[i] != 0)
      result.warnings.push_back(
          {"music_shifted", fmt::format("the music of {} lies {} samples off the first dump's; it was aligned",
                                        joiner->inputs()[i].image.path.string(), result.shifts[i])});

  const auto ranges = std::make_shared<const std::vector<RescueRange>>(result.ranges);
  result.image.format = first.format;
  result.image.path = first.path;
  result.image.files = first.files;  // so that no input can be overwritten
  for (std::size_t i = 1; i < count; ++i)
    for (const ImageFile& f : joiner->inputs()[i].image.files) result.image.files.push_back(f);
  if (joiner->blocks()) {
    result.image.blocks = std::make_shared<JoinedSource>(joiner, runs[0].first, runs[0].end, ranges);
    return result;
  }
  std::vector<Extent> extents;
  for (const Extent& e : first.cd->extents()) {
    Extent raw = e;
    raw.form = StoredForm::raw;
    raw.swapped = raw.scrambled = false;
    raw.offset = 0;
    raw.source = std::make_shared<JoinedSource>(joiner, e.lba, e.end(), ranges);
    extents.push_back(std::move(raw));
  }
  cd::Layout layout = first.cd->layout();
  for (cd::Track& t : layout.tracks) t.mode.sector_bytes = cd::kRawBytes;
  result.image.cd = std::make_shared<CdImage>(std::move(layout), std::move(extents));
  return result;
}

}  // namespace opifex
