#include "opifex/report/cartridge.hpp"

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/content.hpp"

namespace opifex::report {
namespace {

using rom::SizeStatus;
using rom::SumState;

Json value_json(const rom::Value& value) {
  return std::visit(Overloaded{[](std::monostate) { return Json(); }, [](bool b) { return Json(b); },
                               [](std::uint64_t n) { return Json(n); }, [](const std::string& s) { return Json(s); }},
                    value);
}

/// A key with a dot is one of an object of its own.
Json header_json(const rom::Header& header) {
  Json json = Json::object();
  for (const rom::HeaderFact& fact : header.facts) {
    const auto dot = fact.key.find('.');
    if (dot == std::string::npos) {
      json[fact.key] = value_json(fact.value);
      continue;
    }
    Json& inner = json[fact.key.substr(0, dot)];
    if (!inner.is_object()) inner = Json::object();
    inner[fact.key.substr(dot + 1)] = value_json(fact.value);
  }
  return json;
}

Json checks_json(const rom::Header& header) {
  Json json = Json::object();
  for (const rom::Checksum& sum : header.checks)
    json[sum.key] = sum.state == SumState::right ? "ok" : sum.state == SumState::wrong ? "bad" : "not-checked";
  if (header.logo != rom::Logo::none)
    json["logo"] = header.logo == rom::Logo::right        ? "ok"
                   : header.logo == rom::Logo::first_half ? "first-half"
                                                          : "mismatch";
  return json;
}

Json number_or_null(const std::optional<std::uint64_t>& n) { return n ? Json(*n) : Json(); }

Json save_json(const rom::SaveMemory& save) {
  Json markers = Json::array();
  for (const rom::SaveMarker& m : save.markers)
    markers.push_back({{"marker", m.text}, {"offset", m.offset}, {"sizes", m.sizes}, {"type", m.kind}});
  return {{"bytes", number_or_null(save.bytes)},
          {"ram_bytes", number_or_null(save.ram_bytes)},
          {"clock", save.clock},
          {"markers", markers}};
}

Json container_json(const rom::Examined& rom) {
  const rom::Container& c = rom.container;
  Json json = Json::object();
  if (c.header_bytes == rom::kCopierHeader) json["copier_header"] = c.header_bytes;
  if (c.interleaved) json["interleaved"] = true, json["split_more"] = c.more_parts;
  if (rom.machine && rom.machine->has_byte_orders()) json["byte_order"] = to_string(c.order);
  return json;
}

std::string size_text(const rom::Examined& rom) {
  const std::string here = human_size(rom.rom_bytes);
  const rom::SizeVerdict& v = rom.size;
  switch (v.status) {
    case SizeStatus::exact:
      return here + ", as the header says";
    case SizeStatus::plausible:
      return here + ", which may be right: no header tells it";
    case SizeStatus::larger_than_declared:
      return here + ", more than the header covers: usual on this machine";
    case SizeStatus::possible_overdump:
      return fmt::format("{}, of which the chip may have {}", here, human_size(v.true_bytes.value_or(0)));
    default:
      break;
  }
  return v.true_bytes ? fmt::format("{}, but the chip has {}", here, human_size(*v.true_bytes)) : here;
}

std::string save_text(const rom::SaveMemory& save) {
  std::string text;
  if (save.bytes && *save.bytes > 0) text = human_size(*save.bytes) + ", kept by the cartridge";
  if (save.bytes && *save.bytes == 0) text = "none";
  if (!save.bytes && !save.markers.empty()) {
    for (const rom::SaveMarker& m : save.markers) {
      text += (text.empty() ? "" : "; ") + m.kind + ": ";
      for (std::size_t i = 0; i < m.sizes.size(); ++i) text += (i > 0 ? " or " : "") + human_size(m.sizes[i]);
    }
  }
  if (!save.interleaved.empty()) text += fmt::format(" (on {} addresses)", save.interleaved);
  if (save.clock) text += text.empty() ? "clock" : ", with a clock";
  return text;
}

std::string sums_text(const rom::Header& header) {
  std::string text;
  for (const rom::Checksum& sum : header.checks) {
    if (!text.empty()) text += "; ";
    text += fmt::format("{} {}", sum.name,
                        sum.state == SumState::right   ? "is right"
                        : sum.state == SumState::wrong ? "is WRONG"
                                                       : "was not checked");
  }
  return text;
}

std::string packing_text(const rom::Container& c) {
  std::string text;
  if (c.header_bytes == rom::kCopierHeader) text = "behind a copier's header of 512 bytes";
  if (c.interleaved) text += ", interleaved";
  if (c.order != rom::ByteOrder::big)
    text = c.order == rom::ByteOrder::little ? "words in little-endian order" : "bytes swapped in pairs";
  return text;
}

}  // namespace

Json cartridge_json(const rom::Examined& rom) {
  return {{"system", rom.machine ? Json(rom.machine->id) : Json()},
          {"size_bytes", rom.rom_bytes},
          {"container", container_json(rom)},
          {"header", header_json(rom.header)},
          {"checks", checks_json(rom.header)},
          {"save", save_json(rom.header.save)},
          {"declared_bytes", number_or_null(rom.header.declared_bytes)},
          {"size_status", rom.machine ? Json(to_string(rom.size.status)) : Json()},
          {"size_detail", rom.size.detail.empty() ? Json() : Json(rom.size.detail)},
          {"true_bytes", number_or_null(rom.size.true_bytes)},
          {"read_faults", rom.faults},
          {"confirmed", rom.is_confirmed()}};
}

void add_cartridge(Facts& facts, const rom::Examined& rom) {
  if (rom.is_blank()) return;
  for (const rom::HeaderFact& fact : rom.header.facts) {
    if (fact.label.empty()) continue;
    const auto* text = std::get_if<std::string>(&fact.value);
    facts.add(fact.label, fact.text.empty() && text ? *text : fact.text);
  }
  facts.add("Stored", packing_text(rom.container));
  if (rom.machine) facts.add("ROM", size_text(rom));
  if (rom.machine) facts.add("Save", save_text(rom.header.save));
  facts.add("Checksums", sums_text(rom.header));
}

}  // namespace opifex::report
