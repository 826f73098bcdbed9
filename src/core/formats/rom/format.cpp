// What a cartridge's ROM holds, as one file.
#include "opifex/core/image/format.hpp"

#include "opifex/core/formats/rom/systems.hpp"

namespace opifex {

extern const Format kRomFormat;

namespace {

constexpr std::array<std::string_view, 13> kExtensions = {".rom", ".gb",  ".gbc", ".gba", ".sfc", ".smc", ".z64",
                                                          ".v64", ".n64", ".smd", ".nes", ".sms", ".gg"};

/// A bad contact spoils the header first: then the name has a say.
int probe(const ByteSource& source, std::string_view file_name) {
  if (const auto system = rom::detect_system(source)) return system->bits;
  const bool named =
      std::any_of(kExtensions.begin(), kExtensions.end(), [&](auto e) { return file_name.ends_with(e); });
  return named && rom::may_be_rom(source.size()) ? 4 : 0;
}

Image open(const std::filesystem::path& path, const OpenOptions& options) {
  Image image;
  image.format = &kRomFormat;
  image.path = path;
  const SourcePtr source = options.space().open(path);
  image.files.push_back({path, std::string(kRomFormat.id), source->size(), false, source});
  const auto system = rom::detect_system(*source);
  image.content = system ? RomContent{source, system->id, system->mark} : RomContent{source};
  if (!system)
    image.warnings.push_back({"no_rom_header", "no header of a known machine fits: a dirty contact, or no ROM at all"});
  return image;
}

constexpr std::array kPlatforms = {
    Platform{"gb", "Game Boy"}, Platform{"gbc", "Game Boy Color"},   Platform{"gba", "Game Boy Advance"},
    Platform{"snes", "SNES"},   Platform{"megadrive", "Mega Drive"}, Platform{"n64", "N64"},
    Platform{"nes", "NES"},     Platform{"sms", "Master System"},    Platform{"gg", "Game Gear"}};

}  // namespace

extern const Format kRomFormat = {.id = "rom",
                                  .title = "ROM of a cartridge",
                                  .extensions = kExtensions,
                                  .probe = &probe,
                                  .open = &open,
                                  .holds = {},
                                  .plan_write = nullptr,
                                  .platforms = kPlatforms};

}  // namespace opifex
