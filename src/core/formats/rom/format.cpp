// What a cartridge's ROM holds, as one file.
#include "opifex/core/image/format.hpp"

#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/rom/convert.hpp"

namespace opifex {

extern const Format kRomFormat;

namespace {

/// ".md" is not among them: more texts than ROMs are called so.
constexpr std::array<std::string_view, 13> kExtensions = {".rom", ".gb",  ".gbc", ".gba", ".sfc", ".smc", ".z64",
                                                          ".v64", ".n64", ".smd", ".nes", ".sms", ".gg"};

/// For what machine a file of this name usually is; null: nothing is usual.
const rom::Machine* machine_by_name(std::string_view file_name) {
  constexpr std::array kUsual = {std::pair(".gb", "gb"),    std::pair(".gbc", "gbc"),       std::pair(".gba", "gba"),
                                 std::pair(".sfc", "snes"), std::pair(".smc", "snes"),      std::pair(".z64", "n64"),
                                 std::pair(".v64", "n64"),  std::pair(".n64", "n64"),       std::pair(".nes", "nes"),
                                 std::pair(".sms", "sms"),  std::pair(".smd", "megadrive"), std::pair(".gg", "gg")};
  for (const auto& [extension, machine] : kUsual)
    if (file_name.ends_with(extension)) return rom::find_machine(machine);
  return nullptr;
}

constexpr std::array<const Setting*, 1> kReadSettings = {&rom::kSystem};

bool is_told(const Settings& settings) { return settings.has(rom::kSystem); }

/// A bad contact spoils the header first: then the name has a say.
int probe(const ByteSource& source, std::string_view file_name) {
  if (const auto system = rom::detect_system(source)) return system->bits;
  const bool named =
      std::any_of(kExtensions.begin(), kExtensions.end(), [&](auto e) { return file_name.ends_with(e); });
  return named && rom::may_be_rom(source.size()) ? 4 : 0;
}

RomContent content_of(SourcePtr source, const std::filesystem::path& path, const Settings& settings) {
  constexpr int kSure = 16;
  if (settings.has(rom::kSystem)) {
    if (source->size() > rom::most_file_bytes())
      throw Error({.code = "too_large",
                   .what = "this is larger than any cartridge",
                   .file = source->name(),
                   .found = fmt::format("{} bytes", source->size()),
                   .expected = fmt::format("at most {}", rom::most_file_bytes())});
    const rom::Machine* machine = rom::find_machine(settings.text(rom::kSystem));
    return {std::move(source), machine->id, "your word", Proven::told};
  }
  if (const auto system = rom::detect_system(*source))
    return {std::move(source), system->machine->id, system->mark,
            system->bits >= kSure ? Proven::certain : Proven::likely};
  const rom::Machine* usual = machine_by_name(fold_case(path.filename().string()));
  if (!usual || source->size() > rom::most_file_bytes()) return {std::move(source)};
  return {std::move(source), usual->id, "the ending of its name alone", Proven::guessed};
}

Image open(const std::filesystem::path& path, const OpenOptions& options) {
  Image image;
  image.format = &kRomFormat;
  image.path = path;
  const SourcePtr source = options.space().open(path);
  image.files.push_back({path, std::string(kRomFormat.id), source->size(), false, source});
  RomContent content = content_of(source, path, options.settings);
  if (content.system.empty() || content.proven == Proven::guessed)
    image.warnings.push_back({"no_rom_header", "no header of a known machine fits: a dirty contact, or no ROM at all",
                              "if you know another console that it is for, say so with <system>"});
  image.content = std::move(content);
  return image;
}

WritePlan plan_write(const Image& image, const std::filesystem::path& out, const Settings& settings) {
  rom::Converted made = rom::convert(std::get<RomContent>(image.content), settings);
  // The header of an NES image is the front of what was read.
  const rom::Container container = made.header.empty() ? rom::Container{.order = made.container.order} : made.container;
  WritePlan plan;
  plan.steps = std::move(made.steps);
  plan.steps.insert(plan.steps.begin(), fmt::format("write a {} ROM", made.machine->name));
  plan.warnings = std::move(made.warnings);
  PlannedOutput output{.path = out, .pieces = {}};
  output.pieces.emplace_back(rom::packed(std::move(made.rom), container, made.header));
  output.size_bytes = std::get<Bytes>(output.pieces.front()).size();
  plan.outputs.push_back(std::move(output));
  return plan;
}

std::vector<Loss> own_losses(const Image& image, const Settings& settings) {
  return rom::convert(std::get<RomContent>(image.content), settings).losses;
}

std::string_view extension_of(const Image& image, const Settings& settings) {
  const auto* content = std::get_if<RomContent>(&image.content);
  return content ? rom::usual_extension(*content, settings) : kExtensions.front();
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
                                  .holds = {.roms = true},
                                  .plan_write = &plan_write,
                                  .settings = rom::write_settings(),
                                  .read_settings = kReadSettings,
                                  .is_told = &is_told,
                                  .platforms = kPlatforms,
                                  .own_losses = &own_losses,
                                  .extension_of = &extension_of};

}  // namespace opifex
