// From what was gathered to what lists know of each image.
#include <algorithm>
#include <numeric>

#include "opifex/core/base/text.hpp"

#include "known_collector.hpp"

namespace opifex::jobs {

/// The order of files decides where several could stand for one entry.
void KnownCollector::sort_files() {
  Collection& all = known_.collection;
  std::vector<std::size_t> order(all.files.size()), place(all.files.size());
  std::iota(order.begin(), order.end(), 0);
  std::stable_sort(order.begin(), order.end(),
                   [&](std::size_t a, std::size_t b) { return all.files[a].path < all.files[b].path; });
  std::vector<CollectedFile> sorted;
  for (std::size_t i = 0; i < order.size(); ++i) {
    place[order[i]] = i;
    sorted.push_back(std::move(all.files[order[i]]));
  }
  all.files = std::move(sorted);
  for (CollectedPiece& piece : all.pieces)
    for (std::size_t& f : piece.files) f = place[f];
  for (ImageParts& image : images_)
    for (std::size_t& f : image.files) f = place[f];
}

namespace {

/// What each entry of the set comes to, for people.
std::vector<std::string> shortcomings(const KnownList& list, const SetMatch& set, const std::set<std::string>& own) {
  std::vector<std::string> why;
  const auto entries = list.entries_of(list.sets[set.set]);
  for (std::size_t i = 0; i < entries.size(); ++i) {
    const EntryMatch& m = set.entries[i];
    const std::string name = printable(list.name(entries[i]));
    // A set is complete without its sheet.
    if (m.state == EntryState::missing && set.verdict != SetVerdict::complete)
      why.push_back(m.also_at.empty()
                        ? fmt::format("missing: {}", name)
                        : fmt::format("missing: {} (the same content lies in {})", name, printable(m.also_at)));
    if (m.state != EntryState::bad) continue;
    switch (m.reason) {
      case BadReason::size:
        why.push_back(
            fmt::format("{} has another size than the list's {} bytes", name, grouped(entries[i].size_bytes)));
        break;
      case BadReason::other_content:
        why.push_back(fmt::format("{} holds what another entry of the list should hold", name));
        break;
      case BadReason::unreadable:
        why.push_back(fmt::format("{} cannot be read", name));
        break;
      default:
        why.push_back(fmt::format("{} has the right size and other content", name));
    }
  }
  for (const std::string& extra : set.extra)
    if (!own.contains(extra)) why.push_back("not in the list: " + printable(extra));
  return why;
}

const SetMatch* find_set(const ListMatch& match, std::uint32_t set) {
  const auto at = std::lower_bound(match.sets.begin(), match.sets.end(), set,
                                   [](const SetMatch& m, std::uint32_t wanted) { return m.set < wanted; });
  return at != match.sets.end() && at->set == set ? &*at : nullptr;
}

bool has_flag(const SetMatch& set, std::string_view flag) {
  return std::find(set.flags.begin(), set.flags.end(), flag) != set.flags.end();
}

}  // namespace

/// All tracks of a disc, one by one or as one bin, are those that other files stand for.
bool KnownCollector::is_copy(const ImageParts& image, const ListMatch& match) const {
  std::size_t tracks = 0, copies = 0;
  for (const std::size_t p : image.pieces) {
    const bool merged = known_.collection.pieces[p].merged;
    if (merged && match.piece_copies[p]) return true;
    tracks += merged ? 0U : 1U;
    copies += !merged && match.piece_copies[p] ? 1U : 0U;
  }
  return tracks > 0 && copies == tracks;
}

KnownAs KnownCollector::judge(const ImageParts& image, std::size_t number) const {
  const KnownList& list = *lists_.lists[number];
  const ListMatch& match = known_.matches[number];
  KnownAs as{.list = number};
  std::map<std::uint32_t, std::size_t> given, blamed;
  std::size_t data = 0, right = 0, copies = 0;
  bool renamed = false;
  for (const std::size_t f : image.files) {
    const FileMatch& m = match.files[f];
    const bool sheet = known_.collection.files[f].path == image.sheet;
    if (sheet && image.files.size() > 1) continue;
    ++data;
    const bool fits = m.verdict == FileVerdict::good || m.verdict == FileVerdict::renamed;
    if (fits) ++given[*m.set], ++right;
    if (fits && !m.through.empty()) as.through = m.through;
    if (fits && m.by == "crc32") as.by_crc = true;
    renamed = renamed || m.verdict == FileVerdict::renamed;
    if (m.verdict == FileVerdict::layout) ++right;
    if (m.verdict == FileVerdict::duplicate) ++copies;
    if (m.verdict == FileVerdict::bad) ++blamed[*m.set];
  }
  for (const std::size_t p : image.pieces)
    if (const auto entry = match.pieces[p]) {
      ++given[list.entries[*entry].set];
      as.through = known_.collection.pieces[p].merged ? "its tracks as one bin" : "its tracks one by one";
    }
  const auto& sets = given.empty() ? blamed : given;
  if (sets.empty()) {
    if ((data > 0 && copies == data) || is_copy(image, match)) {
      as.verdict = KnownVerdict::duplicate;
    } else if (!image.incomparable.empty()) {
      as.verdict = KnownVerdict::not_comparable;
      as.why.push_back(image.incomparable);
    }
    return as;
  }
  const auto most =
      std::max_element(sets.begin(), sets.end(), [](const auto& a, const auto& b) { return a.second < b.second; });
  as.set = most->first;
  const SetMatch& set = *find_set(match, most->first);
  std::set<std::string> own;
  if (image.tracks.size() > 1)  // which of its tracks differ is told by number
    for (const std::size_t f : image.files) own.insert(known_.collection.files[f].path);
  as.why = shortcomings(list, set, own);
  // A track that the list does not have at all stands in the place of one that is missing.
  const bool other_track = std::any_of(image.tracks.begin(), image.tracks.end(), [&](const TrackFacts& t) {
    return !t.view.hashes.empty() && entries_of_content(list, t.view).empty();
  });
  if (given.empty() || set.verdict == SetVerdict::bad)
    as.verdict = KnownVerdict::differs;
  else if (set.verdict != SetVerdict::complete || given.size() > 1)
    as.verdict = blamed.empty() && !other_track ? KnownVerdict::part_missing : KnownVerdict::differs;
  else if (right + copies < data)
    as.verdict = KnownVerdict::differs;
  else if (has_flag(set, "known_bad"))
    as.verdict = KnownVerdict::known_bad;
  else if (has_flag(set, "extra"))
    as.verdict = KnownVerdict::extra;
  else
    as.verdict = renamed ? KnownVerdict::renamed : KnownVerdict::known;
  return as;
}

/// Nothing that was matched is part of a set that is not whole, unless another list knows it as part of one that is.
bool KnownCollector::all_whole() const {
  const std::size_t files = known_.collection.files.size();
  std::vector<bool> right(files + known_.collection.pieces.size());
  bool any = false, good = true;
  const auto each = [&](const auto& action) {
    for (std::size_t i = 0; i < known_.matches.size(); ++i) {
      const ListMatch& match = known_.matches[i];
      const auto is_whole = [&](std::uint32_t s) {
        const SetMatch* set = find_set(match, s);
        return set && (set->verdict == SetVerdict::complete || set->verdict == SetVerdict::unverifiable);
      };
      for (std::size_t f = 0; f < files; ++f)
        if (const FileMatch& m = match.files[f]; m.entry && m.verdict != FileVerdict::duplicate)
          action(f, m.verdict != FileVerdict::bad && is_whole(*m.set));
      for (std::size_t p = 0; p < match.pieces.size(); ++p)
        if (const auto entry = match.pieces[p]) action(files + p, is_whole(lists_.lists[i]->entries[*entry].set));
    }
  };
  each([&](std::size_t item, bool whole) {
    any = true;
    if (whole) right[item] = true;
  });
  each([&](std::size_t item, bool) { good = good && right[item]; });
  return any && good;
}

/// What is known needs no second look; what is not comparable would give nothing by one.
void KnownCollector::explain(const ImageParts& parts, KnownImage& image, WhyNot& why) const {
  Unknown unknown{.name = parts.name, .source = parts.source ? &*parts.source : nullptr, .tracks = parts.tracks};
  for (const std::size_t f : parts.files) {
    const CollectedFile& file = known_.collection.files[f];
    unknown.called.push_back(file.base);
    unknown.called.push_back(known_.collection.units[file.unit]);
  }
  for (KnownAs& as : image.as)
    if (as.verdict >= KnownVerdict::part_missing && as.verdict != KnownVerdict::not_comparable)
      why.explain(unknown, as, images_.size() == 1);
}

KnownCollector::Known KnownCollector::finish(JobContext& context) {
  context.progress.begin("looking closer at what is not known", 0);
  WhyNot why(lists_.lists, context);
  sort_files();
  for (const KnownListPtr& list : lists_.lists) known_.matches.push_back(match(*list, known_.collection));
  for (const ImageParts& parts : images_) {
    KnownImage image{.name = parts.name, .best = {}, .as = {}, .checked = parts.checked};
    for (std::size_t i = 0; i < lists_.lists.size(); ++i) image.as.push_back(judge(parts, i));
    const bool known = std::any_of(image.as.begin(), image.as.end(),
                                   [](const KnownAs& as) { return as.verdict < KnownVerdict::part_missing; });
    if (!known && explains_) explain(parts, image, why);
    if (!image.as.empty())
      image.best = *std::min_element(image.as.begin(), image.as.end(),
                                     [](const KnownAs& a, const KnownAs& b) { return a.verdict < b.verdict; });
    known_.good = known_.good && is_known(image.best.verdict);
    known_.images.push_back(std::move(image));
  }
  known_.good = known_.good && all_whole();
  return std::move(known_);
}

}  // namespace opifex::jobs
