// Music has no checksum: every sector is read twice, and counts only if both readings agree.
#include <algorithm>

#include "opifex/core/dump/strategy.hpp"

namespace opifex::dump {

using cd::Lba;

void Strategy::audio_pass(const Region& todo) {
  // A window larger than the drive's buffer: when it is read again, nothing of it can come from there.
  // No larger, though: what is not confirmed yet is lost when the power goes.
  constexpr std::uint64_t kSmallest = 2 << 20, kLargest = 4 << 20;
  const auto window = static_cast<Lba>(std::clamp(reader_.buffer_bytes(), kSmallest, kLargest) / cd::kRawBytes + 1);
  for (Lba at = todo.first; at < todo.end && !stats_.ended_at;) {
    const Lba placed = reader_.jitters() ? place_stream(todo, at, std::min(todo.end, at + window)) : at;
    const Lba end = std::min(todo.end, placed + window);
    if (placed < end) audio_window(todo, placed, static_cast<std::uint32_t>(end - placed));
    at = end;
    maybe_save();
  }
}

namespace {

bool flat(ByteView samples) {
  constexpr std::size_t kSampleBytes = 4;
  return std::equal(samples.begin() + kSampleBytes, samples.end(), samples.begin());
}

}  // namespace

/// On a drive that jitters a window can be joined to what was read before it, unless that is silence or nothing. Then
/// the silence is read as such, and the first music is placed by what several readings agree on. Returns where the next
/// window begins.
Lba Strategy::place_stream(const Region& todo, Lba at, Lba end) {
  constexpr Lba kSpare = 3;  // sectors: more than any jitter
  if (const Bytes before = audio_before(todo, at); !before.empty() && !flat(before)) return at;
  const auto count = static_cast<std::uint32_t>(end - at);
  Lba silent = end;
  for (int reading = 0; reading < 2; ++reading) {
    Bytes sectors(count * cd::kRawBytes);
    const ReadResult r = read(todo, at, count, sectors, nullptr);
    Lba music = at;
    while (music < at + static_cast<Lba>(r.delivered) &&
           all_zero(ByteView(sectors).subspan(static_cast<std::size_t>(music - at) * cd::kRawBytes, cd::kRawBytes)))
      ++music;
    silent = std::min(silent, music);
  }
  if (silent < end) silent = std::max(at, silent - kSpare);
  if (silent > at) {
    store_.write(at, Bytes(static_cast<std::size_t>(silent - at) * cd::kRawBytes));
    map_.set(at, silent, SectorState::audio_confirmed);
    work_.progress.done_bytes += static_cast<std::uint64_t>(silent - at) * cd::kRawBytes;
  }
  const Lba anchor_end = std::min(end, silent + 2 * kSpare);
  return silent < end && anchor_stream(todo, silent, anchor_end) ? anchor_end : silent;
}

/// What three of a dozen readings agree on, each after a seek of its own.
bool Strategy::anchor_stream(const Region& todo, Lba first, Lba end) {
  constexpr int kTries = 12, kAgreeing = 3;
  const auto count = static_cast<std::uint32_t>(end - first);
  std::map<Bytes, int> seen;
  Bytes sectors(count * cd::kRawBytes);
  for (int i = 0; i < kTries; ++i) {
    Bad reading;
    reading.stamp = sectors_read_;
    defeat(first, reading);
    Extras extras;
    extras.want_flags = true;
    const ReadResult r = read(todo, first, count, sectors, &extras);
    const bool clean =
        std::all_of(extras.flagged.begin(), extras.flagged.end(), [](const auto& f) { return f.empty(); });
    if (r.delivered < count || !clean || ++seen[sectors] < kAgreeing) continue;
    store_.write(first, sectors);
    map_.set(first, end, SectorState::audio_confirmed);
    work_.progress.done_bytes += sectors.size();
    return true;
  }
  return false;
}

namespace {

/// One reading of a window: which sectors came, and which bytes of them the drive flagged.
struct WindowReading {
  Bytes sectors, subchannel;
  std::vector<bool> there, placed;
  std::vector<std::vector<cd::Erasure>> flagged;
  bool flags_known = false;
};

}  // namespace

void Strategy::audio_window(const Region& todo, Lba first, std::uint32_t count) {
  std::array<WindowReading, 2> readings;
  const Bytes before = audio_before(todo, first);
  for (WindowReading& w : readings) {
    w.sectors.resize(count * cd::kRawBytes);
    w.subchannel.resize(count * cd::kSubchannelBytes);
    w.there.assign(count, false);
    w.placed.assign(count, false);
    w.flagged.resize(count);
    // A window shorter than the buffer (the end of a track) is still in it.
    if (&w != &readings[0] && count * cd::kRawBytes < reader_.buffer_bytes()) {
      Bad none;
      none.stamp = sectors_read_;
      defeat(first, none);
    }
    for (std::uint32_t done = 0; done < count;) {
      Extras extras;
      extras.want_flags = true;
      if (done == 0) extras.before = before;
      const ReadResult r = read(todo, first + static_cast<Lba>(done), count - done,
                                std::span(w.sectors).subspan(done * cd::kRawBytes), &extras);
      w.flags_known = w.flags_known || extras.flags_known;
      for (std::uint32_t i = 0; i < r.delivered; ++i) {
        w.there[done + i] = true;
        w.placed[done + i] = !extras.misplaced;
        if (i < extras.flagged.size()) w.flagged[done + i] = std::move(extras.flagged[i]);
      }
      if (extras.subchannel.size() >= r.delivered * cd::kSubchannelBytes)
        std::copy_n(extras.subchannel.begin(), r.delivered * cd::kSubchannelBytes,
                    w.subchannel.begin() + static_cast<std::ptrdiff_t>(done * cd::kSubchannelBytes));
      done += r.delivered;
      if (r.trouble == Trouble::none) continue;
      if (r.trouble == Trouble::out_of_range && done < count) {
        stats_.ended_at = first + static_cast<Lba>(done);
        break;
      }
      ++done;  // this one is tried again later
    }
    work_.progress.done_bytes += count * cd::kRawBytes / 2;
    if (stats_.ended_at) break;
  }
  note_speed(first + static_cast<Lba>(count), 2 * count * cd::kRawBytes);
  const WindowReading &a = readings[0], &b = readings[1];
  if (stats_.ended_at) {
    // The disc ends inside the window: what came before is read as a window of its own.
    const auto rest = static_cast<std::uint32_t>(*stats_.ended_at - first);
    const auto ended = std::exchange(stats_.ended_at, std::nullopt);
    if (rest > 0) audio_window(todo, first, rest);
    stats_.ended_at = ended;
    return;
  }
  store_.write_subchannel(first, a.subchannel);
  for (std::uint32_t i = 0; i < count;) {
    const auto agreed = [&](std::uint32_t k) {
      const auto at = static_cast<std::ptrdiff_t>(k * cd::kRawBytes);
      return a.there[k] && b.there[k] && a.placed[k] && b.placed[k] && a.flagged[k].empty() && b.flagged[k].empty() &&
             std::equal(a.sectors.begin() + at, a.sectors.begin() + at + static_cast<std::ptrdiff_t>(cd::kRawBytes),
                        b.sectors.begin() + at);
    };
    std::uint32_t n = 0;
    while (i + n < count && agreed(i + n)) ++n;
    const Lba lba = first + static_cast<Lba>(i);
    if (n > 0) {
      store_.write(lba, ByteView(a.sectors).subspan(i * cd::kRawBytes, n * cd::kRawBytes));
      map_.set(lba, lba + static_cast<Lba>(n), SectorState::audio_confirmed);
      i += n;
      continue;
    }
    SectorState state = SectorState::unreadable;
    for (const WindowReading& w : readings) {
      ++bad_[lba].tries;
      if (!w.there[i]) continue;
      Reading reading;
      const auto sector = ByteView(w.sectors).subspan(i * cd::kRawBytes, cd::kRawBytes);
      std::copy(sector.begin(), sector.end(), reading.bytes.begin());
      reading.flags_known = w.flags_known;
      reading.flagged = w.flagged[i];
      if (!w.placed[i]) reading.flagged.push_back({0, cd::kRawBytes - 1});
      if (!reading.flagged.empty()) ++stats_.flagged_sectors;
      keep(lba, reading);
      store_.write(lba, sector);
      state = SectorState::audio_unsure;
    }
    bad_[lba].stamp = sectors_read_;
    map_.set(lba, lba + 1, state);
    ++i;
  }
}

}  // namespace opifex::dump
