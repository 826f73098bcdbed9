// PS1 and PS2: files in the root that name the executable.
#include <algorithm>
#include <map>

#include "opifex/core/base/text.hpp"

#include "disc_view.hpp"

namespace opifex {
namespace {

constexpr std::uint64_t kLicence = 4 * 2048;

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

/// The licence text at sector 4 names the region; its words are broken by blanks.
std::string licence_region(const DiscView& view) {
  const Bytes sector = view.read(kLicence, 512);
  std::string text;
  for (const char c : as_text(sector))
    if (c != ' ' && c != '\0') text += c;
  if (text.find("Licensedby") == std::string::npos) return {};
  if (text.find("America") != std::string::npos) return "North America";
  if (text.find("Europe") != std::string::npos) return "Europe";
  if (text.find("Inc.") != std::string::npos) return "Japan";
  return {};
}

Identity from_system_cnf(const DiscView& view, const std::map<std::string, std::string>& settings) {
  Identity id;
  const bool ps2 = settings.contains("BOOT2");
  const std::string& boot = settings.at(ps2 ? "BOOT2" : "BOOT");
  id.platform = ps2 ? "ps2" : "ps1";
  id.boot_file = boot_path(boot);
  id.serial = serial_of_boot_path(id.boot_file);
  if (const auto version = settings.find("VER"); version != settings.end()) id.version = version->second;
  if (const auto video = settings.find("VMODE"); video != settings.end()) id.video = video->second;
  id.evidence.push_back(fmt::format("SYSTEM.CNF: {} = {}", ps2 ? "BOOT2" : "BOOT", printable(boot)));
  const Bytes head = view.file(id.boot_file, 8);
  const bool magic = ps2 ? as_text(head).starts_with(
                               "\x7F"
                               "ELF")
                         : as_text(head).starts_with("PS-X EXE");
  if (magic) id.evidence.push_back(fmt::format("{} is an executable of this platform", printable(id.boot_file)));
  id.confidence = magic ? "certain" : "likely";
  if (!ps2) {
    id.region = licence_region(view);
    const std::string other = region_of_serial(id.serial);
    if (!id.region.empty() && !other.empty() && other != id.region)
      id.warnings.push_back({"regions_disagree", fmt::format("the licence text says {}, the serial {} is one of {}",
                                                             id.region, printable(id.serial), other)});
  }
  if (id.region.empty()) id.region = region_of_serial(id.serial);
  if (ps2 && settings.contains("BOOT")) id.also.push_back({"ps1", "guess"});
  return id;
}

std::optional<Identity> identify_playstation(const DiscView& view) {
  if (!view.iso) return std::nullopt;
  const Bytes file = view.file("SYSTEM.CNF");
  const auto settings = parse_settings(as_text(file));
  if (settings.contains("BOOT2") || settings.contains("BOOT")) return from_system_cnf(view, settings);
  if (!view.has("PSX.EXE")) return std::nullopt;
  Identity id;
  id.platform = "ps1";
  id.boot_file = "PSX.EXE";
  id.region = licence_region(view);
  const bool magic = as_text(view.file("PSX.EXE", 8)).starts_with("PS-X EXE");
  id.confidence = magic || !id.region.empty() ? "certain" : "likely";
  id.evidence.push_back("PSX.EXE in the root; the serial is not recorded on the disc");
  if (!id.region.empty()) id.evidence.push_back("a licence text at sector 4");
  return id;
}

constexpr std::array kPlayStationPlatforms = {Platform{"ps1", "PS1"}, Platform{"ps2", "PS2"}};

}  // namespace

extern const Detector kPlayStation = {kPlayStationPlatforms, &identify_playstation};

}  // namespace opifex
