#include "known_why.hpp"

#include <algorithm>
#include <set>

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/platforms/identity.hpp"

namespace opifex::jobs {

namespace {

/// All stored sectors of a disc, one track behind the other: what one bin of it would be.
class StoredTracks final : public ByteSource {
 public:
  explicit StoredTracks(CdImagePtr disc) : disc_(std::move(disc)) {
    for (const Extent& e : disc_->extents()) starts_.push_back(size_), size_ += e.size_bytes();
  }

  std::uint64_t size() const override { return size_; }
  std::string name() const override { return "the tracks of the disc"; }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    auto at = static_cast<std::size_t>(std::upper_bound(starts_.begin(), starts_.end(), offset) - starts_.begin()) - 1;
    for (; !out.empty(); ++at) {
      const Extent& e = disc_->extents().at(at);
      const std::uint64_t inside = offset - starts_[at];
      const auto size = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), e.size_bytes() - inside));
      read_extent(e, inside, out.first(size));
      out = out.subspan(size);
      offset += size;
    }
  }

  /// Where the track lies among them.
  std::pair<std::uint64_t, std::uint64_t> range_of(int track) const {
    std::uint64_t first = 0, end = 0;
    for (std::size_t i = 0; i < starts_.size(); ++i) {
      const Extent& e = disc_->extents()[i];
      if (e.track != track) continue;
      if (end == 0) first = starts_[i];
      end = starts_[i] + e.size_bytes();
    }
    return {first, end};
  }

 private:
  void read_extent(const Extent& e, std::uint64_t inside, std::span<std::byte> out) const {
    const std::uint64_t each = stored_bytes(e.form), skip = inside % each;
    const auto sectors = static_cast<std::uint32_t>((skip + out.size() + each - 1) / each);
    Bytes whole(sectors * each);
    disc_->read(SectorForm::stored, e.lba + static_cast<cd::Lba>(inside / each), sectors, whole);
    std::copy_n(whole.begin() + static_cast<std::ptrdiff_t>(skip), out.size(), out.begin());
  }

  CdImagePtr disc_;
  std::vector<std::uint64_t> starts_;
  std::uint64_t size_ = 0;
};

/// Of letters without case, whatever `counts` leaves out (FNV-1a).
template <typename Counts>
std::uint64_t key_of(std::string_view text, const Counts& counts) {
  std::uint64_t hash = 0xCBF29CE484222325;
  for (char c : text) {
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c + 32);
    if (counts(c)) hash = (hash ^ static_cast<unsigned char>(c)) * 0x100000001B3;
  }
  return hash;
}

/// Letters and digits alone: "PRXS-001.01" and "PRXS_00101" are one serial.
std::uint64_t serial_key(std::string_view serial) {
  return key_of(serial, [](char c) { return (c >= '0' && c <= '9') || (c >= 'a' && c <= 'z'); });
}

/// What stands before the region, the disc and the revision, without the ending of a file.
std::string_view title_of(std::string_view name) {
  const std::size_t at = name.find(" (");
  if (at != name.npos) return name.substr(0, at);
  const std::size_t dot = name.rfind('.');
  return dot == name.npos || dot == 0 || name.size() - dot > 6 ? name : name.substr(0, dot);
}

std::uint64_t title_key(std::string_view name) {
  return key_of(title_of(name), [](char) { return true; });
}

std::string amount_text(std::int64_t bytes, std::uint32_t unit) {
  const auto n = static_cast<std::uint64_t>(bytes);
  if (unit > 1 && n % unit == 0) return plural(n / unit, "sector");
  return n == 1 ? "1 byte" : grouped(n) + " bytes";
}

std::string message_of(const NearMiss& miss, std::uint32_t unit, const std::string& entry) {
  const std::string amount = amount_text(miss.amount, unit);
  switch (miss.kind) {
    case NearKind::audio_offset:
      return fmt::format("the music of {}, {} samples {}", entry,
                         grouped(static_cast<std::uint64_t>(std::abs(miss.amount))),
                         miss.amount > 0 ? "later" : "earlier");
    case NearKind::too_long:
      return fmt::format("{}, over-dumped: {} behind its end ({})", entry, amount, miss.filler);
    case NearKind::too_short:
      return miss.filler.starts_with("in the")
                 ? fmt::format("{}, whose last {} lie {}", entry, amount, miss.filler)
                 : fmt::format("{}, without the padding at its end: {} ({}) are missing", entry, amount, miss.filler);
    case NearKind::leading:
      return unit > 1
                 ? fmt::format("{}, with {} before it that the list does not have ({})", entry, amount, miss.filler)
                 : fmt::format("{}, behind a header of {} that is none of it", entry, amount);
    case NearKind::pregap:
      return fmt::format("{}, without {} of its pregap ({})", entry, amount, miss.filler);
    case NearKind::byte_order:
      return fmt::format("{}, with the bytes of each {}-bit word the other way round", entry, miss.amount * 8);
  }
  return {};
}

bool is_in(const KnownList& list, const ListedView& view) { return !entries_of_content(list, view).empty(); }

}  // namespace

WhyNot::Index& WhyNot::index_of(std::size_t number) {
  const auto [at, is_new] = indexes_.try_emplace(number);
  Index& index = at->second;
  if (!is_new) return index;
  const KnownList& list = *lists_[number];
  for (std::uint32_t s = 0; s < list.sets.size(); ++s) {
    const ListedSet& set = list.sets[s];
    index.titles.emplace_back(title_key(list.name(set)), s);
    const auto add_serial = [&](std::string_view serial) {
      if (!serial.empty()) index.serials.emplace_back(serial_key(serial), s);
    };
    add_serial(list.text(set, SetField::serial));
    for (const ListedEntry& e : list.entries_of(set)) add_serial(list.text(e.serial));
  }
  for (SetsByKey* keys : {&index.serials, &index.titles}) {
    std::sort(keys->begin(), keys->end());
    keys->erase(std::unique(keys->begin(), keys->end()), keys->end());
  }
  return index;
}

const EntriesBySize& WhyNot::sizes_of(std::size_t list) {
  Index& index = index_of(list);
  if (!index.sizes) index.sizes = std::make_unique<EntriesBySize>(*lists_[list]);
  return *index.sizes;
}

WhyNot::Related WhyNot::related(const Unknown& unknown, const Image* image, const KnownAs& as) {
  const Index& index = index_of(as.list);
  Related related;
  constexpr std::size_t kMost = 64;  // "Demo (...)": of very many sets of one title none is meant
  const auto add = [&](std::uint32_t set) {
    auto& all = related.sets;
    if (all.size() < kMost && std::find(all.begin(), all.end(), set) == all.end()) all.push_back(set);
  };
  const auto add_all = [&](const SetsByKey& keys, std::uint64_t key, std::vector<std::uint32_t>& found) {
    for (auto at = std::lower_bound(keys.begin(), keys.end(), std::pair{key, std::uint32_t{0}});
         at != keys.end() && at->first == key && found.size() < kMost; ++at) {
      found.push_back(at->second);
      add(at->second);
    }
  };
  if (as.set) add(*as.set);
  if (image && !index.serials.empty() &&
      (image->cd() || image->blocks() || std::holds_alternative<RomContent>(image->content)))
    related.serial = identify_platform(*image).serial;
  if (!related.serial.empty()) add_all(index.serials, serial_key(related.serial), related.by_serial);
  std::set<std::uint64_t> keys;
  for (const std::string& name : unknown.called)
    if (!title_of(name).empty()) keys.insert(title_key(name));
  for (const std::uint64_t key : keys) add_all(index.titles, key, related.by_title);
  return related;
}

/// Another revision of what is known.
void WhyNot::tell_related(const Related& related, KnownAs& as) const {
  const KnownList& list = *lists_[as.list];
  const auto names = [&](const std::vector<std::uint32_t>& sets) {
    constexpr std::size_t kShown = 3;
    std::string text;
    for (std::size_t i = 0; i < sets.size() && i < kShown; ++i)
      text += (i > 0 ? ", " : "") + printable(list.name(list.sets[sets[i]]));
    if (sets.size() > kShown) text += fmt::format(" and {} more", sets.size() - kShown);
    return text;
  };
  if (!related.by_serial.empty())
    as.why.push_back(fmt::format("the list knows the serial {}: {}{}", printable(related.serial),
                                 names(related.by_serial),
                                 as.set ? "" : "; this is another revision of it, or a bad dump"));
  else if (!as.set && !related.by_title.empty())
    as.why.push_back(fmt::format("of this title the list knows: {}; this may be another revision, or a bad dump",
                                 names(related.by_title)));
}

/// Which track differs, where it begins, and where its check has found the first damage.
void WhyNot::tell_places(const Unknown& unknown, KnownAs& as) const {
  if (!as.set || unknown.tracks.size() < 2) return;
  const KnownList& list = *lists_[as.list];
  for (const TrackFacts& track : unknown.tracks) {
    if (track.view.hashes.empty() || is_in(list, track.view)) continue;
    std::string text = fmt::format("track {} differs: it begins at {} (LBA {})", track.number,
                                   cd::to_string(cd::msf_of_lba(track.first)), track.first);
    if (track.damaged)
      text += fmt::format("; its first damaged sector is at {} (LBA {})", cd::to_string(cd::msf_of_lba(*track.damaged)),
                          *track.damaged);
    as.why.push_back(std::move(text));
  }
}

void WhyNot::tell(int track, std::uint32_t unit, const CloseLook& look, KnownAs& as) const {
  const KnownList& list = *lists_[as.list];
  const std::string what = track > 0 ? fmt::format("track {} is ", track) : "it is ";
  for (const NearMiss& miss : look.found)
    as.near.push_back({track, miss, what + message_of(miss, unit, printable(list.name(list.entries[miss.entry])))});
  for (const std::string& tried : look.tried)
    as.tried.push_back(track > 0 ? fmt::format("track {}: {}", track, tried) : tried);
}

/// One offset of the drive moves all music of a disc alike.
void WhyNot::tell_offsets(KnownAs& as) const {
  std::map<std::int64_t, std::size_t> tracks;
  for (const NearTold& near : as.near)
    if (near.miss.kind == NearKind::audio_offset) ++tracks[near.miss.amount];
  for (const auto& [samples, count] : tracks)
    as.why.insert(as.why.begin(),
                  fmt::format("an audio offset of {:+} samples: at that shift {} the list's, so {} moved, not damaged",
                              samples, count == 1 ? "1 track is" : fmt::format("{} tracks are", count),
                              count == 1 ? "it is" : "they are"));
}

void WhyNot::look_at_tracks(const Unknown& unknown, const Image& image, const Related& related, KnownAs& as) {
  const KnownList& list = *lists_[as.list];
  const auto all = std::make_shared<StoredTracks>(image.cd());
  for (std::size_t i = 0; i < unknown.tracks.size(); ++i) {
    const TrackFacts& track = unknown.tracks[i];
    if (track.view.hashes.empty() || is_in(list, track.view)) continue;
    LookAt at{.all = all, .audio = track.audio};
    std::tie(at.begin, at.end) = all->range_of(track.number);
    if (at.end <= at.begin || at.end - at.begin != track.view.size_bytes) continue;
    const std::uint64_t sectors =
        image.cd()->extent_at(track.first) ? stored_bytes(image.cd()->extent_at(track.first)->form) : 1;
    at.unit_bytes = static_cast<std::uint32_t>(sectors);
    std::size_t from = i, to = i;
    while (track.audio && from > 0 && unknown.tracks[from - 1].audio) --from;
    while (track.audio && to + 1 < unknown.tracks.size() && unknown.tracks[to + 1].audio) ++to;
    at.music_begin = all->range_of(unknown.tracks[from].number).first;
    at.music_end = all->range_of(unknown.tracks[to].number).second;
    tell(track.number, at.unit_bytes, look_closer(sizes_of(as.list), related.sets, at, context_), as);
  }
}

void WhyNot::look_at_file(const SourcePtr& bytes, const Related& related, KnownAs& as) {
  if (bytes->size() == 0) return;
  tell(0, 1, look_closer(sizes_of(as.list), related.sets, {.all = bytes, .end = bytes->size()}, context_), as);
}

/// User data alone do not tell what stood around them on a Mode 2 disc.
void WhyNot::tell_lost_subheaders(const Image& image, KnownAs& as) {
  const std::uint64_t size = image.blocks() ? image.stored_blocks()->size() : 0;
  if (size == 0 || !sizes_of(as.list).has(size / cd::kUserBytes * cd::kRawBytes)) return;
  const bool mode2 =
      image.cd() && !image.cd()->extents().empty() && image.cd()->extents().front().form == StoredForm::form1_user;
  if (mode2 && as.verdict == KnownVerdict::not_known) as.verdict = KnownVerdict::not_comparable;
  as.why.emplace_back(
      "the list has a disc of as many sectors, stored whole; if they are Mode 2, an image of user data has lost their "
      "subheaders and cannot be held against it");
}

void WhyNot::explain(const Unknown& unknown, KnownAs& as, bool asked_alone) {
  try {
    std::optional<Image> image;
    if (unknown.source && (asked_alone || as.set || knows_serials(as))) image = open_source(unknown.source->input);
    const Related found = related(unknown, image ? &*image : nullptr, as);
    if (found.sets.empty() && !asked_alone) return;
    if (unknown.source && !image) image = open_source(unknown.source->input);
    tell_related(found, as);
    tell_places(unknown, as);
    if (image) tell_lost_subheaders(*image, as);
    if (!image)
      look_at_file(open_file(unknown.name), found, as);
    else if (image->cd())
      look_at_tracks(unknown, *image, found, as);
    else if (image->blocks())
      look_at_file(image->stored_blocks(), found, as);
    else if (image->files.size() == 1 && image->files.front().source)
      look_at_file(image->files.front().source, found, as);
    tell_offsets(as);
  } catch (const Error& e) {
    if (ends_all(e)) throw;
    as.tried.push_back("no closer: " + e.details.what);
  }
}

}  // namespace opifex::jobs
