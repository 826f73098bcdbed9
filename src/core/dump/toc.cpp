#include "opifex/core/dump/toc.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/cd/subchannel.hpp"

namespace opifex::dump {
namespace {

using cd::Lba;

constexpr std::size_t kHeader = 4, kFullEntry = 11, kPlainEntry = 8, kPack = 18;
constexpr int kPointFirst = 0xA0, kPointLeadOut = 0xA2, kLeadOutTrack = 0xAA;
/// Sectors from the lead-out of the first session to the second's first track.
constexpr Lba kFirstSessionGap = 11400;

[[noreturn]] void bad_toc(ByteView reply, std::string found, std::string expected) {
  constexpr std::size_t kShown = 64;
  throw Error(
      {.fault = Fault::device,
       .code = "bad_toc",
       .what = "the drive's table of contents makes no sense: " + hex(reply.first(std::min(kShown, reply.size()))),
       .found = std::move(found),
       .expected = std::move(expected),
       .hint = "clean the disc, or try another drive"});
}

int value(std::byte b, bool bcd) { return bcd ? cd::from_bcd(b).value_or(-1) : std::to_integer<int>(b); }

struct FullEntry {
  int session, adr, control, point;
  std::optional<Lba> place;  // PMSF
};

std::optional<FullEntry> full_entry(ByteView e, bool bcd) {
  const int point = std::to_integer<int>(e[3]);
  FullEntry entry{
      std::to_integer<int>(e[0]), std::to_integer<int>(e[1]) >> 4, std::to_integer<int>(e[1]) & 15, point, {}};
  if (bcd && point < kPointFirst) entry.point = value(e[3], true);
  const cd::Msf msf{value(e[8], bcd), value(e[9], bcd), value(e[10], bcd)};
  if (msf.minute < 0 || msf.second < 0 || msf.second > 59 || msf.frame < 0 || msf.frame > 74) return entry;
  entry.place = cd::lba_of(msf);
  return entry;
}

void check(const Toc& toc, ByteView reply) {
  if (toc.tracks.empty()) bad_toc(reply, "no track", "1 to 99 tracks");
  if (toc.lead_outs.empty()) bad_toc(reply, "no lead-out", "one for each session");
  for (std::size_t i = 0; i < toc.tracks.size(); ++i) {
    const TocTrack& t = toc.tracks[i];
    if (t.number < 1 || t.number > 99) bad_toc(reply, fmt::format("track {}", t.number), "1 to 99");
    if (t.session < 1 || static_cast<std::size_t>(t.session) > toc.lead_outs.size())
      bad_toc(reply, fmt::format("session {}", t.session), fmt::format("1 to {}", toc.lead_outs.size()));
    const bool ascends = i == 0 || (t.start > toc.tracks[i - 1].start && t.number == toc.tracks[i - 1].number + 1 &&
                                    t.session >= toc.tracks[i - 1].session);
    if (!ascends || t.start < 0) bad_toc(reply, fmt::format("track {} at {}", t.number, t.start), "ascending starts");
    if (toc.end_of(i) <= t.start)
      bad_toc(reply, fmt::format("track {} from {} to {}", t.number, t.start, toc.end_of(i)),
              "an end behind its start");
  }
  if (toc.end() > cd::kMaxDiscSectors) bad_toc(reply, fmt::format("lead-out at {}", toc.end()), "at most 99:59:74");
}

/// Nothing if the numbers cannot be read this way.
std::optional<Toc> try_full(ByteView reply, bool bcd) {
  Toc toc;
  std::map<int, Lba> lead_outs;
  std::map<int, TocTrack> tracks;
  for (std::size_t at = kHeader; at + kFullEntry <= reply.size(); at += kFullEntry) {
    const auto e = full_entry(reply.subspan(at, kFullEntry), bcd);
    if (e->adr != 1) continue;
    const bool track = e->point >= 1 && e->point <= 99;
    if (!track && e->point != kPointLeadOut) continue;
    if (!e->place) return std::nullopt;
    if (track)
      tracks[e->point] = {e->point, e->session, e->control, *e->place};
    else
      lead_outs[e->session] = *e->place;
  }
  for (const auto& [number, track] : tracks) toc.tracks.push_back(track);
  int session = 0;
  for (const auto& [number, lba] : lead_outs) {
    if (number != ++session) return std::nullopt;
    toc.lead_outs.push_back(lba);
  }
  return toc;
}

bool plausible(const Toc& toc) {
  try {
    check(toc, {});
    return true;
  } catch (const Error&) {
    return false;
  }
}

}  // namespace

Lba Toc::end_of(std::size_t track) const {
  const TocTrack& t = tracks[track];
  const Lba lead_out = lead_outs[static_cast<std::size_t>(t.session) - 1];
  const bool last = track + 1 == tracks.size() || tracks[track + 1].session != t.session;
  return last ? lead_out : tracks[track + 1].start;
}

Toc parse_full_toc(ByteView reply) {
  const auto binary = try_full(reply, false);
  if (binary && plausible(*binary)) return *binary;
  if (auto bcd = try_full(reply, true); bcd && plausible(*bcd)) {
    bcd->warnings.push_back({"toc_in_bcd", "the drive gives its table of contents in BCD; it was decoded"});
    return *bcd;
  }
  if (!binary) bad_toc(reply, "times that are none", "minutes, seconds to 59, frames to 74");
  check(*binary, reply);
  return *binary;
}

Toc parse_plain_toc(ByteView reply, const std::optional<Bytes>& sessions) {
  Toc toc;
  Lba lead_out = -1;
  for (std::size_t at = kHeader; at + kPlainEntry <= reply.size(); at += kPlainEntry) {
    const ByteView e = reply.subspan(at, kPlainEntry);
    const int number = std::to_integer<int>(e[2]);
    const std::uint32_t start = load_be32(e, 4);
    if (start > 0x7FFFFFFF) bad_toc(reply, fmt::format("track {} at {:08X}", number, start), "an address of the disc");
    if (number == kLeadOutTrack)
      lead_out = static_cast<Lba>(start);
    else
      toc.tracks.push_back({number, 1, std::to_integer<int>(e[1]) & 15, static_cast<Lba>(start)});
  }
  if (lead_out < 0) bad_toc(reply, "no lead-out", "an entry AA");
  // Only the last session's first track is told: the end of the session before follows from the gap between sessions.
  if (sessions && sessions->size() >= kHeader + kPlainEntry) {
    const int count = std::to_integer<int>((*sessions)[3]);
    const int first_of_last = std::to_integer<int>((*sessions)[kHeader + 2]);
    const auto at = std::find_if(toc.tracks.begin(), toc.tracks.end(),
                                 [&](const TocTrack& t) { return t.number == first_of_last; });
    if (count == 2 && at != toc.tracks.end() && at != toc.tracks.begin()) {
      toc.lead_outs.push_back(at->start - kFirstSessionGap);
      for (auto t = at; t != toc.tracks.end(); ++t) t->session = 2;
    } else if (count > 2) {
      toc.warnings.push_back(
          {"sessions_unknown", fmt::format("the drive does not tell where the first {} sessions end", count - 1)});
    }
  }
  toc.lead_outs.push_back(lead_out);
  check(toc, reply);
  return toc;
}

namespace {

struct Pack {
  int type, track;
  bool wide;
  ByteView text;
};

std::optional<Pack> parse_pack(ByteView p) {
  const auto stored = static_cast<std::uint16_t>(std::to_integer<int>(p[16]) << 8 | std::to_integer<int>(p[17]));
  const bool told = stored != 0;  // some drives return no checksum
  if (told && static_cast<std::uint16_t>(~cd::q_crc(p.first(16))) != stored) return std::nullopt;
  const int block = std::to_integer<int>(p[3]) >> 4 & 7;
  if (block != 0) return std::nullopt;
  return Pack{std::to_integer<int>(p[0]), std::to_integer<int>(p[1]) & 0x7F, (p[3] & std::byte{0x80}) != std::byte{0},
              p.subspan(4, 12)};
}

}  // namespace

std::map<int, cd::Texts> parse_cd_text(ByteView reply) {
  constexpr std::array<const char*, 3> kNames = {"TITLE", "PERFORMER", "SONGWRITER"};
  constexpr int kFirstType = 0x80, kMaxTrack = 99;
  std::map<int, cd::Texts> texts;
  for (std::size_t type = 0; type < kNames.size(); ++type) {
    int track = -1;
    std::string text, before;
    const auto finish = [&] {
      if (text == "\t") text = before;
      if (const auto name = decode(text, "ISO-8859-1"); name && !name->empty() && track <= kMaxTrack)
        texts[track].emplace_back(kNames[type], printable(*name));
      before = std::exchange(text, "");
      ++track;
    };
    for (std::size_t at = kHeader; at + kPack <= reply.size(); at += kPack) {
      const auto pack = parse_pack(reply.subspan(at, kPack));
      if (!pack || pack->wide || pack->type != kFirstType + static_cast<int>(type)) continue;
      if (track < 0) track = pack->track;
      for (std::byte b : pack->text) {
        if (b == std::byte{0})
          finish();
        else
          text += static_cast<char>(b);
      }
    }
  }
  return texts;
}

}  // namespace opifex::dump
