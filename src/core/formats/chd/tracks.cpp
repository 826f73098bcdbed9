#include "tracks.hpp"

#include <algorithm>
#include <array>
#include <charconv>

#include "opifex/core/base/text.hpp"

#include "decoder.hpp"

namespace opifex::chd {
namespace {

using Mode = cd::TrackMode::Kind;

struct TypeName {
  std::string_view name;
  Mode kind;
  std::uint16_t bytes;
};
constexpr std::array kTypes = {
    TypeName{"MODE1", Mode::mode1, 2048},       TypeName{"MODE1_RAW", Mode::mode1, 2352},
    TypeName{"MODE2", Mode::mode2, 2336},       TypeName{"MODE2_FORM1", Mode::mode2, 2048},
    TypeName{"MODE2_FORM2", Mode::mode2, 2324}, TypeName{"MODE2_FORM_MIX", Mode::mode2, 2336},
    TypeName{"MODE2_RAW", Mode::mode2, 2352},   TypeName{"AUDIO", Mode::audio, 2352},
    TypeName{"MODE1/2048", Mode::mode1, 2048},  TypeName{"MODE1/2352", Mode::mode1, 2352},
    TypeName{"MODE2/2336", Mode::mode2, 2336},  TypeName{"MODE2/2048", Mode::mode2, 2048},
    TypeName{"MODE2/2324", Mode::mode2, 2324},  TypeName{"MODE2/2352", Mode::mode2, 2352},
    TypeName{"CDI/2352", Mode::mode2, 2352},
};
constexpr std::array<std::string_view, 8> kOldTypes = {"MODE1",       "MODE1_RAW",      "MODE2",     "MODE2_FORM1",
                                                       "MODE2_FORM2", "MODE2_FORM_MIX", "MODE2_RAW", "AUDIO"};
constexpr std::uint32_t kAlign = 4;  // frames

std::uint32_t padding(std::uint32_t frames) { return (kAlign - frames % kAlign) % kAlign; }

class Reader {
 public:
  explicit Reader(const Chd& chd) : chd_(chd) {}

  Contents read() {
    for (const char* video : {"AVAV", "AVLD"})
      if (const Tag* t = chd_.tag(video))
        fail("codec", "audio/video CHDs are not supported", t->offset, video, "data, a disc or a hard disk");
    for (const char* family : {"CHT2", "CHTR", "CHGD", "CHGT"})
      if (chd_.tag(family)) return read_texts(family);
    if (const Tag* t = chd_.tag("CHCD")) return read_old(*t);
    Contents c;
    c.kind = chd_.tag("DVD ") ? Kind::dvd : chd_.tag("GDDD") ? Kind::hd : Kind::raw;
    return c;
  }

 private:
  [[noreturn]] void fail(const char* code, std::string what, std::uint64_t offset, std::string found,
                         std::string expected) const {
    throw Error({.code = code,
                 .what = std::move(what),
                 .file = chd_.name(),
                 .offset = offset,
                 .found = std::move(found),
                 .expected = std::move(expected)});
  }
  [[noreturn]] void bad(const Tag& t, std::string found, std::string expected) const {
    fail("tracks", "the track list of this CHD makes no sense", t.offset, std::move(found), std::move(expected));
  }

  Contents read_texts(const std::string& family) {
    Contents c;
    c.kind = family.starts_with("CHG") ? Kind::gdrom : Kind::cd;
    for (const Tag& t : chd_.tags())
      if (t.name == family) c.tracks.push_back(parse(t, family));
    return finish(std::move(c), *chd_.tag(family));
  }

  ChdTrack parse(const Tag& t, const std::string& family) const {
    std::map<std::string, std::string> fields;
    const std::string text = t.text();
    for (const std::string_view word : split_words(text)) {
      const std::size_t colon = word.find(':');
      if (colon == std::string_view::npos || !fields.emplace(word.substr(0, colon), word.substr(colon + 1)).second)
        bad(t, printable(word), "NAME:VALUE");
    }
    const auto text_of = [&](const char* name) {
      const auto at = fields.find(name);
      if (at == fields.end()) bad(t, printable(text.substr(0, 80)), std::string("a field ") + name);
      return at->second;
    };
    const auto number_of = [&](const char* name, std::uint32_t low) {
      const std::string value = text_of(name);
      std::uint32_t v = 0;
      const auto [end, error] = std::from_chars(value.data(), value.data() + value.size(), v);
      if (error != std::errc() || end != value.data() + value.size() || v < low ||
          v > static_cast<std::uint32_t>(cd::kMaxGdRomSectors))
        bad(t, fmt::format("{}:{}", name, printable(value)), fmt::format("a number from {}", low));
      return v;
    };
    ChdTrack track;
    track.number = static_cast<int>(number_of("TRACK", 1));
    track.type = text_of("TYPE");
    track.subtype = text_of("SUBTYPE");
    track.frames = number_of("FRAMES", 1);
    const bool gaps = family != "CHTR";
    if (gaps) {
      track.pregap = number_of("PREGAP", 0);
      track.postgap = number_of("POSTGAP", 0);
      track.pregap_stored = text_of("PGTYPE").starts_with('V');
      text_of("PGSUB");
    }
    if (family.starts_with("CHG")) track.pad = number_of("PAD", 0);
    if (track.pregap_stored && track.pregap > track.frames)
      bad(t, fmt::format("a pregap of {}", track.pregap), fmt::format("at most {}", track.frames));
    if (track.pad > track.frames) bad(t, fmt::format("PAD:{}", track.pad), fmt::format("at most {}", track.frames));
    complete(t, track, family != "CHGT");
    return track;
  }

  void complete(const Tag& t, ChdTrack& track, bool big_endian) const {
    const auto type =
        std::find_if(kTypes.begin(), kTypes.end(), [&](const TypeName& n) { return n.name == track.type; });
    if (type == kTypes.end()) bad(t, "TYPE:" + printable(track.type), "a known track type");
    if (track.subtype != "NONE" && track.subtype != "RW" && track.subtype != "RW_RAW")
      bad(t, "SUBTYPE:" + printable(track.subtype), "NONE, RW or RW_RAW");
    track.mode = {type->kind, type->bytes};
    track.swapped = track.mode.is_audio() && big_endian;
  }

  Contents read_old(const Tag& t) {
    constexpr std::size_t kBytes = 2380, kEach = 24, kMost = 99;
    if (t.data.size() < kBytes) bad(t, fmt::format("{} bytes", t.data.size()), "2380");
    const bool little = load_be32(t.data, 0) > kMost;
    const auto field = [&](std::size_t at) { return little ? load_le32(t.data, at) : load_be32(t.data, at); };
    Contents c;
    c.kind = Kind::cd;
    const std::uint32_t count = field(0);
    if (count == 0 || count > kMost) bad(t, fmt::format("{} tracks", count), "1 to 99");
    for (std::uint32_t i = 0; i < count; ++i) {
      const std::size_t at = 4 + i * kEach;
      ChdTrack track;
      track.number = static_cast<int>(i) + 1;
      const std::uint32_t type = field(at), subtype = field(at + 4);
      if (type >= kOldTypes.size() || subtype > 2)
        bad(t, fmt::format("type {} / {}", type, subtype), "0 to 7 / 0 to 2");
      track.type = kOldTypes.at(type);
      track.subtype = subtype == 0 ? "RW" : subtype == 1 ? "RW_RAW" : "NONE";
      track.frames = field(at + 16);
      if (track.frames == 0 || track.frames > static_cast<std::uint32_t>(cd::kMaxGdRomSectors))
        bad(t, fmt::format("{} frames", track.frames), "a track's length");
      complete(t, track, true);
      c.tracks.push_back(std::move(track));
    }
    return finish(std::move(c), t);
  }

  Contents finish(Contents c, const Tag& t) {
    if (chd_.header().unit_bytes != kFrameBytes)
      bad(t, fmt::format("units of {} bytes", chd_.header().unit_bytes), "2448");
    std::stable_sort(c.tracks.begin(), c.tracks.end(),
                     [](const ChdTrack& a, const ChdTrack& b) { return a.number < b.number; });
    if (c.tracks.size() > 99) bad(t, fmt::format("{} tracks", c.tracks.size()), "at most 99");
    std::uint64_t frame = 0, last_padding = 0;
    for (std::size_t i = 0; i < c.tracks.size(); ++i) {
      ChdTrack& track = c.tracks[i];
      if (track.number != static_cast<int>(i) + 1)
        bad(t, fmt::format("track {}", track.number), fmt::format("track {}", i + 1));
      track.first_frame = frame;
      last_padding = padding(track.frames);
      frame += track.frames + last_padding;
    }
    const std::uint64_t there = chd_.header().logical_bytes / kFrameBytes;
    if (frame - last_padding > there)
      bad(t, fmt::format("{} frames", frame), fmt::format("the {} frames there are", there));
    if (frame < there)
      c.warnings.push_back(
          {"frames_left_over", fmt::format("the tracks leave {} frames of this CHD unused", there - frame)});
    return c;
  }

  const Chd& chd_;
};

}  // namespace

std::string_view to_string(Kind kind) {
  constexpr std::array<std::string_view, 5> kNames = {"cd", "gdrom", "dvd", "hd", "raw"};
  return kNames[static_cast<std::size_t>(kind)];
}

Contents read_contents(const Chd& chd) { return Reader(chd).read(); }

void check_contents(const Chd& chd) {
  const Contents contents = read_contents(chd);
  std::vector<Warning> warnings;
  if (!contents.tracks.empty()) make_layout(contents, warnings);
}

cd::Layout make_layout(const Contents& contents, std::vector<Warning>& warnings) {
  using cd::Lba;
  cd::Layout layout;
  Lba at = 0;
  const auto& first = contents.tracks.front();
  // A gap before track 1 that is not stored is the 2 seconds every disc has.
  if (!first.pregap_stored && first.pregap > 0)
    at = -static_cast<Lba>(std::min<std::uint32_t>(first.pregap, cd::kFirstPregap));
  for (const ChdTrack& from : contents.tracks) {
    cd::Track t;
    t.number = from.number;
    t.mode = from.mode;
    // Frames with subcode keep it: 2448 bytes of a sector are stored.
    t.pregap_lba = at;
    t.start_lba = at + static_cast<Lba>(from.pregap);
    t.pregap_unstored = from.pregap_stored ? 0 : from.pregap;
    t.postgap_unstored = from.postgap;
    if (from.pregap_stored && from.pregap > 0) t.indexes[0] = at;
    t.indexes[1] = t.start_lba;
    const Lba stored = at + static_cast<Lba>(t.pregap_unstored);
    t.end_lba = stored + static_cast<Lba>(from.frames - from.pad + from.postgap);
    at = stored + static_cast<Lba>(from.frames + from.postgap);
    if (at > (contents.kind == Kind::gdrom ? cd::kMaxGdRomSectors : cd::kMaxDiscSectors))
      throw Error({.code = "tracks",
                   .what = "the tracks of this CHD are longer than any disc",
                   .found = fmt::format("{} sectors", at),
                   .expected = "at most 99:59:74"});
    layout.tracks.push_back(std::move(t));
  }
  if (contents.kind == Kind::gdrom) {
    const bool high = layout.tracks.size() > 2 && layout.tracks[2].start_lba == cd::kHighDensityStart;
    if (high)
      for (std::size_t i = 0; i < layout.tracks.size(); ++i)
        layout.tracks[i].area = i < 2 ? cd::Area::single_density : cd::Area::high_density;
    else
      warnings.push_back({"gd_rom_without_area", "track 3 of this GD-ROM does not begin at 45000"});
  }
  layout.lead_out = layout.tracks.back().end_lba;
  layout.sessions.push_back(
      {.number = 1, .first_track = 1, .last_track = layout.tracks.back().number, .lead_out = layout.lead_out});
  return layout;
}

}  // namespace opifex::chd
