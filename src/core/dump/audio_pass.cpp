// Music has no checksum: every sector is read twice, and counts only if both readings agree.
#include <algorithm>

#include "opifex/core/dump/strategy.hpp"

namespace opifex::dump {

using cd::Lba;

/// One reading of a window: which sectors came, and which bytes of them the drive flagged.
struct WindowReading {
  Bytes sectors;
  std::vector<bool> there, placed, lacking, fresh;
  std::vector<std::vector<cd::Erasure>> flagged;

  explicit WindowReading(std::size_t count)
      : sectors(count * cd::kRawBytes), there(count), placed(count), lacking(count), fresh(count), flagged(count) {}
  ByteView sector(std::size_t i) const { return ByteView(sectors).subspan(i * cd::kRawBytes, cd::kRawBytes); }
  bool clean(std::size_t i) const { return there[i] && placed[i] && !lacking[i] && flagged[i].empty(); }
};

void Strategy::audio_pass(const Region& todo) {
  // A window larger than the drive's buffer: when it is read again, nothing of it can come from there. On a disc that
  // is hardly larger than the buffer, a smaller one, so that enough is left to read in between.
  constexpr std::uint64_t kUsual = (2 << 20) / cd::kRawBytes, kSpare = 32;
  knows_buffer();
  const Lba window = most_together(std::max(buffer_.length() + kSpare, kUsual));
  for (Lba at = todo.first; at < todo.end && !stats_.ended_at;) {
    const Lba placed = reader_.jitters() ? place_stream(todo, at, std::min(todo.end, at + window)) : at;
    const Lba end = std::min(todo.end, std::max(placed, at) + window);
    if (placed < end) audio_window(todo, placed, static_cast<std::uint32_t>(end - placed));
    at = end;
    maybe_save();
  }
}

/// On a drive that jitters a window can be joined to what was read before it, unless that tells no place. Then
/// the silence is read as such, and the first music is placed by what most readings agree on. Returns where the next
/// window begins.
Lba Strategy::place_stream(const Region& todo, Lba at, Lba end) {
  constexpr Lba kSpare = 3;  // sectors: more than any jitter
  if (!audio_before(todo, at).empty()) return at;
  const auto count = static_cast<std::uint32_t>(end - at);
  Lba silent = end;
  for (int reading = 0; reading < 2; ++reading) {
    if (reading > 0 && !make_fresh(at, end)) return at;
    Bytes sectors(count * cd::kRawBytes);
    Extras extras;
    extras.want_flags = true;
    const ReadResult r = read(todo, at, count, sectors, &extras);
    const auto silence = [&](Lba lba) {
      const auto i = static_cast<std::size_t>(lba - at);
      const bool flagged = i < extras.flagged.size() && !extras.flagged[i].empty();
      const bool lacks = i < extras.lacking.size() && extras.lacking[i];
      return !flagged && !lacks && fresh_[i] && all_zero(ByteView(sectors).subspan(i * cd::kRawBytes, cd::kRawBytes));
    };
    Lba music = at;
    while (music < at + static_cast<Lba>(r.delivered) && silence(music)) ++music;
    silent = std::min(silent, music);
  }
  // Behind the silence the stream may lie earlier than it was delivered; at its end the disc is what it is.
  if (silent < todo.end) silent = std::max(at, silent - kSpare);
  if (silent > at) {
    store_.write(at, Bytes(static_cast<std::size_t>(silent - at) * cd::kRawBytes));
    map_.set(at, silent, SectorState::audio_confirmed);
    context_.progress.done_bytes += static_cast<std::uint64_t>(silent - at) * cd::kRawBytes;
  }
  const Lba anchor_end = std::min(end, silent + 2 * kSpare);
  return silent < end && anchor_stream(todo, silent, anchor_end) ? anchor_end : silent;
}

/// What most readings agree on, each after a seek of its own: so many more than on anything else that chance is none.
bool Strategy::anchor_stream(const Region& todo, Lba first, Lba end) {
  constexpr int kTries = 64, kLead = 10;
  const auto count = static_cast<std::uint32_t>(end - first);
  std::map<Bytes, int> seen;
  Bytes sectors(count * cd::kRawBytes);
  for (int i = 0; i < kTries; ++i) {
    if (!make_fresh(first, end)) return false;
    Extras extras;
    extras.want_flags = true;
    const ReadResult r = read(todo, first, count, sectors, &extras);
    const bool clean =
        std::all_of(extras.flagged.begin(), extras.flagged.end(), [](const auto& f) { return f.empty(); }) &&
        std::find(extras.lacking.begin(), extras.lacking.end(), true) == extras.lacking.end();
    if (r.delivered < count || !clean) continue;
    const int votes = ++seen[sectors];
    const bool leads = std::all_of(seen.begin(), seen.end(), [&](const auto& other) {
      return other.first == sectors || votes >= other.second + kLead;
    });
    if (votes < kLead || !leads) continue;
    store_.write(first, sectors);
    map_.set(first, end, SectorState::audio_confirmed);
    watch(todo, first, sectors);
    context_.progress.done_bytes += sectors.size();
    return true;
  }
  return false;
}

/// Once from end to end; what fails is left out.
void Strategy::read_window(const Region& todo, Lba first, WindowReading& w) {
  const auto count = static_cast<std::uint32_t>(w.there.size());
  const Bytes before = audio_before(todo, first);
  for (std::uint32_t done = 0; done < count;) {
    Extras extras;
    extras.want_flags = true;
    if (done == 0) extras.before = before;
    const Lba at = first + static_cast<Lba>(done);
    const ReadResult r = read(todo, at, count - done, std::span(w.sectors).subspan(done * cd::kRawBytes), &extras);
    for (std::uint32_t i = 0; i < r.delivered; ++i) {
      w.there[done + i] = true;
      w.placed[done + i] = !extras.misplaced;
      w.fresh[done + i] = fresh_[i];
      w.lacking[done + i] = i < extras.lacking.size() && extras.lacking[i];
      if (i < extras.flagged.size()) w.flagged[done + i] = std::move(extras.flagged[i]);
    }
    store_.write_subchannel(at, extras.subchannel);
    done += r.delivered;
    if (r.trouble == Trouble::none) continue;
    if (r.trouble == Trouble::out_of_range && done < count) {
      stats_.ended_at = first + static_cast<Lba>(done);
      return;
    }
    ++done;  // this one is tried again later
  }
}

namespace {

/// Wrong bytes without a flag: two readings differ where neither was flagged.
bool contradict(const WindowReading& a, const WindowReading& b, std::size_t i) {
  const bool known = a.there[i] && b.there[i] && a.placed[i] && b.placed[i] && !a.lacking[i] && !b.lacking[i];
  if (!known || std::equal(a.sector(i).begin(), a.sector(i).end(), b.sector(i).begin())) return false;
  SampleVotes votes;
  votes.add(a.sector(i), a.flagged[i]);
  votes.add(b.sector(i), b.flagged[i]);
  return votes.has_unflagged_errors();
}

}  // namespace

void Strategy::audio_window(const Region& todo, Lba first, std::uint32_t count) {
  constexpr std::size_t kUsual = 2, kIfDoubted = 3;
  const Lba end = first + static_cast<Lba>(count);
  std::vector<WindowReading> readings;
  for (std::size_t needed = kUsual; readings.size() < needed;) {
    // One that is shorter than the buffer is still in it. Of a longer one the beginning is gone when its end was read.
    if (!readings.empty() && !is_fresh(first, first + 1) && !push_out(first, end)) {
      stats_.in_buffer += count;
      break;
    }
    read_window(todo, first, readings.emplace_back(count));
    context_.progress.done_bytes += readings.size() <= kUsual ? count * cd::kRawBytes / kUsual : 0;
    if (stats_.ended_at) break;
    if (readings.size() != kUsual) continue;
    // Wrong bytes without a flag: two readings may be wrong in the same way.
    for (std::uint32_t i = 0; i < count && needed == kUsual; ++i) {
      if (contradict(readings[0], readings[1], i)) needed = kIfDoubted;
    }
  }
  note_speed(end, kUsual * count * cd::kRawBytes);
  if (stats_.ended_at) {
    // The disc ends inside the window: what came before is read as a window of its own.
    const auto rest = static_cast<std::uint32_t>(*stats_.ended_at - first);
    const auto ended = std::exchange(stats_.ended_at, std::nullopt);
    if (rest > 0 && rest < count) audio_window(todo, first, rest);
    stats_.ended_at = ended;
    return;
  }
  take_window(todo, first, readings);
}

void Strategy::take_window(const Region& todo, Lba first, const std::vector<WindowReading>& readings) {
  const std::size_t count = readings.front().there.size();
  const auto agreed = [&](std::size_t i) {
    return readings.size() > 1 && std::all_of(readings.begin(), readings.end(), [&](const WindowReading& w) {
             return w.clean(i) && (&w == &readings[0] || w.fresh[i]) &&
                    std::equal(w.sector(i).begin(), w.sector(i).end(), readings[0].sector(i).begin());
           });
  };
  for (std::size_t i = 0; i < count;) {
    std::size_t n = 0;
    while (i + n < count && agreed(i + n)) ++n;
    const Lba lba = first + static_cast<Lba>(i);
    if (n > 0) {
      const ByteView sectors = ByteView(readings[0].sectors).subspan(i * cd::kRawBytes, n * cd::kRawBytes);
      store_.write(lba, sectors);
      map_.set(lba, lba + static_cast<Lba>(n), SectorState::audio_confirmed);
      watch(todo, lba, sectors);
      i += n;
      continue;
    }
    take_unsure(lba, i, readings);
    ++i;
  }
}

/// A sector on which the readings do not agree, or not yet.
void Strategy::take_unsure(Lba lba, std::size_t i, const std::vector<WindowReading>& readings) {
  SectorState state = SectorState::unreadable;
  bool lacking = false;
  Bad bad;
  bad.needed = static_cast<unsigned>(std::max<std::size_t>(2, readings.size()));
  for (const WindowReading& w : readings) {
    ++bad.tries;
    if (!w.there[i]) continue;
    if (!w.flagged[i].empty()) ++stats_.flagged_sectors;
    lacking = lacking || w.lacking[i];
    if (w.placed[i] && !w.lacking[i] && (w.fresh[i] || bad.votes.readings() == 0))
      bad.votes.add(w.sector(i), w.flagged[i]);
    store_.write(lba, w.sector(i));
    state = SectorState::audio_unsure;
  }
  if (bad.votes.readings() > 0) store_.write(lba, bad.votes.best());
  map_.set(lba, lba + 1, state);
  if (lacking && !reader_.jitters()) ++stats_.lacking;
  // Where the drive cannot reach, or only its buffer answers, nothing is left to try; one that jitters reaches farther
  // another time.
  if ((lacking && !reader_.jitters()) || readings.size() < 2) {
    suspects_[lba] = {{0, cd::kRawBytes - 1}};
    return;
  }
  bad_[lba] = std::move(bad);
}

}  // namespace opifex::dump
