#include "opifex/core/check/rescue.hpp"

#include <algorithm>
#include <array>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/text.hpp"

#include "joined_source.hpp"
#include "joiner.hpp"

namespace opifex {
namespace {

using cd::Lba;

[[noreturn]] void different(const Joiner& j, std::size_t input, std::string found, std::string expected) {
  throw Error({.code = "different_discs",
               .what = "these are not dumps of the same disc",
               .file = j.inputs()[input].image.path.string(),
               .found = std::move(found),
               .expected = std::move(expected) + " as in " + j.whole().image.path.string(),
               .hint = "only dumps of one pressing can be joined"});
}

void compare_layouts(const Joiner& j) {
  for (std::size_t i = 0; i < j.inputs().size(); ++i) {
    const Image &a = j.whole().image, &b = j.inputs()[i].image;
    if ((a.blocks() != nullptr) != (b.blocks() != nullptr))
      different(j, i, std::string(b.format->id), std::string(a.format->id));
    if (j.blocks()) {
      continue;  // a shorter one was cut off: its good part is of use
    }
    const auto &x = a.cd()->layout(), &y = b.cd()->layout();
    const bool cut_off = y.lead_out < x.lead_out;
    if (x.tracks.size() < y.tracks.size() || (x.tracks.size() != y.tracks.size() && !cut_off))
      different(j, i, fmt::format("{} tracks", y.tracks.size()), fmt::format("{}", x.tracks.size()));
    for (std::size_t t = 0; t < y.tracks.size(); ++t) {
      const cd::Track &p = x.tracks[t], &q = y.tracks[t];
      if (p.mode.is_audio() != q.mode.is_audio() || p.start_lba != q.start_lba)
        different(j, i, fmt::format("track {} {} at LBA {}", q.number, cd::to_string(q.mode), q.start_lba),
                  fmt::format("{} at LBA {}", cd::to_string(p.mode), p.start_lba));
      if (p.end_lba != q.end_lba && t + 1 == x.tracks.size() && !cut_off)
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
    const std::uint64_t n = std::min(j.whole().image.blocks()->size() / cd::kUserBytes, kMost);
    return {{0, static_cast<Lba>(n)}};
  }
  std::vector<Run> runs;
  for (const Extent& e : j.whole().image.cd()->extents()) runs.push_back({e.lba, e.end()});
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
      return SectorState::bad_edc;  // one of the two is wrong, and nobody knows which
    case RescueHow::lost:
      return SectorState::unreadable;
  }
  return SectorState::unreadable;
}

bool mostly_equal(ByteView a, ByteView b) {
  std::size_t equal = 0;
  for (std::size_t i = 0; i < a.size(); ++i) equal += a[i] == b[i] ? 1u : 0u;
  return equal * 2 > a.size();
}

/// Sectors that two inputs both prove, and in how many of them they differ.
struct Likeness {
  std::uint64_t compared = 0, different = 0;
  std::optional<Lba> first = {};
  std::uint64_t music = 0, same_music = 0;  // sectors that are not silent
};

void add(Likeness& sum, const Likeness& part) {
  sum.compared += part.compared;
  sum.different += part.different;
  sum.music += part.music;
  sum.same_music += part.same_music;
  if (!sum.first) sum.first = part.first;
}

/// Appends a range, or lets the last one grow if it goes on.
void append(std::vector<RescueRange>& ranges, RescueRange range) {
  if (!ranges.empty() && ranges.back().end == range.first && ranges.back().how == range.how &&
      ranges.back().inputs == range.inputs)
    ranges.back().end = range.end;
  else
    ranges.push_back(std::move(range));
}

/// One pass over all inputs side by side: every sector is decided, and the inputs are held against the first.
class Reconciler {
 public:
  Reconciler(std::shared_ptr<const Joiner> joiner, JobContext& context)
      : joiner_(std::move(joiner)),
        context_(context),
        size_(joiner_->sector_bytes()),
        count_(joiner_->inputs().size()) {
    likeness_.resize(count_);
    runs_ = runs_of(*joiner_);
    for (const Run& run : runs_) cut(run);
  }

  const std::vector<Run>& runs() const { return runs_; }

  void run(RescueResult& result) {
    result.only_from.assign(count_, 0);
    result.map = SectorMap(runs_.front().first, runs_.back().end);
    std::uint64_t total = 0;
    for (const Run& run : runs_) total += static_cast<std::uint64_t>(run.end - run.first) * size_ * count_;
    context_.progress.begin("comparing the dumps", total);
    FlowOf<Decision> flow;
    flow.next = [&](Block& block) {
      if (block.index >= batches_.size()) return false;
      const Run& b = batches_[block.index];
      block.data.resize(static_cast<std::size_t>(b.end - b.first) * size_ * count_);
      return true;
    };
    flow.work = [&](Block& block) { decide(block); };
    flow.consume.emplace_back([&](Block& block) { collect(block, result); });
    run_flow(flow, context_);
  }

  /// Error "different_discs".
  void expect_one_pressing() const {
    for (std::size_t i = 1; i < count_; ++i) {
      const Likeness& like = likeness_[i];
      // Of what both know, at least 999 in 1000 sectors are the same.
      if (like.different * 1000 > like.compared)
        different(*joiner_, i,
                  fmt::format("{} of {} sectors that both have differ, the first at LBA {}", grouped(like.different),
                              grouped(like.compared), like.first.value_or(0)),
                  "the same sectors");
      // Music proves nothing by itself, but most of it must be the same.
      if (like.same_music * 2 < like.music)
        different(*joiner_, i,
                  fmt::format("{} of {} sectors of music are the same", grouped(like.same_music), grouped(like.music)),
                  "most of them");
    }
  }

 private:
  struct Decision {
    std::vector<RescueRange> ranges;
    std::vector<Likeness> likeness;
  };
  using Block = FlowOf<Decision>::Block;

  /// Into blocks of the flow: sectors of one run and kind, of all inputs one behind the other.
  void cut(const Run& run) {
    const auto most = std::max<Lba>(1, static_cast<Lba>(kFlowBlockBytes / size_ / count_));
    for (Lba at = run.first; at < run.end;) {
      const Lba limit = std::min(run.end, at + most);
      Lba end = at + 1;
      while (end < limit && joiner_->is_audio(end) == joiner_->is_audio(at)) ++end;
      batches_.push_back({at, end});
      at = end;
    }
  }

  void decide(Block& block) {
    const Run& b = batches_[block.index];
    Decision& decision = block.carried;
    decision = {{}, std::vector<Likeness>(count_)};
    const auto n = static_cast<std::uint32_t>(b.end - b.first);
    const std::span data(block.data);
    for (std::size_t i = 0; i < count_; ++i) joiner_->read(i, b.first, n, data.subspan(i * n * size_, n * size_));
    std::vector<ByteView> views(count_);
    for (std::uint32_t s = 0; s < n; ++s) {
      const Lba lba = b.first + static_cast<Lba>(s);
      for (std::size_t i = 0; i < count_; ++i) views[i] = data.subspan((i * n + s) * size_, size_);
      cd::Sector out{};
      SectorOrigin choice = joiner_->decide(lba, views, out);
      for (std::size_t i = 1; i < count_; ++i) compare(i, lba, views, choice.how, decision.likeness[i]);
      append(decision.ranges, {lba, lba + 1, choice.how, std::move(choice.inputs)});
    }
  }

  void compare(std::size_t input, Lba lba, std::span<const ByteView> views, RescueHow how, Likeness& like) const {
    const bool audio = joiner_->is_audio(lba);
    const bool same = std::equal(views[0].begin(), views[0].end(), views[input].begin());
    if (audio && !all_zero(views[0])) {
      // A few wrong samples here and there are damage, not another disc.
      ++like.music;
      like.same_music += same || mostly_equal(views[0], views[input]) ? 1u : 0u;
    }
    // Does this input claim to have read the sector right?
    const auto known = [&](std::size_t k) {
      if (audio) return joiner_->state(k, lba) == SectorState::audio_confirmed && joiner_->shifts()[k] == 0;
      if (joiner_->blocks()) return how == RescueHow::conflict;
      return proves_itself(cd::SectorView(views[k]), lba);
    };
    if (!same && !(known(0) && known(input))) return;
    ++like.compared;
    if (same) return;
    ++like.different;
    if (!like.first) like.first = lba;
  }

  void collect(Block& block, RescueResult& result) {
    Decision& decision = block.carried;
    for (RescueRange& r : decision.ranges) {
      result.map.set(r.first, r.end, state_of(r.how, joiner_->is_audio(r.first)));
      if (r.inputs.size() == 1) result.only_from[r.inputs.front()] += static_cast<std::uint64_t>(r.end - r.first);
      append(result.ranges, std::move(r));
    }
    for (std::size_t i = 1; i < count_; ++i) add(likeness_[i], decision.likeness[i]);
    context_.progress.done_bytes += block.data.size();
  }

  std::shared_ptr<const Joiner> joiner_;
  JobContext& context_;
  std::size_t size_, count_;
  std::vector<Run> runs_, batches_;
  std::vector<Likeness> likeness_;  // of each input to the first
};

void expect_joinable(const Joiner& joiner) {
  compare_layouts(joiner);
  if (joiner.blocks()) return;
  for (const cd::Track& t : joiner.layout().tracks)
    if (t.mode.kind == cd::TrackMode::Kind::cdg)
      throw Error({.code = "unsupported",
                   .what = "tracks with subchannel (CD+G) cannot be joined yet",
                   .file = joiner.inputs()[0].image.path.string()});
}

Image joined_image(const std::shared_ptr<const Joiner>& joiner, const std::vector<Run>& runs,
                   std::vector<RescueRange> decided) {
  const auto ranges = std::make_shared<const std::vector<RescueRange>>(std::move(decided));
  const Image& first = joiner->whole().image;
  Image image;
  image.format = first.format;
  image.path = first.path;
  // So that no input can be overwritten.
  for (const RescueInput& input : joiner->inputs())
    image.files.insert(image.files.end(), input.image.files.begin(), input.image.files.end());
  if (joiner->blocks()) {
    image.content = BlockContent{.bytes = std::make_shared<JoinedSource>(joiner, runs[0].first, runs[0].end, ranges)};
    return image;
  }
  std::vector<Extent> extents;
  for (const Extent& e : first.cd()->extents()) {
    Extent raw = e;
    raw.form = StoredForm::raw;
    raw.swapped = raw.scrambled = false;
    raw.offset = 0;
    raw.source = std::make_shared<JoinedSource>(joiner, e.lba, e.end(), ranges);
    extents.push_back(std::move(raw));
  }
  cd::Layout layout = first.cd()->layout();
  for (cd::Track& t : layout.tracks) t.mode.sector_bytes = cd::kRawBytes;
  image.content = CdContent{std::make_shared<CdImage>(std::move(layout), std::move(extents))};
  return image;
}

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
  try {
    return parse_sector_map(as_text(read_up_to(*file, 0, kMaxSectorMapBytes)), path.string());
  } catch (const Error& e) {
    ErrorDetails details = e.details;
    details.hint = "without it the dump counts as whole: move it away only if it does not belong to this dump";
    throw Error(std::move(details));
  }
}

namespace {

/// One dump twice, or a copy of it, would confirm its own mistakes.
void refuse_same_dump(const std::vector<RescueInput>& inputs) {
  const auto begun = [](const RescueInput& i) { return i.map ? i.map->fact("begun") : std::string{}; };
  for (std::size_t b = 1; b < inputs.size(); ++b)
    for (std::size_t a = 0; a < b; ++a) {
      std::error_code ignored;
      const auto &x = inputs[a].image, &y = inputs[b].image;
      const bool one_file = std::filesystem::equivalent(x.path, y.path, ignored) ||
                            (!x.files.empty() && !y.files.empty() &&
                             std::filesystem::equivalent(x.files.front().path, y.files.front().path, ignored));
      if (!one_file && (begun(inputs[a]).empty() || begun(inputs[a]) != begun(inputs[b]))) continue;
      throw Error({.fault = Fault::usage,
                   .code = "same_dump",
                   .what = "the same dump is given twice: it cannot confirm itself",
                   .file = y.path.string(),
                   .found = x.path.string(),
                   .hint = "give two dumps that were read from the disc one after the other"});
    }
}

}  // namespace

RescueResult plan_rescue(std::vector<RescueInput> inputs, JobContext& context) {
  if (inputs.size() < 2)
    throw Error({.fault = Fault::usage, .code = "usage", .what = "rescue needs at least two dumps of the same disc"});
  for (const RescueInput& input : inputs)
    if (!input.image.cd() && !input.image.blocks())
      throw Error({.code = "no_disc",
                   .what = "this is no disc whose sectors could be joined with those of another dump",
                   .file = input.image.path.string(),
                   .hint = "<job check> says what is wrong with each"});
  refuse_same_dump(inputs);
  const auto joiner = std::make_shared<Joiner>(std::move(inputs));
  expect_joinable(*joiner);
  joiner->align();

  RescueResult result;
  result.shifts = joiner->shifts();
  Reconciler comparison(joiner, context);
  comparison.run(result);
  comparison.expect_one_pressing();
  for (std::size_t i = 0; i < result.shifts.size(); ++i)
    if (result.shifts[i] != 0)
      result.warnings.push_back(
          {"music_shifted", fmt::format("the music of {} lies {} samples off that of {}; it was aligned",
                                        joiner->inputs()[i].image.path.string(), result.shifts[i],
                                        joiner->inputs()[joiner->reference()].image.path.string())});
  result.image = joined_image(joiner, comparison.runs(), result.ranges);
  return result;
}

}  // namespace opifex
