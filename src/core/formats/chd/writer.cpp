#include "writer.hpp"

#include <algorithm>
#include <map>
#include <mutex>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/hash.hpp"

#include "bit_writer.hpp"
#include "decoder.hpp"
#include "encoder.hpp"

namespace opifex::chd {
namespace {

constexpr std::size_t kHeaderBytes = 124, kMapHead = 16, kTagHead = 16;
constexpr int kStored = 4, kSame = 5, kShortRun = 7, kLongRun = 8, kSameAgain = 9, kSameNext = 10;

void put_be(Bytes& out, std::uint64_t v, int bytes) {
  for (int i = bytes - 1; i >= 0; --i) out.push_back(static_cast<std::byte>(v >> 8 * i & 255));
}

/// A hunk on its way into the file.
struct Coded {
  int kind = kStored;  // slot, or stored
  std::uint16_t crc = 0;
  Sha1 sha1 = {};
  Bytes bytes;
};

struct Entry {
  int kind = kStored;
  std::uint32_t length = 0;
  std::uint16_t crc = 0;
  std::uint64_t place = 0;  // file offset; for copies the hunk
};

/// The map: types with runs under a prefix code, then the fields.
Bytes make_map(const std::vector<Entry>& entries, std::uint64_t first_offset) {
  std::vector<int> types;
  std::uint64_t most_length = 0, most_same = 0, last_same = 0;
  for (const Entry& e : entries) {
    int type = e.kind;
    if (type < kStored) most_length = std::max<std::uint64_t>(most_length, e.length);
    if (type == kSame) {
      type = e.place == last_same ? kSameAgain : e.place == last_same + 1 ? kSameNext : kSame;
      if (type == kSame) most_same = std::max(most_same, e.place);
      last_same = e.place;
    }
    types.push_back(type);
  }
  // Runs: what follows its like. The type before the first hunk counts as 0.
  std::vector<int> symbols;
  int last = 0;
  for (std::size_t i = 0; i < types.size();) {
    std::size_t run = 0;
    while (i + run < types.size() && types[i + run] == last) ++run;
    constexpr std::size_t kShortest = 3, kLong = 19, kLongest = 274;
    if (run < kShortest) {
      last = types[i++];
      symbols.push_back(last);
      continue;
    }
    run = std::min(run, kLongest);
    if (run < kLong) {
      symbols.insert(symbols.end(), {kShortRun, static_cast<int>(run - kShortest)});
    } else {
      const auto count = static_cast<int>(run - kLong);
      symbols.insert(symbols.end(), {kLongRun, count >> 4, count & 15});
    }
    i += run;
  }
  constexpr std::size_t kSymbols = 16;
  constexpr unsigned kMostBits = 8, kCrcBits = 16;
  std::vector<std::uint64_t> counts(kSymbols, 0);
  for (const int s : symbols) ++counts[static_cast<std::size_t>(s)];
  const CodeBook code = make_code(counts, kMostBits);
  BitWriter bits;
  write_rle_tree(code, bits);
  for (const int s : symbols)
    bits.put(code.codes[static_cast<std::size_t>(s)], code.lengths[static_cast<std::size_t>(s)]);
  const unsigned length_bits = bits_for(most_length), same_bits = bits_for(most_same);
  Bytes expanded;
  for (std::size_t n = 0; n < entries.size(); ++n) {
    const Entry& e = entries[n];
    if (e.kind < kStored) bits.put(e.length, length_bits);
    if (e.kind <= kStored) bits.put(e.crc, kCrcBits);
    if (types[n] == kSame) bits.put(e.place, same_bits);
    put_be(expanded, static_cast<std::uint64_t>(e.kind), 1);
    put_be(expanded, e.kind <= kStored ? e.length : 0, 3);
    put_be(expanded, e.place, 6);
    put_be(expanded, e.kind <= kStored ? e.crc : 0, 2);
  }
  Bytes map;
  put_be(map, bits.bytes().size(), 4);
  put_be(map, first_offset, 6);
  put_be(map, crc16(expanded), 2);
  for (const unsigned width : {length_bits, same_bits, 0u, 0u}) put_be(map, width, 1);
  map.insert(map.end(), bits.bytes().begin(), bits.bytes().end());
  return map;
}

class ChdPacker final : public Packer {
 public:
  explicit ChdPacker(WriteRequest request) : r_(std::move(request)) {}

  std::uint64_t source_bytes() const override { return r_.logical->size(); }
  std::uint64_t most_bytes() const override {
    // Nothing compresses: every hunk as it is, and a map of about four bytes each.
    std::uint64_t tags = 0;
    for (const Tag& t : r_.tags) tags += kTagHead + t.data.size();
    return kHeaderBytes + tags + hunks() * (r_.hunk_bytes + 8) + kMapHead + 64;
  }

  void write(OutputFile& file, Work& work) const override {
    file.write(Bytes(kHeaderBytes));
    write_tags(file);
    const std::uint64_t first_offset = file.size();
    std::vector<Entry> entries;
    const Sha1 raw = write_hunks(file, entries, work);
    const bool any_stored =
        std::any_of(entries.begin(), entries.end(), [](const Entry& e) { return e.kind <= kStored; });
    const std::uint64_t map_offset = file.size();
    file.write(make_map(entries, any_stored ? first_offset : 0));
    file.rewrite(0, header(raw, map_offset));
  }

 private:
  std::uint64_t hunks() const { return (r_.logical->size() + r_.hunk_bytes - 1) / r_.hunk_bytes; }

  void write_tags(OutputFile& file) const {
    Bytes block;
    for (std::size_t i = 0; i < r_.tags.size(); ++i) {
      const Tag& t = r_.tags[i];
      const Bytes name = to_bytes(t.name);
      block.insert(block.end(), name.begin(), name.end());
      put_be(block, t.flags, 1);
      put_be(block, t.data.size(), 3);
      const std::uint64_t next = kHeaderBytes + block.size() + 8 + t.data.size();
      put_be(block, i + 1 < r_.tags.size() ? next : 0, 8);
      block.insert(block.end(), t.data.begin(), t.data.end());
    }
    file.write(block);
  }

  Coded encode(ByteView hunk, Encoder& encoder) const {
    Coded coded;
    coded.crc = crc16(hunk);
    coded.sha1 = sha1_from_hex(digest_of("sha1", hunk));
    for (std::size_t slot = 0; slot < r_.codecs.size(); ++slot) {
      Bytes bytes = encoder.encode(r_.codecs[slot], hunk);
      if (bytes.empty() || (coded.kind != kStored && bytes.size() >= coded.bytes.size())) continue;
      coded.kind = static_cast<int>(slot);
      coded.bytes = std::move(bytes);
    }
    return coded;
  }

  /// Hunks are coded side by side and written in order.
  Sha1 write_hunks(OutputFile& file, std::vector<Entry>& entries, Work& work) const {
    const std::uint64_t total = hunks(), size = r_.logical->size();
    const std::uint64_t batch = std::max<std::uint64_t>(1, kFlowBlockBytes / 4 / r_.hunk_bytes);
    std::vector<std::vector<Coded>> coded(2 * kBlocksInFlight);
    std::mutex mutex;
    std::vector<std::unique_ptr<Encoder>> encoders;
    std::map<Sha1, std::uint64_t> stored;  // where each distinct hunk is
    Digest raw("sha1");
    // Empty space is coded once: a sparse disc would spend all its time on it.
    Encoder first_encoder;
    const Coded empty = encode(Bytes(r_.hunk_bytes), first_encoder);
    Flow flow;
    flow.next = [&](FlowBlock& block) {
      const std::uint64_t first = block.index * batch;
      if (first >= total) return false;
      block.data.resize(static_cast<std::size_t>(std::min(batch, total - first) * r_.hunk_bytes));
      return true;
    };
    flow.work = [&](FlowBlock& block) {
      const std::uint64_t at = block.index * batch * r_.hunk_bytes;
      const auto there = static_cast<std::size_t>(std::min<std::uint64_t>(block.data.size(), size - at));
      r_.logical->read_at(at, std::span(block.data).first(there));
      std::fill(block.data.begin() + static_cast<std::ptrdiff_t>(there), block.data.end(), std::byte{0});
      std::unique_ptr<Encoder> encoder;
      {
        const std::lock_guard lock(mutex);
        if (!encoders.empty()) {
          encoder = std::move(encoders.back());
          encoders.pop_back();
        }
      }
      if (!encoder) encoder = std::make_unique<Encoder>();
      std::vector<Coded>& out = coded[block.index % coded.size()];
      out.clear();
      for (std::size_t h = 0; h < block.data.size(); h += r_.hunk_bytes) {
        const ByteView hunk = ByteView(block.data).subspan(h, r_.hunk_bytes);
        out.push_back(all_zero(hunk) ? empty : encode(hunk, *encoder));
      }
      const std::lock_guard lock(mutex);
      encoders.push_back(std::move(encoder));
    };
    flow.consume.emplace_back([&](const FlowBlock& block) {
      std::vector<Coded>& in = coded[block.index % coded.size()];
      for (std::size_t i = 0; i < in.size(); ++i) {
        const std::uint64_t number = block.index * batch + i;
        const auto [at, fresh] = stored.try_emplace(in[i].sha1, number);
        if (!fresh) {
          entries.push_back({kSame, 0, 0, at->second});
          continue;
        }
        const ByteView bytes = in[i].kind == kStored ? ByteView(block.data).subspan(i * r_.hunk_bytes, r_.hunk_bytes)
                                                     : ByteView(in[i].bytes);
        entries.push_back({in[i].kind, static_cast<std::uint32_t>(bytes.size()), in[i].crc, file.size()});
        file.write(bytes);
      }
      work.progress.done_bytes += block.data.size();
    });
    flow.consume.emplace_back([&](const FlowBlock& block) {
      const std::uint64_t at = block.index * batch * r_.hunk_bytes;
      raw.update(
          ByteView(block.data).first(static_cast<std::size_t>(std::min<std::uint64_t>(block.data.size(), size - at))));
    });
    run_flow(flow, work);
    return sha1_from_hex(raw.finish());
  }

  Bytes header(const Sha1& raw, std::uint64_t map_offset) const {
    Bytes h = to_bytes("MComprHD");
    put_be(h, kHeaderBytes, 4);
    put_be(h, 5, 4);
    for (std::size_t slot = 0; slot < 4; ++slot) {
      const Bytes name = slot < r_.codecs.size() ? to_bytes(r_.codecs[slot]) : Bytes(4);
      h.insert(h.end(), name.begin(), name.end());
    }
    put_be(h, r_.logical->size(), 8);
    put_be(h, map_offset, 8);
    put_be(h, r_.tags.empty() ? 0 : kHeaderBytes, 8);
    put_be(h, r_.hunk_bytes, 4);
    put_be(h, r_.unit_bytes, 4);
    const Sha1 overall = overall_sha1_of(raw, r_.tags);
    for (const Sha1& sha1 : {raw, overall, Sha1{}}) h.insert(h.end(), sha1.begin(), sha1.end());
    return h;
  }

  WriteRequest r_;
};

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
      const std::uint64_t wanted = (inside + out.size() + kFrameBytes - 1) / kFrameBytes;
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

PackerPtr make_packer(WriteRequest request) { return std::make_shared<ChdPacker>(std::move(request)); }

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
      if (e.track == track.number && e.end() > 0) extents.push_back(&e);
    if (extents.empty())
      throw Error({.code = "bad_layout", .what = fmt::format("no file holds track {}", track.number)});
    FrameTrack t;
    t.lba = std::max(0, extents.front()->lba);
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
    t.end_frame = frame += (t.frames + pad + kAlign - 1) / kAlign * kAlign;
    const std::string type = type_of(track, as_stored ? form : StoredForm::raw);
    const bool stored_gap = t.lba < track.start_lba;
    const std::uint32_t gap = stored_gap ? static_cast<std::uint32_t>(track.start_lba - t.lba) : track.pregap_unstored;
    const char* sub = !subcode ? "NONE" : disc->subchannel() == cd::SubchannelForm::packed ? "RW" : "RW_RAW";
    const std::string pad_text = gaps ? fmt::format(" PAD:{}", pad) : "";
    const std::string text = fmt::format(
        "TRACK:{} TYPE:{} SUBTYPE:{} FRAMES:{}{} PREGAP:{} PGTYPE:{} PGSUB:NONE POSTGAP:{}", track.number, type, sub,
        t.frames + pad, pad_text, gap, stored_gap ? "V" + type : "MODE1", track.postgap_unstored);
    Bytes data = to_bytes(text);
    data.push_back(std::byte{0});
    result.tags.push_back({gaps ? "CHGD" : "CHT2", 1, 0, std::move(data)});
    tracks.push_back(t);
  }
  result.logical = std::make_shared<FrameSource>(std::move(disc), std::move(tracks));
  return result;
}

}  // namespace opifex::chd
