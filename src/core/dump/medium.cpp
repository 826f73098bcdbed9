#include "opifex/core/dump/medium.hpp"

#include <algorithm>
#include <array>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/cd/sector.hpp"
#include "opifex/core/image/image.hpp"
#include "opifex/core/platforms/platforms.hpp"
#include "opifex/core/volumes/iso9660/descriptors.hpp"

namespace opifex::dump {
namespace {

struct Profile {
  int number;
  const char* name;
  MediumKind kind;
  bool recordable;
};
// MMC-6, table 94
constexpr std::array kProfiles = {
    Profile{0x08, "CD-ROM", MediumKind::cd, false},    Profile{0x09, "CD-R", MediumKind::cd, true},
    Profile{0x0A, "CD-RW", MediumKind::cd, true},      Profile{0x10, "DVD-ROM", MediumKind::dvd, false},
    Profile{0x11, "DVD-R", MediumKind::dvd, true},     Profile{0x12, "DVD-RAM", MediumKind::dvd, true},
    Profile{0x13, "DVD-RW", MediumKind::dvd, true},    Profile{0x14, "DVD-RW", MediumKind::dvd, true},
    Profile{0x15, "DVD-R DL", MediumKind::dvd, true},  Profile{0x16, "DVD-R DL", MediumKind::dvd, true},
    Profile{0x1A, "DVD+RW", MediumKind::dvd, true},    Profile{0x1B, "DVD+R", MediumKind::dvd, true},
    Profile{0x2A, "DVD+RW DL", MediumKind::dvd, true}, Profile{0x2B, "DVD+R DL", MediumKind::dvd, true},
    Profile{0x40, "BD-ROM", MediumKind::bd, false},    Profile{0x41, "BD-R", MediumKind::bd, true},
    Profile{0x42, "BD-R", MediumKind::bd, true},       Profile{0x43, "BD-RE", MediumKind::bd, true},
};

/// 0 if the drive does not tell.
int current_profile(Drive& drive) {
  const auto reply = drive.configuration();
  return reply && reply->size() >= 8 ? load_be16(*reply, 6) : 0;
}

/// Reads 2048-byte blocks through the drive.
class DriveBlocks final : public ByteSource {
 public:
  DriveBlocks(Drive& drive, std::uint64_t blocks) : drive_(drive), blocks_(blocks) {}
  std::uint64_t size() const override { return blocks_ * cd::kUserBytes; }
  std::string name() const override { return drive_.transport().name(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    Bytes buffer(most_ * cd::kUserBytes);
    while (!out.empty()) {
      const std::uint64_t lba = offset / cd::kUserBytes, inside = offset % cd::kUserBytes;
      const auto wanted = static_cast<std::uint32_t>(std::min<std::uint64_t>(
          {most_, ceil_div<std::uint64_t>(inside + out.size(), cd::kUserBytes), blocks_ - lba}));
      const auto target = std::span(buffer).first(wanted * cd::kUserBytes);
      const Outcome outcome = drive_.read_blocks(static_cast<std::uint32_t>(lba), wanted, target, false);
      if (outcome.trouble == Trouble::bad_field && wanted > 1) {
        most_ = wanted / 2;
        continue;
      }
      if (outcome.bytes <= inside || !outcome.ok())
        throw Error({.fault = Fault::device,
                     .code = "read_failed",
                     .cause = Cause::unreadable,
                     .what = "the disc cannot be read here",
                     .file = name(),
                     .offset = offset,
                     .found = outcome.text});
      const std::size_t n = std::min(out.size(), outcome.bytes - static_cast<std::size_t>(inside));
      std::copy_n(buffer.begin() + static_cast<std::ptrdiff_t>(inside), n, out.begin());
      out = out.subspan(n);
      offset += n;
    }
  }

 private:
  Drive& drive_;
  std::uint64_t blocks_;
  mutable std::uint32_t most_ = 16;  // blocks a command may ask for
};

/// Raw sectors of one track, read through the drive to tell which disc it is: those that cannot be read are zeros, and
/// counted.
class DriveTrack final : public ByteSource {
 public:
  DriveTrack(Drive& drive, const cd::Track& track, std::uint64_t& failures)
      : drive_(drive), track_(track), failures_(failures) {}
  std::uint64_t size() const override { return static_cast<std::uint64_t>(sectors()) * cd::kRawBytes; }
  std::string name() const override { return drive_.transport().name(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    while (!out.empty()) {
      const auto lba = track_.pregap_lba + static_cast<cd::Lba>(offset / cd::kRawBytes);
      const auto inside = static_cast<std::size_t>(offset % cd::kRawBytes);
      if (lba != held_) {
        sector_.fill(std::byte{0});
        held_ = lba;
        if (!drive_.read_cd(lba, 1, {}, sector_).ok()) ++failures_;
      }
      const std::size_t n = std::min(out.size(), cd::kRawBytes - inside);
      std::copy_n(sector_.begin() + static_cast<std::ptrdiff_t>(inside), n, out.begin());
      out = out.subspan(n);
      offset += n;
    }
  }

 private:
  cd::Lba sectors() const { return track_.end_lba - track_.pregap_lba; }
  Drive& drive_;
  cd::Track track_;
  std::uint64_t& failures_;
  mutable cd::Lba held_ = -1;
  mutable cd::Sector sector_{};
};

void not_identified(std::vector<Warning>& warnings) {
  warnings.push_back({"not_identified", "sectors that would name it cannot be read: which disc this is stays open"});
}

void compare_size(const SourcePtr& disc, std::uint64_t blocks, std::vector<Warning>& warnings) {
  const auto volume = disc ? Iso9660::open(disc) : std::nullopt;
  if (!volume || volume->sector_count <= blocks) return;
  warnings.push_back({"volume_larger_than_disc",
                      fmt::format("the file system has {} blocks, the disc {}: a layer or a part of it is missing",
                                  volume->sector_count, blocks)});
}

/// Which disc of blocks is it? A damaged first sector must not stop the dump.
Identity identify(Drive& drive, std::uint64_t blocks, std::vector<Warning>& warnings) {
  Image image;
  image.path = drive.transport().name();
  image.content = BlockContent{.bytes = drive_blocks(drive, blocks)};
  try {
    Identity id = identify_platform(image);
    compare_size(image.blocks(), blocks, warnings);
    return id;
  } catch (const Error& e) {
    if (e.details.fault == Fault::device && e.details.cause != Cause::unreadable) throw;
    not_identified(warnings);
    return {};
  }
}

Toc read_toc(Drive& drive) {
  constexpr int kPlain = 0, kSessions = 1, kFull = 2;
  const auto full = drive.toc(kFull, 1);
  const auto plain = drive.toc(kPlain, 0);
  if (full && full->size() > 4) {
    Toc toc = parse_full_toc(*full);
    if (plain && plain->size() > 4) {
      try {
        const Toc other = parse_plain_toc(*plain, {});
        if (other.tracks.size() != toc.tracks.size() || other.end() != toc.end())
          toc.warnings.push_back(
              {"toc_contradiction", "the drive's short and full tables of contents differ; the full one counts"});
      } catch (const Error&) {  // the full one is enough
      }
    }
    return toc;
  }
  if (!plain || plain->size() <= 4)
    throw Error({.fault = Fault::device,
                 .code = "no_toc",
                 .what = "the table of contents cannot be read",
                 .file = drive.transport().name(),
                 .hint = "clean the disc, or try another drive"});
  Toc toc = parse_plain_toc(*plain, drive.toc(kSessions, 0));
  toc.warnings.push_back({"plain_toc", "this drive gives only the short table of contents"});
  return toc;
}

void read_texts(Drive& drive, Medium& medium) {
  constexpr int kCdText = 5;
  if (const auto packs = drive.toc(kCdText, 0)) medium.texts = parse_cd_text(*packs);
  medium.catalogue = drive.catalogue().value_or("");
  for (const TocTrack& t : medium.toc.tracks)
    if (!t.is_data())
      if (const auto isrc = drive.isrc(t.number)) medium.isrcs[t.number] = *isrc;
}

/// READ DVD STRUCTURE, format 00 (MMC-6, 6.23.3.2.1)
void read_layers(Drive& drive, Medium& medium) {
  const auto reply = drive.dvd_structure(0, 0, 0);
  constexpr std::size_t kNeeded = 21;
  if (!reply || reply->size() < kNeeded) return;
  const ByteView v(*reply);
  const auto u24 = [&](std::size_t at) { return load_be32(v, at - 1) & 0xFFFFFF; };
  medium.layers = (std::to_integer<int>(v[6]) >> 5 & 3) + 1;
  const bool opposite = (v[6] & std::byte{0x10}) != std::byte{0};
  if (medium.layers < 2) return;
  medium.name += ", dual layer";
  const std::uint32_t first = u24(9), end_of_layer0 = u24(17);
  if (!opposite || end_of_layer0 < first || end_of_layer0 - first + 1 >= medium.blocks) {
    medium.warnings.push_back(
        {"layer_break_unknown", "the drive's answer about the layers does not fit the disc's size"});
    return;
  }
  medium.layer_break = end_of_layer0 - first + 1;
}

void examine_cd(Drive& drive, Medium& medium) {
  medium.toc = read_toc(drive);
  medium.warnings.insert(medium.warnings.end(), medium.toc.warnings.begin(), medium.toc.warnings.end());
  read_texts(drive, medium);
}

/// An ordinary drive sees only a small part of some discs.
void warn_of_hidden_parts(Medium& medium) {
  // The high-density area of a GD-ROM is out of an ordinary drive's reach: it sees two short tracks.
  const auto& t = medium.toc.tracks;
  if (t.size() == 2 && t[0].is_data() && !t[1].is_data() && medium.toc.end() < cd::kHighDensityStart &&
      is_kind(medium.identity.platform, PlatformKind::plain_data) && medium.identity.boot_file.empty())
    medium.warnings.push_back(
        {"maybe_gd_rom",
         "if this is a GD-ROM, an ordinary drive sees only its two low-density tracks: the game itself "
         "is out of reach, and this dump is not the whole disc"});
}

/// What is on the disc, as an image whose sectors come through the drive.
Image drive_image(Drive& drive, const cd::Layout& layout, std::uint64_t& failures) {
  Image image;
  image.path = drive.transport().name();
  std::vector<Extent> extents;
  for (const cd::Track& t : layout.tracks)
    extents.push_back({.track = t.number,
                       .lba = t.pregap_lba,
                       .sectors = static_cast<std::uint32_t>(t.end_lba - t.pregap_lba),
                       .source = std::make_shared<DriveTrack>(drive, t, failures)});
  image.content = CdContent{std::make_shared<CdImage>(layout, std::move(extents))};
  return image;
}

void examine_blocks(Drive& drive, Medium& medium) {
  const auto capacity = drive.capacity();
  if (!capacity || capacity->blocks == 0)
    throw Error({.fault = Fault::device,
                 .code = "blank_disc",
                 .what = "the disc is blank, or was never closed",
                 .file = drive.transport().name()});
  medium.blocks = capacity->blocks;
  if (medium.kind == MediumKind::dvd) read_layers(drive, medium);
  medium.identity = identify(drive, medium.blocks, medium.warnings);
  // The discs of some consoles show a drive only a small film.
  constexpr std::uint64_t kSmall = 16 * 1024;
  const auto has_film = [&] {
    try {
      const auto volume = Iso9660::open(drive_blocks(drive, medium.blocks));
      return volume && volume->find("VIDEO_TS").has_value();
    } catch (const Error&) {
      return false;
    }
  };
  if (medium.kind == MediumKind::dvd && !medium.recordable && medium.blocks < kSmall && has_film())
    medium.warnings.push_back({"maybe_hidden_partition",
                               "so small a pressed DVD may belong to a console whose game partition an ordinary drive "
                               "cannot see: this dump would hold only its short film"});
}

}  // namespace

std::uint64_t Medium::sectors() const {
  if (kind != MediumKind::cd) return blocks;
  std::uint64_t sum = 0;
  cd::Lba from = 0;
  for (std::size_t i = 0; i < toc.tracks.size(); ++i) {
    const bool first = i > 0 && toc.tracks[i].session != toc.tracks[i - 1].session;
    if (first) from = toc.tracks[i].start;
    sum += static_cast<std::uint64_t>(toc.end_of(i) - from);
    from = toc.end_of(i);
  }
  return sum;
}

SourcePtr drive_blocks(Drive& drive, std::uint64_t blocks) { return std::make_shared<DriveBlocks>(drive, blocks); }

std::string fingerprint_of(Drive& drive) {
  Digest digest("sha1");
  digest.update(as_view(fmt::format("profile {}\n", current_profile(drive))));
  if (const auto capacity = drive.capacity()) digest.update(as_view(fmt::format("blocks {}\n", capacity->blocks)));
  constexpr int kFull = 2, kPlain = 0;
  for (const int format : {kFull, kPlain})
    if (const auto toc = drive.toc(format, format == kFull ? 1 : 0)) {
      digest.update(*toc);
      break;
    }
  return digest.finish();
}

void identify_cd(Drive& drive, Medium& medium, const cd::Layout& layout) {
  std::uint64_t failures = 0;
  const Image image = drive_image(drive, layout, failures);
  if (layout.audio_track_count() == layout.tracks.size()) {
    medium.identity.platform = kAudioCd.id;
    medium.identity.confidence = "certain";
    medium.identity.title = cd::find_text(medium.texts[0], "TITLE").value_or("");
    return;
  }
  try {
    medium.identity = identify_platform(image);
    compare_size(image.user_data(), static_cast<std::uint64_t>(layout.lead_out), medium.warnings);
  } catch (const Error& e) {
    if (e.details.fault != Fault::refused) throw;  // what stands there makes no sense
    ++failures;
  }
  if (failures > 0 && (medium.identity.platform.empty() || medium.identity.title.empty()))
    not_identified(medium.warnings);
  warn_of_hidden_parts(medium);
}

Medium examine_medium(Drive& drive) {
  drive.make_ready();
  Medium medium;
  medium.reader = drive.facts().name();
  const int profile = current_profile(drive);
  const auto known =
      std::find_if(kProfiles.begin(), kProfiles.end(), [&](const Profile& p) { return p.number == profile; });
  if (known != kProfiles.end()) {
    medium.kind = known->kind;
    medium.name = known->name;
    medium.recordable = known->recordable;
  } else {
    // Old drives know CDs only, and no profiles.
    if (profile != 0)
      medium.warnings.push_back({"unknown_profile", fmt::format("the drive calls the disc profile {:04X}", profile)});
    constexpr int kPlain = 0;
    medium.kind = drive.toc(kPlain, 0) ? MediumKind::cd : MediumKind::dvd;
    medium.name = medium.kind == MediumKind::cd ? "CD" : "disc of unknown kind";
  }
  medium.fingerprint = fingerprint_of(drive);
  if (medium.kind == MediumKind::cd)
    examine_cd(drive, medium);
  else
    examine_blocks(drive, medium);
  return medium;
}

}  // namespace opifex::dump
