#include "opifex/core/platforms/identity.hpp"

#include <algorithm>
#include <map>
#include <optional>

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/volumes/iso9660.hpp"

namespace opifex {
namespace {

constexpr std::size_t kSmallFile = 64 << 10;
constexpr std::uint64_t kLicenceSector = 4;

/// SYSTEM.CNF: `KEY = value` lines, any case.
std::map<std::string, std::string> parse_settings(std::string_view text) {
  std::map<std::string, std::string> settings;
  while (!text.empty()) {
    const std::size_t end = std::min(text.find_first_of("\r\n\x1A"), text.size());
    const std::string_view line = text.substr(0, end);
    const std::size_t equals = line.find('=');
    if (equals != std::string_view::npos) {
      std::string value(trim(line.substr(equals + 1)));
      value.erase(std::find(value.begin(), value.end(), '\0'), value.end());
      settings[to_upper_ascii(trim(line.substr(0, equals)))] = value;
    }
    text.remove_prefix(std::min(end + 1, text.size()));
  }
  return settings;
}

/// `cdrom:\FOLDER\NAME;1 arguments` -> `FOLDER\NAME`
std::string boot_path(std::string_view value) {
  value = value.substr(0, value.find_first_of(" \t"));
  const std::size_t colon = value.find(':');
  if (colon != std::string_view::npos) value.remove_prefix(colon + 1);
  while (value.starts_with('\\') || value.starts_with('/')) value.remove_prefix(1);
  return std::string(value.substr(0, value.find(';')));
}

std::string without_blanks(std::string_view s) {
  std::string out;
  for (char c : s)
    if (c != ' ' && c != '\0') out += c;
  return out;
}

/// The licence text at sector 4 names the region; its words are broken by blanks.
std::string licence_region(const SourcePtr& disc) {
  const std::string text = without_blanks(as_text(read_up_to(*disc, kLicenceSector * cd::kUserBytes, 512)));
  if (text.find("Licensedby") == std::string::npos) return {};
  if (text.find("America") != std::string::npos) return "North America";
  if (text.find("Europe") != std::string::npos) return "Europe";
  if (text.find("Inc.") != std::string::npos) return "Japan";
  return {};
}

void from_system_cnf(const Iso9660& volume, const SourcePtr& disc, const IsoFile& file, Identity& id) {
  const auto settings = parse_settings(as_text(volume.read(file, kSmallFile)));
  const bool ps2 = settings.contains("BOOT2");
  const auto boot = settings.find(ps2 ? "BOOT2" : "BOOT");
  if (boot == settings.end()) return;
  id.platform = ps2 ? "ps2" : "ps1";
  id.boot_file = boot_path(boot->second);
  id.serial = serial_of_boot_path(id.boot_file);
  if (const auto version = settings.find("VER"); version != settings.end()) id.version = version->second;
  id.evidence.push_back(fmt::format("SYSTEM.CNF: {} = {}", ps2 ? "BOOT2" : "BOOT", printable(boot->second)));
  const auto executable = volume.find(id.boot_file);
  const std::string head(executable ? as_text(volume.read(*executable, 8)) : std::string_view{});
  const bool magic = ps2 ? head.starts_with(
                               "\x7F"
                               "ELF")
                         : head.starts_with("PS-X EXE");
  if (magic) id.evidence.push_back(fmt::format("{} is an executable of this platform", printable(id.boot_file)));
  id.confidence = magic ? "certain" : "likely";
  if (!ps2) id.region = licence_region(disc);
}

}  // namespace

std::string serial_of_boot_path(std::string_view path) {
  path = path.substr(0, path.find(';'));
  const std::size_t slash = path.find_last_of("\\/:");
  const std::string name = to_upper_ascii(slash == std::string_view::npos ? path : path.substr(slash + 1));
  const auto letter = [](char c) { return c >= 'A' && c <= 'Z'; };
  const auto digit = [](char c) { return c >= '0' && c <= '9'; };
  if (name.size() < 9 || !std::all_of(name.begin(), name.begin() + 4, letter)) return {};
  std::size_t at = name[4] == '_' || name[4] == '-' ? 5 : 4;
  std::string digits;
  for (; at < name.size() && digits.size() < 5; ++at) {
    if (name[at] == '.' && digits.size() == 3) continue;
    if (!digit(name[at])) return {};
    digits += name[at];
  }
  return digits.size() == 5 ? name.substr(0, 4) + "-" + digits : std::string{};
}

Identity identify_platform(const Image& image) {
  Identity id;
  const SourcePtr disc = image.user_data();
  if (!disc) {
    if (!image.cd || image.cd->layout().audio_track_count() == 0) return id;
    const bool listed = image.format && image.format->holds.track_list;
    id.platform = "audio-cd";
    id.confidence = listed ? "certain" : "guess";
    id.title = cd::find_text(image.cd->layout().texts, "TITLE").value_or("");
    id.evidence.push_back("all tracks are audio");
    return id;
  }
  const auto volume = Iso9660::open(disc);
  if (!volume) return id;
  id.platform = "iso9660";
  id.confidence = "certain";
  id.volume = printable(volume->volume_id);
  id.title = id.volume;
  id.evidence.push_back("a primary volume descriptor at sector 16");
  if (const auto settings = volume->find("SYSTEM.CNF")) {
    from_system_cnf(*volume, disc, *settings, id);
  } else if (volume->find("PSX.EXE")) {
    id.platform = "ps1";
    id.confidence = "likely";
    id.boot_file = "PSX.EXE";
    id.region = licence_region(disc);
    id.evidence.push_back("PSX.EXE in the root; the serial is not recorded on the disc");
  }
  return id;
}

}  // namespace opifex
