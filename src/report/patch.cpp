#include "opifex/report/patch.hpp"

#include "opifex/core/base/text.hpp"
#include "opifex/report/table.hpp"
#include "opifex/report/words.hpp"

namespace opifex::report {
namespace {

Json crc_json(const std::optional<std::uint32_t>& crc) { return crc ? Json(fmt::format("{:08x}", *crc)) : Json(); }
Json size_json(const std::optional<std::uint64_t>& n) { return n ? Json(*n) : Json(); }

Json facts_json(const PatchFacts& facts) {
  return {{"kind", to_string(facts.kind)},
          {"source_bytes", size_json(facts.source_bytes)},
          {"source_crc32", crc_json(facts.source_crc32)},
          {"target_bytes", size_json(facts.target_bytes)},
          {"target_crc32", crc_json(facts.target_crc32)},
          {"records", facts.records},
          {"changed_bytes", facts.changed_bytes},
          {"truncates_to", size_json(facts.truncates_to)},
          {"metadata", facts.metadata.empty() ? Json() : Json(facts.metadata)}};
}

std::string end_text(const std::optional<std::uint64_t>& bytes, const std::optional<std::uint32_t>& crc) {
  return bytes && crc ? fmt::format("{}, crc32 {:08x}", bytes_text(*bytes), *crc) : "";
}

}  // namespace

Json patch_json(const jobs::PatchTold& patch) {
  Json json = {{"path", patch.path.string()}};
  json.update(facts_json(patch.facts));
  return json;
}

std::string patch_text(const jobs::PatchTold& patch) {
  const PatchFacts& f = patch.facts;
  Facts facts;
  facts.add("Patch", std::string(to_string(f.kind)) + (f.source_crc32 ? ", whole: its checksum is right" : ""));
  facts.add("For", f.source_crc32 ? end_text(f.source_bytes, f.source_crc32) : "it does not say: IPS has no checksums");
  facts.add("Makes", end_text(f.target_bytes, f.target_crc32));
  facts.add("Records", fmt::format("{}, with {}", grouped(f.records), bytes_text(f.changed_bytes)));
  if (f.truncates_to) facts.add("Cuts to", bytes_text(*f.truncates_to));
  facts.add("Note", f.metadata);
  return printable(patch.path.string()) + "\n" + facts.text();
}

Json changed_json(const jobs::Changed& changed) {
  Json replaced = Json::array();
  for (const jobs::Replaced& r : changed.replaced)
    replaced.push_back({{"old_hex", hex(r.replacement.what)},
                        {"new_hex", hex(r.replacement.with)},
                        {"offsets", r.offsets},
                        {"context", r.context}});
  return {{"inputs", {changed.input.string()}},
          {"outputs",
           {{{"path", changed.out.string()},
             {"size_bytes", changed.size_bytes},
             {"sha1", changed.sha1.empty() ? Json() : Json(changed.sha1)}}}},
          {"what", changed.what},
          {"inside", changed.inside.empty() ? Json() : Json(changed.inside)},
          {"changed_bytes", changed.bytes_changed},
          {"kept", changed.kept.empty() ? Json() : Json(changed.kept.string())},
          {"patch", changed.patch ? facts_json(*changed.patch) : Json()},
          {"replaced", replaced},
          {"warnings", to_json(changed.warnings)},
          {"losses", Json::array()},
          {"steps", Json::array()},
          {"planned_only", changed.planned_only}};
}

std::string changed_text(const jobs::Changed& changed) {
  std::string text;
  const std::string out = printable(changed.out.string());
  if (changed.planned_only)
    text = fmt::format("{}: would be written to {}\n", printable(changed.input.string()), out);
  else
    text = fmt::format("wrote {}  {}  sha1 {}\n", out, bytes_text(changed.size_bytes), changed.sha1);
  if (!changed.planned_only && changed.what != "made a patch" && changed.input != changed.out)
    text += fmt::format("  made of     {}\n", printable(changed.input.string()));
  if (!changed.inside.empty()) text += fmt::format("  patched     {}\n", changed.inside);
  // Of a large file --plan does not look at what would come out.
  const bool looked = !changed.sha1.empty();
  if (looked && changed.patch && changed.patch->target_crc32 && changed.what == "patched")
    text += fmt::format("  proved      it is what the patch promises (crc32 {:08x})\n", *changed.patch->target_crc32);
  if (changed.what == "made a patch")
    text += fmt::format("  proved      applied to {} it gives the other file\n",
                        printable(changed.input.filename().string()));
  constexpr std::size_t kShown = 20;
  for (const jobs::Replaced& r : changed.replaced)
    for (std::size_t i = 0; i < std::min(kShown, r.offsets.size()); ++i)
      text += fmt::format("  at {:#010x}  {}\n", r.offsets[i], printable(r.context[i]));
  text += fmt::format("  {}  {}\n", looked ? "changes   " : "carries   ", plural(changed.bytes_changed, "byte"));
  if (!changed.kept.empty())
    text += fmt::format("  kept        the file as it was: {}\n", printable(changed.kept.string()));
  return text + warning_lines(changed.warnings);
}

}  // namespace opifex::report
