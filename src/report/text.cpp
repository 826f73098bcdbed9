#include "opifex/report/text.hpp"

#include <algorithm>
#include <map>

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/report/cartridge.hpp"
#include "opifex/report/table.hpp"
#include "opifex/report/terminal.hpp"
#include "opifex/report/words.hpp"

namespace opifex::report {
namespace {

std::string time(std::int64_t frames) { return cd::to_string(cd::msf_of_frames(frames)); }
std::string position(cd::Lba lba) { return cd::to_string(cd::msf_of_lba(lba)); }
std::string layout_table(const Image& image) {
  Table table({{"Track", Align::right},
               {"Kind"},
               {"Start"},
               {"LBA", Align::right},
               {"Pregap"},
               {"Length"},
               {"Bytes", Align::right},
               path_column("File")});
  bool placed = true;  // behind a track of unknown length nothing has a known place
  for (const cd::Track& t : image.cd()->layout().tracks) {
    const ImageFile* file = image.file_of(t);
    const std::int32_t gap = t.start_lba - t.pregap_lba;
    table.add({fmt::format("{}", t.number), cd::to_string(t.mode), placed ? position(t.start_lba) : "?",
               placed ? fmt::format("{}", t.start_lba) : "?", gap > 0 ? time(gap) : "-",
               t.incomplete ? "?" : time(t.length()),
               t.incomplete ? "?" : grouped(static_cast<std::uint64_t>(t.length()) * t.mode.sector_bytes),
               file           ? file->path.filename().string()
               : t.incomplete ? "(missing)"
                              : ""});
    placed = placed && !t.incomplete;
  }
  return table.text("  ");
}

std::string disc_summary(const Image& image) {
  const cd::Layout& layout = image.cd()->layout();
  const std::size_t audio = layout.audio_track_count(), data = layout.data_track_count();
  std::string text;
  if (data > 0) text += plural(data, "data track");
  if (audio > 0) text += (text.empty() ? "" : " + ") + plural(audio, "audio track");
  if (layout.sessions.size() > 1) text += fmt::format(", {} sessions", layout.sessions.size());
  const bool known =
      std::none_of(layout.tracks.begin(), layout.tracks.end(), [](const cd::Track& t) { return t.incomplete; });
  return known ? fmt::format("{}, {} long", text, time(layout.lead_out)) : text;
}

std::string warnings_text(const std::vector<Warning>& warnings) {
  constexpr std::size_t kShown = 20;
  std::string text;
  for (std::size_t i = 0; i < std::min(kShown, warnings.size()); ++i)
    text += fmt::format("  warning     {} [{}]\n", printable(warning_text(warnings[i])), warnings[i].code);
  if (warnings.size() > kShown)
    text += fmt::format("  ... and {} more warnings (--json lists all)\n", warnings.size() - kShown);
  return text;
}

/// How much of a container is stored in which way.
std::string shares_table(const Container& container, std::uint64_t file_bytes) {
  Table table({{"Stored as"}, {"Hunks", Align::right}, {"Bytes", Align::right}, {"Share", Align::right}});
  for (const ContainerShare& s : container.shares())
    table.add({s.codec, grouped(s.hunks), grouped(s.bytes),
               fmt::format("{:.1f} %", 100.0 * static_cast<double>(s.bytes) /
                                           static_cast<double>(std::max<std::uint64_t>(1, file_bytes)))});
  return table.text("  ");
}

std::string hash_lines(const std::vector<NamedHash>& hashes, const std::string& indent) {
  std::string text;
  for (const NamedHash& h : hashes)
    if (!h.value.empty()) text += fmt::format("{}{:<8} {}\n", indent, h.name, h.value);
  return text;
}

std::string track_verdict(const TrackCheck& t) {
  if (t.bad == 0) return std::string(to_string(t.verdict));
  return fmt::format("{}: {} of {} bad, {} can be repaired", to_string(t.verdict), grouped(t.bad),
                     plural(t.sectors, "sector"), grouped(t.repairable));
}

/// "Mode 2 Form 1": as the standards write it.
std::string kind_name(std::string_view kind) {
  if (kind == "mode0") return "Mode 0";
  if (kind == "mode1") return "Mode 1";
  if (kind == "mode2_form1") return "Mode 2 Form 1";
  if (kind == "mode2_form2") return "Mode 2 Form 2";
  if (kind == "mode2_formless") return "Mode 2 formless";
  if (kind == "no_sync") return "without sync";
  if (kind == "cooked") return "without headers";
  return std::string(kind);
}

std::string kinds_text(const std::map<std::string, std::uint64_t>& kinds) {
  std::string text;
  for (const auto& [kind, n] : kinds)
    text += fmt::format("{}{} {}", text.empty() ? "" : ", ", grouped(n), kind_name(kind));
  return text;
}

bool same_bytes(const CheckResult& result) {
  if (result.files.size() != result.tracks.size()) return false;
  for (std::size_t i = 0; i < result.files.size(); ++i)
    if (result.tracks[i].hashes.empty() || result.files[i].hashes.empty() ||
        result.files[i].hashes[0].value != result.tracks[i].hashes[0].value)
      return false;
  return true;
}

}  // namespace

namespace {

/// "2 encrypted, 9 sectors: LBA 33 to 33, 35 to 42"
std::string regions_text(const std::vector<Identity::Region>& regions) {
  std::string text;
  std::uint64_t sectors = 0;
  for (const Identity::Region& r : regions) {
    text += fmt::format("{}{} to {}", text.empty() ? "" : ", ", r.first, r.last);
    sectors += r.last - r.first + std::uint64_t{1};
  }
  return fmt::format("{} encrypted by the maker, {} sectors: LBA {}", regions.size(), grouped(sectors), text);
}

std::string state_name(const std::string& state) {
  if (state == "full") return "";  // "Complete" says it
  if (state == "split") return "split: its parts are read as one";
  if (state == "trimmed") return "trimmed: without what no file needs";
  if (state == "truncated") return "TRUNCATED: it ends before its file system does";
  if (state == "unknown") return "unknown: its tables do not tell where it may end";
  if (state == "padded") return "padded: it goes on behind the end of its file system";
  return state;
}

}  // namespace

std::string short_platform_name(const std::string& id) {
  return is_kind(id, PlatformKind::plain_data) ? "data disc" : platform_name(id);
}

namespace {

std::string state_text(const Identity& id) {
  std::vector<std::string> parts;
  if (const std::string name = state_name(id.state); !name.empty()) parts.push_back(name);
  if (id.scrubbed.value_or(false)) parts.emplace_back("scrubbed: unused parts are blank");
  if (id.padding == "blank") parts.emplace_back("unused space is blank");
  if (id.padding == "filled") parts.emplace_back("unused space is as pressed");
  if (id.padding == "mixed") parts.emplace_back("unused space is blank in part");
  return fmt::format("{}", fmt::join(parts, "; "));
}

std::string key_text(const Identity::Partition& p) {
  if (p.blank) return "not needed";
  if (p.key == "missing") return "not given";
  return p.key == "right" ? "fits" : p.key == "wrong" ? "WRONG" : p.key;
}

std::string partitions_table(const Identity& id) {
  Table table({{"Partition"},
               {"Starts at", Align::right},
               {"Size", Align::right},
               {"Encrypted"},
               {"Key"},
               {"Files", Align::right},
               {"Title id"},
               path_column("Title")});
  for (const Identity::Partition& p : id.partitions)
    table.add({p.kind, fmt::format("{:#x}", p.offset), p.size_bytes == 0 ? "?" : human_size(p.size_bytes),
               p.blank       ? "blank"
               : p.encrypted ? "yes"
                             : "no",
               key_text(p), p.files ? grouped(*p.files) : "", p.title_id, p.title});
  return table.text("  ");
}

}  // namespace

std::string identify_text(const Image& image, const Identity& id) {
  Facts facts;
  facts.add("Format", std::string(image.format->title));
  const std::string confidence =
      id.confidence.empty() || id.confidence == "certain" ? "" : fmt::format(" ({})", id.confidence);
  facts.add("Platform", platform_name(id.platform) + confidence);
  facts.add("Known by", fmt::format("{}", fmt::join(id.evidence, "; ")));
  facts.add("Serial", id.serial + (id.short_id.empty() ? "" : " (" + id.short_id + ")"));
  facts.add("Title", id.title);
  if (!image.container) facts.add("Media id", id.media_id);
  facts.add("Region", id.region);
  facts.add("Version", id.version);
  facts.add("Maker", id.maker);
  facts.add("Date", id.date);
  facts.add("Video", id.video);
  facts.add("Disc no.", id.disc);
  facts.add("Medium", id.medium);
  facts.add("State", state_text(id));
  if (id.used_bytes) facts.add("Used", bytes_text(*id.used_bytes));
  if (id.files) facts.add("Files", fmt::format("{} inside", grouped(*id.files)));
  if (!id.encrypted_regions.empty()) facts.add("Regions", regions_text(id.encrypted_regions));
  if (id.rom) add_cartridge(facts, *id.rom);
  std::string also;
  for (const auto& a : id.also)
    if (!is_kind(a.platform, PlatformKind::plain_data))
      also += (also.empty() ? "" : ", ") + platform_name(a.platform) + " (" + a.confidence + ")";
  facts.add("Also", also);
  if (image.cd()) facts.add("Disc", disc_summary(image));
  if (image.cd()) facts.add("Catalogue", image.cd()->layout().catalogue);
  facts.add("Size", bytes_text(image.size_bytes()) +
                        (image.files.size() > 1 ? fmt::format(" in {} files", image.files.size()) : ""));
  if (!image.parts.empty())
    facts.add("Parts", fmt::format("{}: {} to {}", image.parts.size(), image.parts.front().filename().string(),
                                   image.parts.back().filename().string()));
  facts.add("Complete", image.complete ? "yes" : "NO");
  if (image.container)
    for (const ContainerFact& fact : image.container->facts())
      if (!fact.label.empty()) facts.add(fact.label.c_str(), fact.value);
  std::string text =
      printable(image.path.string()) + "\n" + facts.text() + warnings_text(image.warnings) + warnings_text(id.warnings);
  if (!id.partitions.empty()) text += "\n" + partitions_table(id);
  if (image.container && !image.container->shares().empty())
    text += "\n" + shares_table(*image.container, image.size_bytes());
  if (image.cd()) text += "\n" + layout_table(image);
  return text;
}

namespace {

std::string size_hint(const Image& image, const rom::Examined& rom) {
  const bool trim = rom.size.can_be_trimmed();
  if (!trim && rom.size.status != rom::SizeStatus::trimmed) return "";
  return fmt::format("\n  To write it at its true size: opifex convert '{}' --to {} --{} --out NAME\n",
                     printable(image.path.string()), image.format->id,
                     trim                                   ? "trim"
                     : rom.size.filler == rom::Filler::zero ? "pad=00"
                                                            : "pad");
}

}  // namespace

std::string check_text(const Image& image, const CheckResult& result, RepairHint hint) {
  std::string text = fmt::format("{}: {}\n", printable(image.path.string()), state_text(to_string(result.verdict)));
  Table table({{"Track", Align::right}, {"Kind"}, {"Sectors", Align::right}, {"Found"}, state_column("Verdict")});
  for (const TrackCheck& t : result.tracks)
    table.add({fmt::format("{}", t.number), cd::to_string(t.mode), grouped(t.sectors), kinds_text(t.kinds),
               track_verdict(t)});
  if (!result.tracks.empty()) text += "\n" + table.text("  ");
  if (!result.findings.empty()) text += "\n";
  constexpr std::size_t kShown = 40;
  for (std::size_t i = 0; i < result.findings.size() && i < kShown; ++i) {
    const Finding& f = result.findings[i];
    text += fmt::format("  {} {} [{}]\n", state_text(to_string(f.severity), 8), printable(f.message), f.code);
  }
  if (result.findings.size() > kShown)
    text += fmt::format("  ... and {} more (--json lists all)\n", result.findings.size() - kShown);
  text += "\n";
  for (const FileCheck& f : result.files)
    if (!f.hashes.empty())
      text += fmt::format("  {}  {} bytes\n{}", printable(f.path.filename().string()), grouped(f.size_bytes),
                          hash_lines(f.hashes, "    "));
  if (result.disc && !result.disc->hashes.empty())
    text += fmt::format("  the disc inside  {} bytes\n{}", grouped(result.disc->size_bytes),
                        hash_lines(result.disc->hashes, "    "));
  const bool packed_rom = result.rom && result.rom_facts && (!result.rom_facts->container.is_plain());
  if (packed_rom && !result.rom->hashes.empty())
    text += fmt::format("  the ROM alone  {} bytes\n{}", grouped(result.rom->size_bytes),
                        hash_lines(result.rom->hashes, "    "));
  // A file that is one track has the same hashes twice: once is enough.
  if (!same_bytes(result))
    for (const TrackCheck& t : result.tracks)
      if (!t.hashes.empty())
        text += fmt::format("  track {}  {} bytes\n{}", t.number, grouped(t.size_bytes), hash_lines(t.hashes, "    "));
  const bool mendable =
      std::any_of(result.tracks.begin(), result.tracks.end(), [](const TrackCheck& t) { return t.repairable > 0; });
  if (result.rom_facts && hint == RepairHint::give) text += size_hint(image, *result.rom_facts);
  if (mendable && hint == RepairHint::give) text += "\n  To write a repaired copy: add --repair --out NAME\n";
  return text;
}

namespace {

std::string plan_text(const jobs::Written& job) {
  const Conversion& conversion = job.conversion;
  const TargetFacts& facts = job.target;
  std::string text = fmt::format("{} -> {}\n", printable(job.source.path.string()), job.becomes);
  for (const std::string& step : conversion.plan.steps) text += fmt::format("  step        {}\n", printable(step));
  if (const auto files = planned_files(conversion.plan); files.size() > 1)
    for (const PlannedFile& f : files)
      text += fmt::format("  file        {}  {}\n", printable(f.path.filename().string()), human_size(f.size_bytes));
  text += loss_lines(conversion.losses);
  if (conversion.losses.empty()) text += "  loss        none\n";
  text += warnings_text(conversion.warnings);
  text += fmt::format("  space       {} needed, {} free ({})\n", human_size(conversion.output_bytes()),
                      human_size(facts.free_bytes), facts.file_system);
  return text;
}

}  // namespace

std::string written_text(const jobs::Written& job) {
  if (job.planned_only) return plan_text(job);
  const Conversion& conversion = job.conversion;
  std::string text;
  for (const WrittenFile& f : job.outputs)
    text += fmt::format("wrote {}  {}{}\n", printable(f.path.string()), bytes_text(f.size_bytes),
                        f.sha1.empty() ? "" : "  sha1 " + f.sha1);
  text += loss_lines(conversion.losses);
  text += warnings_text(conversion.warnings);
  if (!job.proof.compared.empty())
    text += fmt::format("proved: the output decodes to the input: {}{}\n", job.proof.compared,
                        job.proof.sha1.empty() ? "" : fmt::format(" (sha1 {})", job.proof.sha1));
  return text;
}

std::string rename_text(const RenamePlan& plan, RenameState state) {
  if (plan.steps.empty() && !plan.sheet) return "Nothing to rename: the set has this name already.\n";
  std::string text = state == RenameState::planned ? "This would be renamed:\n" : "Renamed:\n";
  for (const RenameStep& s : plan.steps)
    text += fmt::format("  {} -> {}\n", printable(s.from.filename().string()), printable(s.to.filename().string()));
  if (plan.sheet)
    text += fmt::format("  {} -> {} (with the new names in it)\n", printable(plan.sheet->from.filename().string()),
                        printable(plan.sheet->to.filename().string()));
  return text;
}

namespace {

std::string some_extensions(const Format& format) {
  constexpr std::size_t kMost = 3;
  const auto first = format.extensions.first(std::min(kMost, format.extensions.size()));
  return fmt::format("{}{}", fmt::join(first, " "), format.extensions.size() > kMost ? " ..." : "");
}

}  // namespace

std::string formats_text() {
  Table table({{"Format"},
               {"Files"},
               {"Read"},
               {"Write"},
               {"Check"},
               {"Audio"},
               {"Many tracks"},
               {"Form 2"},
               {"Odd sectors"},
               {"Subchannel"},
               {"Sessions"},
               {"What it is"}});
  const auto mark = [](bool b) { return std::string(b ? "yes" : "-"); };
  for (const Format* f : formats()) {
    const Capabilities& c = f->holds;
    table.add({std::string(f->id), some_extensions(*f), "yes", mark(f->plan_write != nullptr),
               c.raw_headers           ? "sectors"
               : c.roms                ? "checksums"
               : c.floppies || c.saves ? "tables"
                                       : "hashes",
               mark(c.audio), mark(c.track_list), mark(c.form2), mark(c.raw_headers),
               c.any_subchannel ? "yes"
               : c.subchannel   ? "CD+G"
                                : "-",
               mark(c.sessions), std::string(f->title)});
  }
  return table.text();
}

}  // namespace opifex::report
