// A header of 1 MiB with the table of contents, then the program area as raw sectors from LBA 0 to the lead-out.
#include "opifex/core/image/format.hpp"

#include <algorithm>

#include "opifex/core/formats/vcd/vcd.hpp"

namespace opifex {

extern const Format kVcdFormat;

namespace {

using cd::Lba;

constexpr std::array<std::string_view, 1> kExtensions = {".vcd"};
constexpr std::uint64_t kHeaderBytes = 0x100000;
constexpr std::size_t kMagicAt = 0x400, kCountAt = 0x408, kSecondCountAt = 0x40C;
constexpr std::array<std::byte, 4> kMagic = {std::byte{0x6B}, std::byte{0x48}, std::byte{0x6E}, std::byte{0x20}};
constexpr std::size_t kEntryBytes = 10;
constexpr std::byte kDiscTypeXa{0x20};

int probe(const ByteSource& source, std::string_view file_name) {
  const Bytes magic = read_up_to(source, kMagicAt, kMagic.size());
  const Bytes head = read_up_to(source, 0, 3);
  const bool fits = std::equal(magic.begin(), magic.end(), kMagic.begin(), kMagic.end()) && head[2] == std::byte{0xA0};
  if (fits) return 40;
  return file_name.ends_with(".vcd") ? 1 : 0;
}

class Reader {
 public:
  Reader(SourcePtr source, std::vector<Warning>& warnings) : source_(std::move(source)), warnings_(warnings) {}

  CdImagePtr read() {
    if (source_->size() < kHeaderBytes + cd::kRawBytes)
      refuse("too_small", "the file is too small for a VCD", {}, fmt::format("{} bytes", source_->size()),
             fmt::format("at least {}", kHeaderBytes + cd::kRawBytes), "it was cut short: copy or make it again");
    header_ = read_up_to(*source_, 0, kHeaderBytes);
    if (!std::equal(kMagic.begin(), kMagic.end(), header_.begin() + kMagicAt))
      refuse("bad_magic", "this is no VCD of a disc", kMagicAt, hex(ByteView(header_).subspan(kMagicAt, 4)),
             hex(kMagic), "a Video CD's image is another thing: name its .cue or .bin");
    read_tracks();
    check_counts();
    const std::vector<Extent> extents = make_extents();
    auto disc = std::make_shared<CdImage>(layout_, extents);
    return with_modes(disc);
  }

 private:
  [[noreturn]] void refuse(std::string code, std::string what, std::optional<std::uint64_t> at, std::string found,
                           std::string expected, std::string hint = {}) const {
    throw Error({.code = std::move(code),
                 .what = std::move(what),
                 .file = source_->name(),
                 .offset = at,
                 .found = std::move(found),
                 .expected = std::move(expected),
                 .hint = std::move(hint)});
  }

  ByteView entry(std::size_t i) const { return ByteView(header_).subspan(i * kEntryBytes, kEntryBytes); }

  void require_point(std::size_t i, std::byte point, const char* code) const {
    const ByteView e = entry(i);
    if (e[2] != point || (e[0] & std::byte{0x0F}) != std::byte{1})
      refuse(code, "an entry of the table of contents is not where it belongs", i * kEntryBytes, hex(e.first(3)),
             fmt::format("point {:02x}", std::to_integer<unsigned>(point)));
  }

  Lba time(std::size_t i, std::size_t at) const {
    const ByteView e = entry(i);
    const auto msf = cd::msf_from_bcd(e[at], e[at + 1], e[at + 2]);
    if (!msf)
      refuse("bad_bcd", "a time in the table of contents is none", i * kEntryBytes + at, hex(e.subspan(at, 3)),
             "minutes, seconds to 59, frames to 74, in BCD");
    return cd::lba_of(*msf);
  }

  void read_tracks() {
    for (std::size_t i = 0; i < 3; ++i) require_point(i, static_cast<std::byte>(0xA0 + i), "bad_descriptor");
    const auto first = cd::from_bcd(entry(0)[7]), last = cd::from_bcd(entry(1)[7]);
    if (!first || !last || *first < 1 || *last < *first)
      refuse("bad_track_number", "the track numbers are impossible", 7,
             fmt::format("{} to {}", hex(entry(0).subspan(7, 1)), hex(entry(1).subspan(7, 1))), "01 to 99 in BCD");
    layout_.lead_out = time(2, 7);
    const std::size_t count = static_cast<std::size_t>(*last - *first) + 1;
    for (std::size_t i = 0; i < count; ++i) {
      require_point(3 + i, cd::to_bcd(*first + static_cast<int>(i)), "track_order");
      add_track(i, *first + static_cast<int>(i));
    }
    if (layout_.tracks.back().start_lba >= layout_.lead_out)
      refuse("track_past_end", "the last track begins behind the end of the disc", {},
             cd::to_string(cd::msf_of_lba(layout_.tracks.back().start_lba)),
             "before " + cd::to_string(cd::msf_of_lba(layout_.lead_out)));
    const auto stored = static_cast<Lba>(
        std::min<std::uint64_t>((source_->size() - kHeaderBytes) / cd::kRawBytes, cd::kMaxDiscSectors));
    if (layout_.lead_out > stored)
      refuse(
          "truncated", "the file ends before the disc does", source_->size(), fmt::format("{} sectors", stored),
          fmt::format("{}", layout_.lead_out),
          "it was cut short, or its writer moved the times for gaps it did not store: make it again from the original");
    layout_.tracks.back().end_lba = layout_.lead_out;
    layout_.sessions.push_back({.number = 1, .first_track = *first, .last_track = *last, .lead_out = layout_.lead_out});
  }

  void add_track(std::size_t i, int number) {
    const Lba index00 = time(3 + i, 3), index01 = time(3 + i, 7);
    const Lba before = i == 0 ? -cd::kFirstPregap : layout_.tracks.back().start_lba;
    if (index01 < 0 || index00 > index01 || (i > 0 && index00 <= before))
      refuse("index_order", fmt::format("the times of track {} do not rise", number), (3 + i) * kEntryBytes,
             fmt::format("{} and {}", cd::to_string(cd::msf_of_lba(index00)), cd::to_string(cd::msf_of_lba(index01))),
             "after " + cd::to_string(cd::msf_of_lba(before)));
    cd::Track track;
    track.number = number;
    const bool data = (entry(3 + i)[0] & std::byte{0x40}) != std::byte{0};
    track.mode = {data ? cd::TrackMode::Kind::mode2 : cd::TrackMode::Kind::audio, cd::kRawBytes};
    track.start_lba = index01;
    track.pregap_lba = i == 0 ? 0 : index00;  // before LBA 0 nothing is stored
    if (track.pregap_lba < track.start_lba) track.indexes[0] = track.pregap_lba;
    track.indexes[1] = track.start_lba;
    if (i > 0) layout_.tracks.back().end_lba = track.pregap_lba;
    layout_.tracks.push_back(std::move(track));
  }

  void check_counts() {
    const std::uint32_t count = load_le32(header_, kCountAt), second = load_le32(header_, kSecondCountAt);
    const auto expected = static_cast<std::uint32_t>(layout_.lead_out + cd::kFirstPregap);
    if (count != second)
      warn("copies_differ",
           fmt::format("the two sector counts differ ({} and {}); the table of contents counts", count, second));
    else if (count != expected)
      warn("count_mismatch",
           fmt::format("the sector count is {}, the table of contents says {}; the table counts", count, expected));
    const std::uint64_t data = source_->size() - kHeaderBytes;
    if (data % cd::kRawBytes != 0)
      warn("partial_sector", fmt::format("the file ends with {} bytes of a sector", data % cd::kRawBytes),
           Cause::incomplete);
    const std::uint64_t stored = data / cd::kRawBytes, wanted = static_cast<std::uint64_t>(layout_.lead_out);
    if (stored > wanted)
      warn("trailing_data", fmt::format("{} sectors behind the end of the disc are ignored", stored - wanted));
    const std::size_t used = (3 + layout_.tracks.size()) * kEntryBytes;
    const ByteView h(header_);
    if (!all_zero(h.subspan(used, kMagicAt - used)) || !all_zero(h.subspan(kMagicAt + 4, 4)) ||
        !all_zero(h.subspan(0x410)))
      warn("reserved_nonzero", "bytes of the header that should be zero are not");
  }

  std::vector<Extent> make_extents() const {
    std::vector<Extent> extents;
    for (const cd::Track& t : layout_.tracks)
      extents.push_back({.track = t.number,
                         .lba = t.pregap_lba,
                         .sectors = static_cast<std::uint32_t>(t.end_lba - t.pregap_lba),
                         .source = source_,
                         .offset = kHeaderBytes + static_cast<std::uint64_t>(t.pregap_lba) * cd::kRawBytes});
    return extents;
  }

  /// The header tells data from audio only; the mode comes from the sectors.
  CdImagePtr with_modes(const CdImagePtr& disc) {
    for (cd::Track& t : layout_.tracks) {
      if (t.mode.is_audio()) continue;
      cd::Sector s;
      disc->read_sector(t.start_lba, s);
      if (!cd::has_sync(s)) {
        warn("no_sync", fmt::format("track {} should be data, but its first sector has no sync", t.number));
      } else if (const auto lba = cd::header_lba(s); lba && *lba != t.start_lba) {
        warn("address_mismatch",
             fmt::format(
                 "track {} should begin at {}, its first sector says {}: its writer may have handled a gap wrongly",
                 t.number, cd::to_string(cd::msf_of_lba(t.start_lba)), cd::to_string(cd::msf_of_lba(*lba))));
      }
      if (cd::has_sync(s) && cd::header_mode(s) == 1) t.mode.kind = cd::TrackMode::Kind::mode1;
    }
    return std::make_shared<CdImage>(layout_, disc->extents());
  }

  void warn(std::string code, std::string message, Cause cause = Cause::other) {
    warnings_.push_back({std::move(code), std::move(message), {}, cause});
  }

  SourcePtr source_;
  std::vector<Warning>& warnings_;
  Bytes header_;
  cd::Layout layout_;
};

}  // namespace

CdImagePtr vcd::read_disc(const SourcePtr& source, std::vector<Warning>& warnings) {
  return Reader(source, warnings).read();
}

namespace {

Image open(const std::filesystem::path& path, const OpenOptions& options) {
  Image image;
  image.format = &kVcdFormat;
  image.path = path;
  const SourcePtr source = options.space().open(path);
  image.files.push_back({path, "vcd", source->size(), false, source});
  image.content = CdContent{vcd::read_disc(source, image.warnings)};
  return image;
}

void put_time(std::span<std::byte> at, Lba lba) {
  const cd::Msf msf = cd::msf_of_lba(lba);
  at[0] = cd::to_bcd(msf.minute);
  at[1] = cd::to_bcd(msf.second);
  at[2] = cd::to_bcd(msf.frame);
}

Bytes make_header(const std::vector<cd::Track>& tracks, Lba lead_out) {
  Bytes header(kHeaderBytes);
  const auto entry = [&](std::size_t i) { return std::span(header).subspan(i * kEntryBytes, kEntryBytes); };
  const auto control = [](const cd::Track& t) { return t.mode.is_audio() ? std::byte{0x01} : std::byte{0x41}; };
  for (std::size_t i = 0; i < 3; ++i) {
    entry(i)[0] = control(i == 0 ? tracks.front() : tracks.back());
    entry(i)[2] = static_cast<std::byte>(0xA0 + i);
  }
  entry(0)[7] = cd::to_bcd(tracks.front().number);
  entry(0)[8] = kDiscTypeXa;
  entry(1)[7] = cd::to_bcd(tracks.back().number);
  put_time(entry(2).subspan(7), lead_out);
  for (std::size_t i = 0; i < tracks.size(); ++i) {
    const auto e = entry(3 + i);
    e[0] = control(tracks[i]);
    e[2] = cd::to_bcd(tracks[i].number);
    put_time(e.subspan(3), i == 0 ? -cd::kFirstPregap : tracks[i].pregap_lba);
    put_time(e.subspan(7), tracks[i].start_lba);
  }
  std::copy(kMagic.begin(), kMagic.end(), header.begin() + kMagicAt);
  const auto count = static_cast<std::uint32_t>(lead_out + cd::kFirstPregap);
  store_le32(header, kCountAt, count);
  store_le32(header, kSecondCountAt, count);
  return header;
}

WritePlan plan_write(const Image& image, const std::filesystem::path& out, const Settings&) {
  const cd::Layout& layout = image.cd()->layout();
  if (layout.tracks.front().number != 1)
    throw Error({.code = "first_track",
                 .what = "a VCD must begin with track 1",
                 .file = image.path.string(),
                 .found = fmt::format("track {}", layout.tracks.front().number),
                 .expected = "track 1"});
  // Several sessions or areas: the first one, if the user said so.
  std::vector<cd::Track> tracks;
  for (const cd::Track& t : layout.tracks)
    if (t.session == layout.tracks.front().session && t.area != cd::Area::high_density) tracks.push_back(t);
  refuse_holes(image, tracks);
  const Lba lead_out = tracks.back().end_lba;
  PlannedOutput output{out, {}, 0};
  output.pieces.emplace_back(make_header(tracks, lead_out));
  output.pieces.emplace_back(SectorRun{0, static_cast<std::uint32_t>(lead_out), SectorForm::raw});
  output.size_bytes = kHeaderBytes + static_cast<std::uint64_t>(lead_out) * cd::kRawBytes;
  WritePlan plan;
  plan.steps.push_back(
      fmt::format("write a header of 1 MiB and {} raw sectors to {}", lead_out, out.filename().string()));
  plan.outputs.push_back(std::move(output));
  return plan;
}

}  // namespace

extern const Format kVcdFormat = {"vcd",       "virtual CD container",
                                  kExtensions, &probe,
                                  &open,       {.audio = true, .track_list = true, .form2 = true, .raw_headers = true},
                                  &plan_write};

}  // namespace opifex
