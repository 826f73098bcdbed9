#include "opifex/core/formats/rom/convert.hpp"

#include <algorithm>
#include <array>
#include <bit>

#include "opifex/core/base/text.hpp"

#include "fields.hpp"

namespace opifex::rom {
namespace {

enum class Around { none, copier, interleaved };
constexpr Setting kContainer{.name = "container",
                             .type = SettingType::choice,
                             .help = "around a ROM: none, copier (512 bytes in front), interleaved (Mega Drive)",
                             .value = "WHAT",
                             .preset = "none",
                             .words =
                                 [] {
                                   return std::vector<std::string>{"none", "copier", "interleaved"};
                                 },
                             .details = "The 16 bytes in front of an NES image are no copier's: they always stay."};
constexpr Setting kByteOrder{.name = "byte-order",
                             .type = SettingType::choice,
                             .help = "of the words of an N64 ROM: big (as the console has them), swapped or little",
                             .value = "ORDER",
                             .preset = "big",
                             .words = [] {
                               return std::vector<std::string>{"big", "swapped", "little"};
                             }};
constexpr Setting kTrim{.name = "trim",
                        .help = "cut a ROM that was read too far to the size of its chip",
                        .details =
                            "Only where what goes is a repetition, nothing but FF or 00, or an open bus; never below "
                            "the size that the header tells. What is cut off is named as the loss padding."};
constexpr Setting kPad{.name = "pad",
                       .type = SettingType::choice,
                       .help = "fill a ROM with ff or 00 up to the size that its header tells, or to a power of two",
                       .value = "BYTE",
                       .words =
                           [] {
                             return std::vector<std::string>{"ff", "00"};
                           },
                       .implied = "ff"};
constexpr Setting kFixChecksums{.name = "fix-checksums",
                                .help = "put the checksums in a ROM's header right; changes it: <accept> header",
                                .details =
                                    "For ROMs that were changed on purpose. After a bad reading it only hides that: "
                                    "the checksum is what shows it."};
constexpr std::array<const Setting*, 5> kSettings = {&kContainer, &kByteOrder, &kTrim, &kPad, &kFixChecksums};

[[noreturn]] void refuse(const Machine& machine, std::string what, std::string hint) {
  throw Error({.code = "not_for_machine", .what = fmt::format("{} {}", machine.name, what), .hint = std::move(hint)});
}

Container wanted_container(const Machine& machine, const Settings& settings) {
  const auto around = settings.choice<Around>(kContainer);
  const auto order = settings.choice<ByteOrder>(kByteOrder);
  if (order != ByteOrder::big && !machine.has_byte_orders())
    refuse(machine, "ROMs have one order of bytes", "<byte-order> is for N64 ROMs");
  if (around == Around::copier && !machine.copier_header)
    refuse(machine, "ROMs have no copier's header of this kind", "<container> copier is for SNES, SMS and Game Gear");
  if (around == Around::interleaved && machine.id != "megadrive")
    refuse(machine, "ROMs are never interleaved", "<container> interleaved is for the Mega Drive");
  Container wanted{.header_bytes = around == Around::none ? 0 : kCopierHeader,
                   .interleaved = around == Around::interleaved,
                   .order = order};
  if (machine.id == "nes") wanted.header_bytes = kNesHeader;
  return wanted;
}

class Converter {
 public:
  Converter(const RomContent& content, const Settings& settings) : content_(content), settings_(settings) {}

  Converted run() {
    out_.machine = find_machine(content_.system);
    if (!out_.machine)
      throw Error({.code = "no_rom_header",
                   .what = "nothing tells what this ROM is for, and so nothing how to write it",
                   .file = content_.bytes->name(),
                   .hint = "if you know it, say so with <system>"});
    was_ = container_of(*content_.bytes, out_.machine);
    out_.container = wanted_container(*out_.machine, settings_);
    out_.rom = read_rom(*content_.bytes, was_);
    facts_ = examine(out_.machine, was_, out_.rom);
    trim();
    pad();
    fix_checksums();
    pack();
    return std::move(out_);
  }

 private:
  void step(std::string text) { out_.steps.push_back(std::move(text)); }
  void warn(std::string code, std::string message) { out_.warnings.push_back({std::move(code), std::move(message)}); }

  /// In front of what the size verdict counts.
  std::uint64_t uncounted() const { return out_.machine->id == "nes" ? kNesHeader + nes_areas(out_.rom).trainer : 0; }

  void trim() {
    if (!settings_.flag(kTrim)) return;
    if (!facts_.size.can_be_trimmed()) {
      if (facts_.size.status == SizeStatus::possible_overdump)
        warn("not_trimmed", "it may end in filler, or its data may: nothing proves it, so nothing was cut off");
      return;
    }
    const std::uint64_t keep = uncounted() + *facts_.size.true_bytes, gone = out_.rom.size() - keep;
    out_.losses.push_back({"padding", fmt::format("the last {}", human_size(gone)),
                           facts_.size.filler == Filler::mirror || facts_.size.filler == Filler::tail_mirror
                               ? "what repeats behind the end of the chip is cut off"
                               : fmt::format("{} bytes of filler behind the end of the chip are cut off ({})",
                                             grouped(gone), to_string(facts_.size.filler))});
    step(fmt::format("cut to the {} of the chip", human_size(*facts_.size.true_bytes)));
    out_.rom.resize(static_cast<std::size_t>(keep));
    out_.rom.shrink_to_fit();
  }

  void pad() {
    if (!settings_.has(kPad)) return;
    const std::uint64_t have = out_.rom.size() - std::min<std::uint64_t>(out_.rom.size(), uncounted());
    const auto declared = facts_.header.declared_bytes;
    const std::uint64_t want = declared ? *declared : std::bit_ceil(std::max<std::uint64_t>(1, have));
    if (want <= have) return;
    const bool ff = settings_.text(kPad) == "ff";
    step(fmt::format("filled with {} from {} to {}", ff ? "FF" : "00", human_size(have), human_size(want)));
    out_.rom.resize(out_.rom.size() + static_cast<std::size_t>(want - have), ff ? std::byte{0xFF} : std::byte{0});
    if (!checksum_is_right(*out_.machine, out_.rom))
      warn("not_confirmed",
           "no checksum confirms that this is what the chip holds: the end may be missing, and now it "
           "cannot be seen any more");
  }

  void fix_checksums() {
    if (!settings_.flag(kFixChecksums)) return;
    auto right = with_right_checksums(*out_.machine, out_.rom);
    if (!right) return warn("no_checksum", "a ROM of this kind has no checksum that could be put right");
    if (*right == out_.rom) return;
    std::size_t bytes = 0;
    for (std::size_t i = 0; i < right->size(); ++i) bytes += (*right)[i] != out_.rom[i] ? 1u : 0u;
    out_.losses.push_back(
        {"header", plural(bytes, "byte"), "the checksums in the header are put right: what they said before is gone"});
    step("checksums of the header put right");
    out_.rom = std::move(*right);
  }

  void pack() {
    if (out_.machine->id == "nes") return;  // its header is a part of what was read
    if (was_.interleaved && !out_.container.interleaved) step("put in the order of the bus");
    if (!was_.interleaved && out_.container.interleaved) step("interleaved in blocks of 16 KiB");
    if (was_.order != out_.container.order)
      step(fmt::format("bytes of each word: {}", to_string(out_.container.order)));
    if (out_.container.header_bytes != 0) out_.header = copier_header(out_.rom.size(), out_.container, *out_.machine);
    if (was_.header_bytes == 0) {
      if (out_.container.header_bytes != 0) step("a copier's header of 512 bytes put in front");
      return;
    }
    if (out_.container.header_bytes == 0) step("the copier's header of 512 bytes left out");
    // What can be made again is not lost.
    const Bytes old = read_up_to(*content_.bytes, 0, was_.header_bytes);
    if (old != copier_header(out_.rom.size(), was_, *out_.machine))
      out_.losses.push_back({"copier-header", "the 512 bytes in front", "what the copier noted there is not kept"});
  }

  const RomContent& content_;
  const Settings& settings_;
  Container was_;
  Examined facts_;
  Converted out_;
};

}  // namespace

extern const Setting kSystem{
    .name = "system",
    .type = SettingType::choice,
    .help = "which console a cartridge is for, where a bad reading has spoiled its header",
    .value = "ID",
    .words = &machine_ids,
    .details = "The file is taken for a ROM of that console, and everything that can be told of it is told."};

std::span<const Setting* const> write_settings() { return kSettings; }

Converted convert(const RomContent& content, const Settings& settings) { return Converter(content, settings).run(); }

std::string_view usual_extension(const RomContent& content, const Settings& settings) {
  const bool packed = settings.choice<Around>(kContainer) != Around::none;
  const auto order = settings.choice<ByteOrder>(kByteOrder);
  if (content.system == "snes") return packed ? ".smc" : ".sfc";
  if (content.system == "megadrive") return packed ? ".smd" : ".md";
  if (content.system == "n64") return order == ByteOrder::big ? ".z64" : order == ByteOrder::swapped ? ".v64" : ".n64";
  for (const auto& [system, extension] : {std::pair("gb", ".gb"), std::pair("gbc", ".gbc"), std::pair("gba", ".gba"),
                                          std::pair("nes", ".nes"), std::pair("sms", ".sms"), std::pair("gg", ".gg")})
    if (content.system == system) return extension;
  return ".rom";
}

std::string_view usual_save_extension(const Machine& machine) {
  return machine.id == "snes" || machine.id == "megadrive" ? ".srm" : ".sav";
}

}  // namespace opifex::rom
