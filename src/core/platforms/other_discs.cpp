// 3DO, PC Engine CD, PC-FX, Neo Geo CD, Amiga CDs, CD-i, discs of video, Xbox.
#include <algorithm>
#include <array>

#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/xbox_executable.hpp"
#include "opifex/core/volumes/xdvdfs_volume.hpp"

#include "disc_view.hpp"

namespace opifex {
namespace {

constexpr std::uint64_t kBlock = 2048;

Identity make(const char* platform, const char* confidence, std::string evidence) {
  Identity id;
  id.platform = platform;
  id.confidence = confidence;
  id.evidence.push_back(std::move(evidence));
  return id;
}

/// `NAME.EXT,number,number` lines of IPL.TXT whose ending is one of the loader's.
int load_lines(std::string_view text) {
  constexpr std::array<std::string_view, 7> kEndings = {"PRG", "FIX", "SPR", "Z80", "PCM", "PAT", "OBJ"};
  int lines = 0;
  while (!text.empty() && text[0] != '\x1A') {
    const std::size_t end = std::min(text.find_first_of("\r\n\x1A"), text.size());
    const std::string line = to_upper_ascii(text.substr(0, end));
    const std::size_t dot = line.find('.'), comma = line.find(',');
    const bool fits = dot != std::string::npos && comma == dot + 4 && std::count(line.begin(), line.end(), ',') == 2 &&
                      std::find(kEndings.begin(), kEndings.end(), line.substr(dot + 1, 3)) != kEndings.end();
    lines += fits ? 1 : 0;
    if (end < text.size() && text[end] == '\x1A') break;
    text.remove_prefix(std::min(end + 1, text.size()));
  }
  return lines;
}

}  // namespace

std::optional<Identity> identify_3do(const DiscView& view) {
  const Bytes head = view.read(0, 0x54);
  if (head.size() < 0x54 || !as_text(head).starts_with("\1ZZZZZ\1") || load_be32(head, 0x4C) != kBlock)
    return std::nullopt;
  Identity id = make("3do", "certain", "a volume label at sector 0");
  id.title = id.volume = view.field(0x28, 32);
  return id;
}

std::optional<Identity> identify_pc_engine(const DiscView& view) {
  if (as_text(view.read(0, 16)).starts_with("PC-FX:Hu_CD-ROM")) {
    Identity id = make("pcfx", "certain", "the system's name at sector 0");
    id.title = view.field(kBlock, 32);
    return id;
  }
  if (!as_text(view.read(kBlock + 0x20, 23)).starts_with("PC Engine CD-ROM SYSTEM")) return std::nullopt;
  Identity id = make("pcecd", "certain", "the system's name at sector 1");
  id.title = view.field(kBlock + 0x6A, 22);
  return id;
}

std::optional<Identity> identify_neogeocd(const DiscView& view) {
  const int lines = load_lines(as_text(view.file("IPL.TXT")));
  if (lines < 2) return std::nullopt;
  Identity id = make("neogeocd", "certain", fmt::format("IPL.TXT with {} lines of files to load", lines));
  id.title = id.volume = printable(view.iso->volume_id);
  return id;
}

std::optional<Identity> identify_amiga_cd(const DiscView& view) {
  if (!view.iso) return std::nullopt;
  const bool cd32 = view.has("CD32.TM"), cdtv = view.has("CDTV.TM"), system = view.iso->system_id == "CDTV",
             script = view.has("S/STARTUP-SEQUENCE");
  if (!cd32 && !cdtv && !(system && script)) return std::nullopt;
  Identity id = make(cd32 ? "cd32" : "cdtv", system && script && (cd32 || cdtv) ? "certain" : "likely",
                     cd32   ? "CD32.TM in the root"
                     : cdtv ? "CDTV.TM in the root"
                            : "the system identifier CDTV");
  if (script) id.evidence.push_back("S/STARTUP-SEQUENCE");
  id.title = id.volume = printable(view.iso->volume_id);
  return id;
}

std::optional<Identity> identify_cdi(const DiscView& view) {
  const Bytes label = view.read(16 * kBlock, 80);
  if (label.size() < 80 || !as_text(label).starts_with("\1CD-I \1")) return std::nullopt;
  Identity id = make("cdi", "certain", "a CD-i disc label at sector 16");
  id.title = id.volume = view.field(16 * kBlock + 40, 32);
  return id;
}

std::optional<Identity> identify_video(const DiscView& view) {
  struct Mark {
    const char *platform, *path, *magic;
  };
  constexpr std::array kMarks = {
      Mark{"video-cd", "VCD/INFO.VCD", "VIDEO_CD"}, Mark{"super-video-cd", "SVCD/INFO.SVD", "SUPERVCD"},
      Mark{"super-video-cd", "SVCD/INFO.SVD", "HQ-VCD"}, Mark{"dvd-video", "VIDEO_TS/VIDEO_TS.IFO", "DVDVIDEO-VMG"}};
  for (const Mark& m : kMarks) {
    if (!as_text(view.file(m.path, 16)).starts_with(m.magic)) continue;
    Identity id = make(m.platform, "certain", std::string(m.path) + " says so");
    id.volume = printable(view.iso->volume_id);
    const Bytes info = view.file(m.path, 32);
    // The album's name in INFO.VCD.
    if (std::string_view(m.platform) == "video-cd" && info.size() >= 26)
      id.title = printable(trim(as_text(info).substr(10, 16)));
    if (id.title.empty()) id.title = id.volume;
    return id;
  }
  return std::nullopt;
}

/// Title id, region and the rest, as the executable says.
void take_executable(Identity& id, const Volume& volume) {
  id.files = static_cast<std::uint64_t>(std::count_if(volume.entries.begin(), volume.entries.end(),
                                                      [](const VolumeEntry& e) { return e.kind == EntryKind::file; }));
  const auto executable = executable_of(volume);
  if (!executable) return;
  if (executable->title_id) {
    id.serial = title_id_text(*executable->title_id);
    id.short_id = short_title_id(*executable->title_id, executable->second);
  }
  if (executable->media_id) id.media_id = title_id_text(*executable->media_id);
  id.title = executable->name;
  id.version = executable->version;
  id.region = executable->region;
  id.disc = disc_text(executable->disc, executable->discs);
}

/// The executable in the root decides; before the game partition lies a small disc for video players.
std::optional<Identity> identify_xbox(const DiscView& view) {
  const auto offset = view.start == 0 ? find_game_partition(*view.disc) : std::nullopt;
  if (!offset) return std::nullopt;
  const auto volume = read_xdvdfs(view.disc);
  const bool second = volume && volume->find("default.xex") != nullptr;
  const bool first = volume && volume->find("default.xbe") != nullptr;
  Identity id = make(second ? "xbox360" : "xbox", "certain",
                     fmt::format("a game partition at {:#x}{}", *offset, *offset == 0 ? " (bare)" : ""));
  if (first || second) id.evidence.push_back(second ? "default.xex" : "default.xbe");
  if (volume) take_executable(id, *volume);
  // Pressed discs of each generation have one size.
  constexpr std::array<std::uint64_t, 3> kFull = {7'825'162'240, 7'838'695'424, 8'738'846'720};
  const bool full = std::find(kFull.begin(), kFull.end(), view.disc->size()) != kFull.end();
  const std::uint64_t end = *offset + (volume ? volume->blocks : 0) * 2048;
  id.state = full ? "full" : view.disc->size() < end ? "truncated" : "trimmed";
  return id;
}

}  // namespace opifex
