#include "opifex/core/volumes/file_system.hpp"

#include <numeric>

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/kept_facts.hpp"
#include "opifex/core/volumes/nvram/nvram.hpp"

#include "../edits.hpp"
#include "layout.hpp"

namespace opifex {

extern const FileSystem kNvram;

namespace {

VolumeEntry entry_of(const nvram::Block& b, const SourcePtr& image) {
  VolumeEntry entry;
  entry.path = b.name.empty() ? fmt::format("unnamed-{:04X}", b.offset) : nvram::shown_name(b.name);
  entry.size_bytes = b.byte_count;
  entry.safe = is_safe_name(entry.path);
  entry.flaw = b.flaw;
  entry.sound = b.flaw.empty();
  const std::uint32_t data = b.offset + nvram::kFileHeader;
  const std::uint64_t left = nvram::kImageBytes - data;
  entry.source = slice_source(image, data, std::min<std::uint64_t>(b.byte_count, left));
  auto facts = std::make_shared<EntryFacts>();
  facts->place = b.offset;
  if (!b.name.empty()) facts->host_name = escaped_name(b.name, [](unsigned char c) { return c < 0x7F; });
  facts->blocks = b.size_bytes;
  facts->id = b.id;
  facts->type = b.type;
  entry.facts = std::move(facts);
  return entry;
}

std::optional<Volume> read(const VolumePlace& place) {
  if (place.disc->size() != nvram::kImageBytes || place.start != 0) return std::nullopt;
  const Bytes image = read_up_to(*place.disc, 0, nvram::kImageBytes);
  const nvram::Memory memory = nvram::read_memory(image);
  if (!memory.recognised) return std::nullopt;
  const SourcePtr held = memory_source(image, place.disc->name());
  Volume volume;
  volume.system = "3do-saves";
  volume.label = memory.label;
  volume.disc = place.disc;
  volume.blocks = nvram::kImageBytes;
  for (const nvram::Block& b : memory.blocks)
    if (b.is_file) volume.entries.push_back(entry_of(b, held));
  for (const nvram::Finding& f : memory.findings)
    volume.tell(f.code, f.error ? Weight::damage : Weight::warning, f.message, f.offset);
  volume.space = VolumeSpace{.blocks = nvram::kImageBytes,
                             .free_blocks = memory.total_free,
                             .block_bytes = 1,
                             .free_bytes = memory.total_free,
                             .largest_free_bytes = memory.largest_file};
  return volume;
}

std::optional<std::vector<std::size_t>> places_of(ByteView image, const std::string& name) {
  for (const nvram::Block& b : nvram::read_memory(image).blocks) {
    if (!b.is_file || !b.flaw.empty() || (b.name != name && nvram::shown_name(b.name) != name)) continue;
    std::vector<std::size_t> places(b.byte_count);
    std::iota(places.begin(), places.end(), std::size_t{b.offset} + nvram::kFileHeader);
    return places;
  }
  return std::nullopt;
}

EditPlan edit(const VolumePlace& place, std::span<const VolumeEdit> edits, std::int64_t) {
  const Bytes before = read_up_to(*place.disc, 0, nvram::kImageBytes);
  nvram::Editor editor(before);
  EditPlan plan;
  const auto free_bytes = [&] { return static_cast<std::int64_t>(nvram::read_memory(editor.image()).total_free); };
  const auto apply = [&] {
    for (const VolumeEdit& e : edits) {
      const std::int64_t free_before = free_bytes();
      plan.steps.push_back(e.kind == VolumeEdit::Kind::bytes ? bytes_step(e) : editor.apply(e));
      plan.steps.back().blocks = free_before - free_bytes();
    }
  };
  with_all_room(apply, [&] { nvram::require_room(before, edits); });
  Bytes after = editor.image();
  change_bytes(after, edits, [&](const std::string& name) { return places_of(after, name); });
  plan.ranges = changed_ranges(before, after);
  return plan;
}

std::string proves(const Volume&) {
  return "the blocks of the memory fit together; it has no checksum of anything, so the bytes of its files are not "
         "proved";
}

FolderImage plan_memory(const std::filesystem::path& folder, const std::filesystem::path& out, const Settings&,
                        std::int64_t now) {
  return image_of_folder(kNvram, nvram::make_memory(), folder, out, {.more = {}, .date_for_all = {}, .now = now});
}

constexpr FolderBuilder kBuilder{.plan = &plan_memory, .blank = true, .proves_itself = true};

std::string fold(const Volume&, std::string_view path) { return nvram::folded(std::string(path)); }

}  // namespace

extern const FileSystem kNvram = {.id = "3do-saves",
                                  .title = "3DO save memory",
                                  .short_id = "3do_saves",
                                  .host = VolumeHost::memory_card,
                                  .read = &read,
                                  .fold = &fold,
                                  .proves = &proves,
                                  .build = &kBuilder,
                                  .edit = &edit};

}  // namespace opifex
