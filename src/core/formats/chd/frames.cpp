#include "frames.hpp"

#include <algorithm>

#include "decoder.hpp"

namespace opifex::chd {
namespace {

struct FrameTrack {
  cd::Lba lba = 0;  // first stored sector
  std::uint32_t frames = 0;
  SectorForm form = SectorForm::stored;
  std::size_t sector_bytes = 0, stored_bytes = 0;  // without and with subcode
  bool audio = false;
  std::uint64_t first_frame = 0, end_frame = 0;  // with padding
};

class FrameSource final : public ByteSource {
 public:
  FrameSource(CdImagePtr disc, std::vector<FrameTrack> tracks) : disc_(std::move(disc)), tracks_(std::move(tracks)) {}
  std::uint64_t size() const override { return tracks_.back().end_frame * kFrameBytes; }
  std::string name() const override { return "the disc"; }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    Bytes frames;
    while (!out.empty()) {
      constexpr std::uint64_t kBatch = 64;
      const std::uint64_t frame = offset / kFrameBytes;
      const auto inside = static_cast<std::size_t>(offset % kFrameBytes);
      const auto after = std::upper_bound(tracks_.begin(), tracks_.end(), frame,
                                          [](std::uint64_t f, const FrameTrack& t) { return f < t.first_frame; });
      const FrameTrack& t = *std::prev(after);
      const std::uint64_t wanted = ceil_div<std::uint64_t>(inside + out.size(), kFrameBytes);
      const std::uint64_t n = std::min({kBatch, wanted, t.end_frame - frame});
      frames.assign(n * kFrameBytes, std::byte{0});
      fill(t, frame - t.first_frame, n, frames);
      const std::size_t bytes = std::min(out.size(), frames.size() - inside);
      std::copy_n(frames.begin() + static_cast<std::ptrdiff_t>(inside), bytes, out.begin());
      out = out.subspan(bytes);
      offset += bytes;
    }
  }

 private:
  void fill(const FrameTrack& t, std::uint64_t from, std::uint64_t n, std::span<std::byte> frames) const {
    if (from >= t.frames) return;  // padding
    const auto count = static_cast<std::uint32_t>(std::min<std::uint64_t>(n, t.frames - from));
    Bytes stored(count * t.stored_bytes);
    disc_->read(t.form, t.lba + static_cast<cd::Lba>(from), count, stored);
    for (std::uint32_t i = 0; i < count; ++i) {
      const auto frame = frames.subspan(i * kFrameBytes, kFrameBytes);
      std::copy_n(stored.begin() + static_cast<std::ptrdiff_t>(i * t.stored_bytes), t.stored_bytes, frame.begin());
      if (t.audio) cd::swap_words(frame.first(t.sector_bytes));
    }
  }

  CdImagePtr disc_;
  std::vector<FrameTrack> tracks_;
};

/// The metadata's word for sectors as they are stored.
std::string type_of(const cd::Track& track, StoredForm form) {
  if (track.mode.is_audio()) return "AUDIO";
  const bool mode1 = track.mode.kind == cd::TrackMode::Kind::mode1;
  switch (form) {
    case StoredForm::mode2:
      return "MODE2";
    case StoredForm::form2_user:
      return "MODE2_FORM2";
    case StoredForm::mode1_user:
      return "MODE1";
    case StoredForm::form1_user:
      return "MODE2_FORM1";
    default:
      return mode1 ? "MODE1_RAW" : "MODE2_RAW";
  }
}

/// Sectors between this track and the next of its session that are on no track.
std::uint32_t gap_behind(const std::vector<cd::Track>& tracks, std::size_t i) {
  const cd::Track &track = tracks[i], &next = tracks[i + 1];
  return next.session == track.session ? static_cast<std::uint32_t>(std::max(0, next.pregap_lba - track.end_lba)) : 0;
}

/// A GD-ROM, or a disc laid out like one.
bool has_gaps(const std::vector<cd::Track>& tracks) {
  for (std::size_t i = 0; i + 1 < tracks.size(); ++i)
    if (gap_behind(tracks, i) > 0) return true;
  return false;
}

}  // namespace

CdFrames make_frames(CdImagePtr disc) {
  CdFrames result;
  std::vector<FrameTrack> tracks;
  std::uint64_t frame = 0;
  const auto& layout_tracks = disc->layout().tracks;
  const bool gaps = has_gaps(layout_tracks);
  for (std::size_t i = 0; i < layout_tracks.size(); ++i) {
    const cd::Track& track = layout_tracks[i];
    std::vector<const Extent*> extents;
    for (const Extent& e : disc->extents())
      if (e.track == track.number) extents.push_back(&e);
    if (extents.empty())
      throw Error({.code = "bad_layout", .what = fmt::format("no file holds track {}", track.number)});
    FrameTrack t;
    t.lba = extents.front()->lba;
    t.frames = static_cast<std::uint32_t>(extents.back()->end() - t.lba);
    const StoredForm form = extents.front()->form;
    const bool alike = std::all_of(extents.begin(), extents.end(), [&](const Extent* e) { return e->form == form; });
    const bool as_stored = alike && form != StoredForm::raw_with_q;
    t.form = as_stored ? SectorForm::stored : SectorForm::raw;
    t.stored_bytes = as_stored ? stored_bytes(form) : cd::kRawBytes;
    const bool subcode = as_stored && form == StoredForm::raw_with_pw;
    t.sector_bytes = subcode ? cd::kRawBytes : t.stored_bytes;
    t.audio = track.mode.is_audio();
    t.first_frame = frame;
    constexpr std::uint32_t kAlign = 4;
    // Empty frames carry the address on to the next track where the disc has a gap.
    const std::uint32_t pad = gaps && i + 1 < layout_tracks.size() ? gap_behind(layout_tracks, i) : 0;
    t.end_frame = frame += round_up(t.frames + pad, kAlign);
    const std::string type = type_of(track, as_stored ? form : StoredForm::raw);
    const bool stored_gap = t.lba < track.start_lba;
    const std::uint32_t gap = stored_gap ? static_cast<std::uint32_t>(track.start_lba - t.lba) : track.pregap_unstored;
    const char* sub = !subcode ? "NONE" : disc->subchannel() == cd::SubchannelForm::packed ? "RW" : "RW_RAW";
    const std::string pad_text = gaps ? fmt::format(" PAD:{}", pad) : "";
    const std::string text =
        fmt::format("TRACK:{} TYPE:{} SUBTYPE:{} FRAMES:{}{} PREGAP:{} PGTYPE:{} PGSUB:NONE POSTGAP:{}", i + 1, type,
                    sub, t.frames + pad, pad_text, gap, stored_gap ? "V" + type : "MODE1", track.postgap_unstored);
    Bytes data = to_bytes(text);
    data.push_back(std::byte{0});
    result.tags.push_back({gaps ? "CHGD" : "CHT2", 1, 0, std::move(data)});
    result.runs.push_back({t.first_frame, t.frames, t.sector_bytes, subcode, t.audio});
    tracks.push_back(t);
  }
  result.logical = std::make_shared<FrameSource>(std::move(disc), std::move(tracks));
  return result;
}

}  // namespace opifex::chd
