#include "opifex/core/volumes/file_system.hpp"

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/image/shared_settings.hpp"
#include "opifex/core/volumes/amiga/disk.hpp"
#include "opifex/core/volumes/amiga/editor.hpp"
#include "opifex/core/volumes/amiga/repair.hpp"
#include "opifex/core/volumes/kept_facts.hpp"

#include "../edits.hpp"
#include "../names.hpp"

namespace opifex {

extern const FileSystem kAmiga;

namespace {

using namespace amiga;

/// The bytes of a file: pieces of blocks of an image that is held whole.
class FloppyFile final : public ByteSource {
 public:
  FloppyFile(std::shared_ptr<const Bytes> image, const Entry& entry, Kind kind, std::string name)
      : image_(std::move(image)),
        blocks_(entry.data),
        kind_(kind),
        name_(std::move(name)),
        size_(std::min<std::uint64_t>(entry.size_bytes, std::uint64_t{kind.payload()} * entry.data.size())) {}
  std::uint64_t size() const override { return size_; }
  std::string name() const override { return name_; }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (offset > size_ || out.size() > size_ - offset)
      throw Error({.code = "truncated", .what = "the file ends too early", .file = name_, .offset = offset});
    const std::uint32_t payload = kind_.payload(), head = kBlockBytes - payload;
    while (!out.empty()) {
      const auto i = static_cast<std::size_t>(offset / payload), inside = static_cast<std::size_t>(offset % payload);
      const std::size_t n = std::min<std::size_t>(out.size(), payload - inside);
      const auto from = ByteView(*image_).subspan(std::size_t{blocks_[i]} * kBlockBytes + head + inside, n);
      if (blocks_[i] == 0)
        std::fill_n(out.begin(), n, std::byte{0});
      else
        std::copy(from.begin(), from.end(), out.begin());
      out = out.subspan(n);
      offset += n;
    }
  }

 private:
  std::shared_ptr<const Bytes> image_;
  std::vector<std::uint32_t> blocks_;
  Kind kind_;
  std::string name_;
  std::uint64_t size_;
};

std::string utf8(std::string_view latin1) { return latin1_text(as_view(latin1)); }

/// A damaged name may hold what parts names: it is shown as its code.
std::string shown_name(const Entry& e) {
  std::string name = utf8(e.name);
  for (std::size_t at = name.find('/'); at != std::string::npos; at = name.find('/', at)) name.replace(at, 1, "%2F");
  return name;
}

std::shared_ptr<const EntryFacts> facts_of(const Entry& e) {
  auto facts = std::make_shared<EntryFacts>();
  facts->place = e.block;
  facts->blocks = Disk::blocks_of(e);
  facts->host_name = escaped_name(e.name, [](unsigned char c) { return c < 0x7F || c > 0x9F; });
  facts->hundredths = e.date.ticks % 50 * 2;
  facts->comment = utf8(e.comment);
  facts->protection = e.protection;
  facts->protection_text = protection_text(e.protection);
  return facts;
}

std::string link_of(const Disk& disk, const Entry& e, const std::vector<std::string>& paths) {
  if (e.type == EntryType::soft_link) return utf8(e.target_path);
  for (std::size_t i = 0; i < disk.entries.size(); ++i)
    if (disk.entries[i].block == e.target) return i == 0 ? "/" : paths[i];
  return "nothing";
}

std::string kind_words(const Entry& e) {
  if (e.type == EntryType::file_link || e.type == EntryType::folder_link) return "hard link";
  return e.type == EntryType::soft_link ? "soft link" : "";
}

void add_entries(const Disk& disk, const std::shared_ptr<const Bytes>& image, Volume& volume) {
  std::vector<std::string> paths = {""};
  for (std::size_t i = 1; i < disk.entries.size(); ++i) {
    const std::string& above = paths[disk.entries[i].parent];
    paths.push_back(above.empty() ? shown_name(disk.entries[i]) : above + "/" + shown_name(disk.entries[i]));
  }
  for (std::size_t i = 1; i < disk.entries.size(); ++i) {
    const Entry& e = disk.entries[i];
    VolumeEntry entry{.path = paths[i]};
    entry.modified = e.date.seconds();
    entry.facts = facts_of(e);
    entry.attributes = kind_words(e);
    entry.safe = is_safe_name(utf8(e.name));
    if (e.type == EntryType::file) {
      entry.size_bytes = e.size_bytes;
      entry.source = std::make_shared<FloppyFile>(image, e, disk.kind, entry.path);
      entry.sound = e.flaw.empty();
      entry.flaw = e.flaw;
    } else if (e.type == EntryType::folder) {
      entry.kind = EntryKind::folder;
    } else {
      entry.kind = EntryKind::link;
      entry.link = link_of(disk, e, paths);
    }
    volume.entries.push_back(std::move(entry));
  }
}

Volume volume_of(const Disk& disk, const SourcePtr& source, const std::shared_ptr<const Bytes>& image) {
  Volume volume;
  volume.system = "amiga-" + disk.kind.name();
  volume.label = utf8(disk.label);
  volume.blocks = disk.blocks;
  volume.disc = source;
  volume.bootable = disk.bootable;
  volume.space = VolumeSpace{.blocks = disk.blocks,
                             .free_blocks = disk.free_blocks,
                             .block_bytes = disk.kind.payload(),
                             .free_bytes = std::uint64_t{disk.free_blocks} * disk.kind.payload(),
                             .largest_free_bytes = 0};
  // Of one file: without its header and its lists.
  std::uint64_t data = disk.free_blocks > 0 ? disk.free_blocks - 1 : 0;
  while (data > 0 && cost_of_file(data * disk.kind.payload(), disk.kind) > disk.free_blocks) --data;
  volume.space->largest_free_bytes = data * disk.kind.payload();
  add_entries(disk, image, volume);
  for (const Finding& f : disk.findings)
    volume.tell(f.code, f.error ? Weight::damage : Weight::warning, f.message, f.block);
  return volume;
}

/// Disks that are no volumes, told as what they are.
Volume unlisted(const SourcePtr& source, const ImageFacts& facts, std::string why) {
  Volume volume;
  volume.system = "amiga-custom";
  volume.disc = source;
  volume.bootable = facts.bootable;
  volume.unlisted = std::move(why);
  return volume;
}

std::shared_ptr<const Bytes> whole(const ByteSource& source) {
  return std::make_shared<const Bytes>(read_up_to(source, 0, static_cast<std::size_t>(kMostImageBytes) + 1));
}

std::optional<Volume> read(const VolumePlace& place) {
  const auto image = whole(*place.disc);
  const ImageFacts facts = examine_image(*image);
  switch (facts.kind) {
    case ImageKind::volume:
      return volume_of(read_disk(*image), place.disc, image);
    case ImageKind::custom:
      return unlisted(place.disc, facts,
                      facts.dos ? "a boot block that loads the rest by itself, and no file system behind it"
                                : "no disk of AmigaDOS: it has tracks or a file system of its own");
    case ImageKind::extended:
      return unlisted(place.disc, facts,
                      fmt::format("an extended image ({} variant, {}): tracks as they were read, which are not opened",
                                  facts.variant, plural(facts.tracks, "track")));
    case ImageKind::long_names:
      return unlisted(place.disc, facts, "a file system with long names, which is not supported");
    case ImageKind::other_size:
      return std::nullopt;  // its format says so
    case ImageKind::rootless:
      break;
  }
  Volume volume;
  volume.system = "amiga-unknown";
  volume.disc = place.disc;
  volume.tell("root_type", Weight::damage, "there is no root block: nothing of the disk can be listed",
              facts.expected_root);
  return volume;
}

std::string name_of_system(std::string_view system) {
  const std::string kind(system.substr(std::string_view("amiga-").size()));
  if (kind == "custom" || kind == "unknown") return "Amiga disk";
  std::string name = "AmigaDOS, " + to_upper_ascii(kind.substr(0, 3));
  if (kind.ends_with("-intl")) name += " international";
  if (kind.ends_with("-dircache")) name += " with directory caches";
  return name;
}

std::string proves(const Volume& volume) {
  if (volume.system.starts_with("amiga-ofs"))
    return "every block that is in use was verified by its checksum, the data of files, too";
  return "directories and headers were verified by their checksums; blocks of data carry none on FFS";
}

std::string fold(const Volume& volume, std::string_view path) {
  const bool international = volume.system.ends_with("-intl") || volume.system.ends_with("-dircache");
  return utf8(folded(latin1_of(path).value_or(std::string(path)), {.flags = international ? 2U : 0U}));
}

EditPlan edit(const VolumePlace& place, std::span<const VolumeEdit> edits, std::int64_t now) {
  const auto image = whole(*place.disc);
  Editor editor(*image, now);
  EditPlan plan;
  plan.steps = editor.apply(edits);
  plan.ranges = changed_ranges(*image, editor.image());
  return plan;
}

VolumeRepair repair(const VolumePlace& place, std::int64_t now) {
  const auto image = whole(*place.disc);
  if (examine_image(*image).kind != ImageKind::volume) return {};
  Repaired mended = repair_disk(*image, now);
  if (mended.done.empty()) return {};
  return {changed_ranges(*image, mended.image), std::move(mended.done)};
}

// ---- making one

std::vector<std::string> kinds() {
  std::vector<std::string> words;
  for (unsigned flags = 0; flags < 6; ++flags) words.push_back(Kind{flags}.name());
  return words;
}

constexpr Setting kKind{.name = "kind",
                        .type = SettingType::choice,
                        .help = "of a floppy: ofs, ffs (default), and either with -intl or -dircache",
                        .value = "KIND",
                        .preset = "ffs",
                        .words = &kinds};
constexpr Setting kHighDensity{.name = "high-density", .help = "of a floppy: 1760 KiB instead of 880"};
constexpr std::array kSettings = {&kLabel, &kKind, &kHighDensity, &kBootCode, &kFixedDates};

/// The folder's name as a label, as far as one can be made of it.
std::string label_of(const std::filesystem::path& folder, const Settings& settings) {
  const std::string given = settings.text(kLabel);
  if (given.empty())
    return folder.empty() ? "Empty" : proposed_name(std::filesystem::weakly_canonical(folder).filename().string());
  const auto label = latin1_of(given);
  if (!label || !amiga::name_fault(*label).empty())
    throw Error({.fault = Fault::usage,
                 .code = "bad_label",
                 .what = "a floppy cannot have this label: " +
                         (label ? amiga::name_fault(*label) : "it has letters that are not in Latin-1"),
                 .found = printable(given),
                 .expected = "for example " + printable(utf8(proposed_name(given)))});
  return *label;
}

FolderImage plan_floppy(const std::filesystem::path& folder, const std::filesystem::path& out, const Settings& settings,
                        std::int64_t now) {
  NewDisk wanted{.kind = {.flags = static_cast<unsigned>(settings.choice<std::size_t>(kKind))}};
  wanted.label = label_of(folder, settings);
  wanted.high_density = settings.flag(kHighDensity);
  const std::int64_t date = settings.day(kFixedDates).value_or(now);
  wanted.date = Date::of(date);
  std::vector<VolumeEdit> boot;
  if (const std::string code = settings.text(kBootCode); code != "none") {
    boot.push_back({.kind = VolumeEdit::Kind::boot, .path = {}, .text = code});
    if (code != "standard") boot[0].contents = open_file(code);
  }
  return image_of_folder(kAmiga, make_disk(wanted), folder, out, {boot, settings.day(kFixedDates), date});
}

constexpr FolderBuilder kBuilder{.settings = kSettings, .plan = &plan_floppy, .blank = true, .proves_itself = true};

}  // namespace

extern const FileSystem kAmiga = {.id = "amiga",
                                  .title = "AmigaDOS",
                                  .short_id = "amiga",
                                  .host = VolumeHost::floppy,
                                  .read = &read,
                                  .name_of = &name_of_system,
                                  .fold = &fold,
                                  .proves = &proves,
                                  .build = &kBuilder,
                                  .edit = &edit,
                                  .repair = &repair};

}  // namespace opifex
