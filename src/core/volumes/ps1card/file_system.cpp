#include "opifex/core/volumes/file_system.hpp"

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/kept_facts.hpp"
#include "opifex/core/volumes/ps1card/card.hpp"

#include "../edits.hpp"
#include "frames.hpp"

namespace opifex {

extern const FileSystem kPs1Card;

namespace {

namespace ps1 = ps1card;

constexpr std::size_t kMostBytes = ps1::kMostCards * ps1::kCardBytes;

VolumeEntry entry_of(const ps1::Save& save, ByteView image, ps1::Kind kind) {
  VolumeEntry entry;
  entry.path = !save.name.empty()         ? ps1::shown_name(save.name)
               : kind == ps1::Kind::cards ? fmt::format("unnamed-{}", save.first)
                                          : "save";
  entry.size_bytes = save.chain.size() * ps1::kSaveBlockBytes;
  entry.safe = is_safe_name(entry.path);
  entry.sound = save.flaw.empty();
  entry.flaw = save.flaw;
  Bytes blocks = kind == ps1::Kind::cards    ? ps1::contents_of(image, save)
                 : kind == ps1::Kind::single ? Bytes(image.begin() + ps1::kFrameBytes, image.end())
                                             : Bytes(image.begin(), image.end());
  auto facts = std::make_shared<EntryFacts>();
  facts->place = save.first;
  if (!save.name.empty()) facts->host_name = escaped_name(save.name, [](unsigned char c) { return c < 0x7F; });
  facts->ending = save.frame.empty() ? "" : ".single";
  facts->bare_ending = ".bare";
  facts->blocks = save.chain.size();
  facts->title = save.title;
  facts->plain_title = save.plain_title;
  facts->code = save.code();
  facts->region = save.region();
  facts->chain.assign(save.chain.begin(), save.chain.end());
  facts->icons = save.icons;
  if (!save.frame.empty()) facts->header = ps1::header_for_single(save, save.chain.size());
  facts->restorable = save.flaw.empty();
  entry.facts = std::move(facts);
  entry.source = memory_source(std::move(blocks), entry.path);
  return entry;
}

Volume volume_of(const ps1::Card& card, ByteView image, ps1::Kind kind, const SourcePtr& source) {
  Volume volume;
  volume.system = kind == ps1::Kind::cards    ? "ps1-saves"
                  : kind == ps1::Kind::single ? "ps1-saves-single"
                                              : "ps1-saves-bare";
  volume.disc = source;
  for (const ps1::Save& save : card.saves) volume.entries.push_back(entry_of(save, image, kind));
  for (const ps1::Save& save : card.deleted) volume.deleted.push_back(entry_of(save, image, kind));
  for (const ps1::Finding& f : card.findings) {
    // Nothing but its head says how long a save of bare blocks is: one that says otherwise may be cut.
    const bool cut = kind == ps1::Kind::bare && std::string_view(f.code) == "block_count";
    volume.tell(f.code, f.error ? Weight::damage : cut ? Weight::doubt : Weight::warning, f.message, f.frame);
  }
  if (kind != ps1::Kind::cards) return volume;
  volume.blocks = ps1::kSaveBlocks;
  const std::uint64_t room = std::uint64_t{card.usable_blocks} * ps1::kSaveBlockBytes;
  volume.space = VolumeSpace{.blocks = ps1::kSaveBlocks,
                             .free_blocks = card.usable_blocks,
                             .block_bytes = ps1::kSaveBlockBytes,
                             .free_bytes = room,
                             .largest_free_bytes = room};
  return volume;
}

/// Of several one behind the other: one of them at least is formatted.
bool has_a_card(ByteView image) {
  for (std::size_t at = 0; at < image.size(); at += ps1::kCardBytes) {
    const ps1::Card card = ps1::read_card(image.subspan(at, ps1::kCardBytes));
    if (card.recognised && (card.findings.empty() || std::string_view(card.findings[0].code) != "unformatted"))
      return true;
  }
  return false;
}

std::optional<Volume> read(const VolumePlace& place) {
  const Bytes image = read_up_to(*place.disc, 0, kMostBytes + 1);
  const ps1::Kind kind = ps1::kind_of(image);
  switch (kind) {
    case ps1::Kind::cards: {
      if (place.start >= image.size() / ps1::kCardBytes) return std::nullopt;
      const ByteView card = ByteView(image).subspan(place.start * ps1::kCardBytes, ps1::kCardBytes);
      const ps1::Card read = ps1::read_card(card);
      if (image.size() == ps1::kCardBytes ? !read.recognised : !has_a_card(image)) return std::nullopt;
      Volume volume = volume_of(read, card, kind, place.disc);
      volume.shift = static_cast<std::int64_t>(place.start);
      if (image.size() > ps1::kCardBytes)
        volume.label = fmt::format("card {} of {}", place.start + 1, image.size() / ps1::kCardBytes);
      return volume;
    }
    case ps1::Kind::single:
      if (place.start != 0) return std::nullopt;
      return volume_of(ps1::read_single(image), image, kind, place.disc);
    case ps1::Kind::bare:
      if (place.start != 0) return std::nullopt;
      return volume_of(ps1::read_bare(image), image, kind, place.disc);
    case ps1::Kind::none:
      break;
  }
  return std::nullopt;
}

std::optional<std::uint64_t> next(const ByteSource& image, const Volume& volume) {
  const auto following = static_cast<std::uint64_t>(volume.shift) + 1;
  return volume.system == "ps1-saves" && following < image.size() / ps1::kCardBytes ? std::optional(following)
                                                                                    : std::nullopt;
}

/// Where the bytes of a readable save lie in the card.
std::optional<std::vector<std::size_t>> places_of(ByteView card, const std::string& name) {
  for (const ps1::Save& save : ps1::read_card(card).saves) {
    if ((save.name != name && ps1::shown_name(save.name) != name) || !save.flaw.empty()) continue;
    std::vector<std::size_t> places;
    for (const unsigned block : save.chain)
      for (unsigned i = 0; i < ps1::kFramesABlock; ++i) {
        const std::size_t at = std::size_t{ps1::replaced(card, block * ps1::kFramesABlock + i)} * ps1::kFrameBytes;
        for (std::size_t k = 0; k < ps1::kFrameBytes; ++k) places.push_back(at + k);
      }
    return places;
  }
  return std::nullopt;
}

EditPlan edit(const VolumePlace& place, std::span<const VolumeEdit> edits, std::int64_t) {
  const Bytes image = read_up_to(*place.disc, 0, kMostBytes + 1);
  if (ps1::kind_of(image) != ps1::Kind::cards || place.start >= image.size() / ps1::kCardBytes)
    throw Error({.code = "not_a_card",
                 .what = "only the saves of a whole card can be changed",
                 .file = place.disc->name(),
                 .hint = "<job convert> <to> ps1-card makes a card of a single save"});
  const std::uint64_t base = place.start * ps1::kCardBytes;
  const ByteView before = ByteView(image).subspan(base, ps1::kCardBytes);
  ps1::Editor editor(before);
  EditPlan plan;
  const auto apply = [&] {
    for (const VolumeEdit& e : edits)
      plan.steps.push_back(e.kind == VolumeEdit::Kind::bytes ? bytes_step(e) : editor.apply(e));
  };
  with_all_room(apply, [&] { ps1::require_room(before, edits); });
  Bytes after = editor.image();
  change_bytes(after, edits, [&](const std::string& name) { return places_of(after, name); });
  plan.ranges = changed_ranges(before, after, base);
  return plan;
}

std::string name_of_system(std::string_view system) {
  return system == "ps1-saves"          ? "PS1 memory card"
         : system == "ps1-saves-single" ? "PS1 save in a file of its own"
                                        : "blocks of a PS1 save";
}

std::string proves(const Volume& volume) {
  if (volume.system == "ps1-saves-bare") return "a save of bare blocks has no checksum that all games share";
  return "the directory was verified by its checksums; the data of saves has none that all games share";
}

FolderImage plan_card(const std::filesystem::path& folder, const std::filesystem::path& out, const Settings&,
                      std::int64_t now) {
  return image_of_folder(kPs1Card, ps1::make_card(), folder, out, {.more = {}, .date_for_all = {}, .now = now});
}

constexpr FolderBuilder kBuilder{.plan = &plan_card, .blank = true, .proves_itself = true};

std::string fold(const Volume&, std::string_view path) { return std::string(path); }  // case tells names apart

}  // namespace

extern const FileSystem kPs1Card = {.id = "ps1-saves",
                                    .title = "PS1 memory card",
                                    .short_id = "ps1_saves",
                                    .host = VolumeHost::memory_card,
                                    .read = &read,
                                    .name_of = &name_of_system,
                                    .fold = &fold,
                                    .proves = &proves,
                                    .next = &next,
                                    .build = &kBuilder,
                                    .edit = &edit};

}  // namespace opifex
