// GameCube and Wii discs.
#include <algorithm>
#include <set>

#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/disc_use.hpp"

#include "disc_view.hpp"

namespace opifex {
namespace {

std::string nintendo_region(char letter) {
  switch (letter) {
    case 'E':
    case 'N':
      return "North America";
    case 'J':
      return "Japan";
    case 'K':
    case 'Q':
    case 'T':
      return "Korea";
    case 'D':
      return "Germany";
    case 'F':
      return "France";
    case 'I':
      return "Italy";
    case 'S':
      return "Spain";
    case 'H':
      return "Netherlands";
    case 'R':
      return "Russia";
    case 'U':
      return "Australia";
    case 'W':
      return "Taiwan";
    case 'C':
      return "China";
    case 'P':
    case 'X':
    case 'Y':
    case 'Z':
    case 'L':
    case 'M':
      return "Europe";
    default:
      return {};
  }
}

void take_problems(Identity& id, const std::vector<VolumeProblem>& problems) {
  for (const VolumeProblem& p : problems)
    if (p.weight != Weight::note) id.warnings.push_back({p.code, p.message});
}

std::uint64_t count_files(const Volume& volume) {
  return static_cast<std::uint64_t>(std::count_if(volume.entries.begin(), volume.entries.end(),
                                                  [](const VolumeEntry& e) { return e.kind == EntryKind::file; }));
}

/// What lies where no file is: pressed discs have noise there.
std::string padding_of(const ByteSource& disc, const DiscUse& use) {
  constexpr std::uint64_t kLooks = 256, kPiece = 2048;
  int blank = 0, filled = 0;
  for (std::uint64_t i = 0; i < kLooks; ++i) {
    const std::uint64_t at = disc.size() / kLooks * i / kPiece * kPiece;
    if (use.touches(at, at + kPiece)) continue;
    const bool hole = disc.next_data(at) >= at + kPiece;
    ++(hole || all_zero(read_up_to(disc, at, kPiece)) ? blank : filled);
  }
  return blank + filled == 0 ? "" : filled == 0 ? "blank" : blank == 0 ? "filled" : "mixed";
}

void describe_gamecube(Identity& id, const SourcePtr& disc) {
  id.medium = "GameCube disc";
  const auto console = read_console_volume(disc);
  if (!console) return;
  take_problems(id, console->volume.problems);
  id.title = console->title;
  id.files = count_files(console->volume);
  bool cut = false, odd = false;
  for (const VolumeProblem& p : console->volume.problems) {
    if (!is_damage(p.weight)) continue;
    const bool short_image = p.weight == Weight::cut;
    (short_image ? cut : odd) = true;
  }
  const DiscUse use = use_of_gamecube(*console);
  if (use.known) id.used_bytes = use.bytes();
  const std::uint64_t size = disc->size();
  id.state = size == kGameCubeDiscBytes  ? "full"
             : size > kGameCubeDiscBytes ? "padded"
             : odd                       ? "unknown"
             : cut                       ? "truncated"
                                         : "trimmed";
  if (id.state == "full" && use.known) id.padding = padding_of(*disc, use);
}

std::string wii_region(std::uint32_t code) {
  return code == 0 ? "Japan" : code == 1 ? "North America" : code == 2 ? "Europe" : code == 4 ? "Korea" : "";
}

std::string wii_state(const SourcePtr& disc, const WiiDisc& wii, Identity& id) {
  const std::uint64_t size = disc->size(), end = wii.end();
  const bool cut = std::any_of(wii.problems.begin(), wii.problems.end(),
                               [](const VolumeProblem& p) { return p.weight == Weight::cut; });
  if (cut) return "truncated";
  if (size == kWiiDualLayerBytes || (size == kWiiSingleLayerBytes && end <= size)) return "full";
  if (!wii.sound) return "unknown";
  if (size > kWiiDualLayerBytes) return "padded";
  if (size >= end) return "trimmed";
  const DiscUse use = use_of_wii(disc, wii);
  if (!use.known) {
    id.warnings.push_back(
        {"short_unknown", "the image ends within a partition: without the key nobody can tell whether files are lost"});
    return "unknown";
  }
  if (size < use.end()) return "truncated";
  id.warnings.push_back(
      {"cut_in_partition", "the image ends within a partition, behind its last file: no file is lost"});
  return "trimmed";
}

void describe_partitions(Identity& id, const SourcePtr& disc, const WiiDisc& wii) {
  for (const WiiPartition& p : wii.partitions) {
    Identity::Partition out;
    out.kind = p.type_name();
    out.offset = p.offset;
    out.blank = p.blank;
    out.encrypted = !wii.plain;
    if (!p.listed_only) {
      out.size_bytes = p.end() - p.offset;
      out.title_id = p.title_id;
      out.key = to_string(p.key);
      if (p.key == WiiKey::wrong)
        id.warnings.push_back(
            {"wrong_key",
             fmt::format("the key {} does not fit the {} partition", WiiDisc::key_name(p.key_index), out.kind),
             {},
             Cause::wrong_key});
    }
    if (p.readable() && !p.blank) {
      try {
        const ConsoleVolume console = read_wii_partition(disc, p);
        out.title = console.title;
        out.files = count_files(console.volume);
        take_problems(id, console.volume.problems);
      } catch (const Error& e) {
        if (e.details.fault != Fault::refused) throw;
        id.warnings.push_back({e.details.code, out.kind + " partition: " + e.details.what});
      }
    }
    id.partitions.push_back(std::move(out));
  }
}

void describe_wii(Identity& id, const SourcePtr& disc, const KeyRing* keys) {
  const auto wii = read_wii_disc(disc, keys);
  if (!wii) return;
  take_problems(id, wii->problems);
  id.title = wii->title;
  id.medium = disc->size() > kWiiSingleLayerBytes || wii->end() > kWiiSingleLayerBytes ? "dual layer" : "single layer";
  if (const std::string region = wii_region(wii->region); wii->sound && !region.empty()) id.region = region;
  describe_partitions(id, disc, *wii);
  id.state = wii_state(disc, *wii, id);
  id.scrubbed = looks_scrubbed(*disc, *wii);
  if (const DiscUse use = use_of_wii(disc, *wii); use.known) id.used_bytes = use.bytes();
}

std::optional<Identity> identify_nintendo(const DiscView& view) {
  const Bytes head = view.read(0, 0x60);
  if (head.size() < 0x60 || view.start != 0) return std::nullopt;
  const bool wii = load_be32(head, kWiiMarkAt) == kWiiMark,
             gamecube = load_be32(head, kGameCubeMarkAt) == kGameCubeMark;
  if (!wii && !gamecube) return std::nullopt;
  Identity id;
  id.platform = wii ? "wii" : "gamecube";
  id.confidence = "certain";
  id.evidence.emplace_back(wii ? "the console's mark at 0x18" : "the console's mark at 0x1C");
  id.serial = view.field(0, 6);
  id.title = view.field(0x20, 64);
  id.disc = fmt::format("{}", std::to_integer<int>(head[6]) + 1);
  id.version = fmt::format("1.{:02}", std::to_integer<int>(head[7]));
  id.region = id.serial.size() > 3 ? nintendo_region(id.serial[3]) : "";
  const bool plain = std::all_of(id.serial.begin(), id.serial.end(),
                                 [](char c) { return (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z'); });
  if (!plain || id.serial.size() != 6)
    id.warnings.push_back({"odd_id", fmt::format("the id {} has characters no game has", id.serial)});
  if (wii)
    describe_wii(id, view.disc, view.keys);
  else
    describe_gamecube(id, view.disc);
  return id;
}

constexpr std::array kNintendoPlatforms = {Platform{"gamecube", "GameCube"}, Platform{"wii", "Wii"}};

}  // namespace

extern const Detector kNintendo = {kNintendoPlatforms, &identify_nintendo};

}  // namespace opifex
