// What a cartridge in a reader is, before it is read and afterwards.
#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/report/cartridge.hpp"
#include "opifex/report/dump.hpp"
#include "opifex/report/terminal.hpp"
#include "opifex/report/text.hpp"
#include "opifex/report/words.hpp"

namespace opifex::report {
namespace {

using dump::CartridgePlan;
using dump::CartridgeResult;
using dump::CartridgeVerdict;
using dump::UnstablePlaces;

constexpr std::size_t kShownOffsets = 8;  // what fits in a line; --json has more

std::string rough_duration(double seconds) {
  const auto whole = static_cast<std::uint64_t>(seconds + 0.5);
  if (whole < 120) return fmt::format("{} s", whole);
  return whole < 7200 ? fmt::format("{} min", whole / 60) : fmt::format("{} h {} min", whole / 3600, whole / 60 % 60);
}

std::string hash_lines(const std::vector<NamedHash>& hashes) {
  std::string text;
  for (const NamedHash& h : hashes) text += fmt::format("    {:<8} {}\n", h.name, h.value);
  return text;
}

Json hashes_json(const std::vector<NamedHash>& hashes) {
  Json json = Json::object();
  for (const NamedHash& h : hashes) json[h.name] = h.value;
  return json;
}

Json unstable_json(const UnstablePlaces& places) {
  return {{"bytes", places.bytes},
          {"data_bits", places.data_bits},
          {"first_offsets", places.first_offsets},
          {"address_bits_1", places.address_bits_1}};
}

std::string_view verdict_text(CartridgeVerdict verdict) {
  switch (verdict) {
    case CartridgeVerdict::proved:
      return "PROVED: read twice alike, and the checksum over the whole ROM is right";
    case CartridgeVerdict::agreed:
      return "read twice alike; there is no checksum over the whole that could prove it";
    case CartridgeVerdict::unsure:
      return "UNSURE: not to be trusted";
    case CartridgeVerdict::damaged:
      break;
  }
  return "DAMAGED: not what the cartridge holds";
}

Tone tone_of_verdict(CartridgeVerdict verdict) {
  switch (verdict) {
    case CartridgeVerdict::proved:
    case CartridgeVerdict::agreed:
      return Tone::good;
    case CartridgeVerdict::unsure:
      return Tone::unsure;
    case CartridgeVerdict::damaged:
      break;
  }
  return Tone::lost;
}

std::string unstable_text(const char* what, const UnstablePlaces& places) {
  if (places.bytes == 0) return "";
  std::string text =
      fmt::format("  differed  {} of the {} came out in several ways, at", plural(places.bytes, "byte"), what);
  const std::size_t shown = std::min(kShownOffsets, places.first_offsets.size());
  for (std::size_t i = 0; i < shown; ++i) text += fmt::format(" {:#x}", places.first_offsets[i]);
  if (places.bytes > shown) text += " ...";
  text += "\n";
  constexpr std::uint64_t kEnough = 8;  // fewer have something in common by chance
  std::string lines;
  for (unsigned bit = 0; bit < 16; ++bit)
    if (places.data_bits == 1u << bit) lines = fmt::format("data line D{}", bit);
  if (places.bytes >= kEnough && places.address_bits_1.size() == 1)
    lines = fmt::format("the address line of bit {}", places.address_bits_1.front());
  if (!lines.empty()) text += fmt::format("            all of it points to the contact of {}\n", lines);
  return text + "            switch off, clean the contacts with isopropyl alcohol, let them dry and dump it again\n";
}

}  // namespace

std::string cartridge_plan_text(const std::string& source, const CartridgePlan& plan, DumpTense tense) {
  const bool now = tense == DumpTense::now;
  Facts facts;
  facts.add("Reader",
            fmt::format("{}{}", plan.reader.model, plan.reader.serial.empty() ? "" : ", serial " + plan.reader.serial));
  facts.add("Cartridge", std::string(plan.machine->name) + (plan.header_readable ? "" : " (your word)"));
  facts.add("Title", plan.header.title);
  facts.add("Code", plan.header.code);
  facts.add("Region", plan.header.region);
  facts.add("Version", plan.header.version);
  for (const rom::HeaderFact& fact : plan.header.facts)
    if (fact.label == "Mapper" || fact.label == "PRG" || fact.label == "CHR" || fact.label == "Mirroring" ||
        fact.label == "Chips" || fact.label == "Extra RAM")
      facts.add(fact.label, fact.text);
  if (plan.rom_bytes > 0) facts.add("ROM", fmt::format("{}, by {}", human_size(plan.rom_bytes), plan.sized_by));
  facts.add("Save", plan.save_shows_later ? "shows when the ROM is read"
                    : plan.save_bytes > 0
                        ? human_size(plan.save_bytes) + (plan.header.save.clock ? ", with a clock" : "")
                        : "none that is read");
  for (const PlannedFile& file : plan.files) facts.add(now ? "Writes" : "Would write", file.path.string());
  facts.add("Time", fmt::format("about {} at 115200 baud{}", rough_duration(plan.expected_seconds),
                                plan.resumes_at ? fmt::format(", {:.0f} % of it done by the unfinished dump",
                                                              100 * *plan.resumes_at)
                                                : ""));
  return printable(source) + "\n" + facts.text() + warning_lines(plan.warnings);
}

std::string cartridge_dump_text(const CartridgePlan& plan, const CartridgeResult& result) {
  std::string text =
      fmt::format("{}: {}\n", printable(plan.rom_bytes > 0 ? plan.rom_file.string() : plan.save_file.string()),
                  tone_text(tone_of_verdict(result.verdict), verdict_text(result.verdict)));
  text += unstable_text("ROM", result.unstable) + unstable_text("save", result.unstable_save);
  text += warning_lines(result.warnings);
  if (result.resumed) text += "  it went on where an unfinished dump had stopped\n";
  for (const dump::CartridgeFile& file : result.outputs) {
    text += fmt::format("  wrote     {}  {}\n", printable(file.path.filename().string()), bytes_text(file.size_bytes));
    text += hash_lines(file.path == plan.rom_file ? result.rom_hashes : result.save_hashes);
  }
  if (result.clock) text += fmt::format("  clock     registers {} (seconds, minutes, hours, days)\n", *result.clock);
  return text;
}

Json cartridge_dump_json(const std::string& source, const CartridgePlan& plan, const CartridgeResult* result) {
  Json outputs = Json::array();
  if (result)
    for (const dump::CartridgeFile& f : result->outputs)
      outputs.push_back({{"path", f.path.string()}, {"size_bytes", f.size_bytes}, {"sha1", f.sha1}});
  else
    for (const PlannedFile& f : plan.files)
      outputs.push_back({{"path", f.path.string()}, {"size_bytes", f.size_bytes}});
  Json warnings = to_json(plan.warnings);
  if (result)
    for (Json& w : to_json(result->warnings)) warnings.push_back(std::move(w));
  Json json = {
      {"source", source},
      {"reader", {{"model", plan.reader.model}, {"serial", plan.reader.serial}, {"firmware", plan.reader.firmware}}},
      {"platform", plan.machine->id},
      {"title", plan.header.title.empty() ? Json() : Json(plan.header.title)},
      {"serial", plan.header.code.empty() ? Json() : Json(plan.header.code)},
      {"rom_bytes", plan.rom_bytes},
      {"sized_by", plan.sized_by.empty() ? Json() : Json(plan.sized_by)},
      {"save_bytes", plan.save_bytes},
      {"expected_seconds", plan.expected_seconds},
      {"inputs", {source}},
      {"outputs", outputs},
      {"losses", Json::array()},
      {"steps", Json::array()},
      {"warnings", warnings},
      {"planned_only", result == nullptr}};
  if (!result) return json;
  json["verdict"] = to_string(result->verdict);
  json["hashes"] = hashes_json(result->rom_hashes);
  json["save_hashes"] = hashes_json(result->save_hashes);
  json["unstable"] = unstable_json(result->unstable);
  json["unstable_save"] = unstable_json(result->unstable_save);
  json["clock"] = result->clock ? Json(*result->clock) : Json();
  json["cartridge"] = result->rom ? cartridge_json(*result->rom) : Json();
  json["resumed"] = result->resumed;
  json["seconds"] = result->seconds;
  return json;
}

}  // namespace opifex::report
