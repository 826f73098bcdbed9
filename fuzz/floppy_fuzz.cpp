// Floppies and memory cards: reading them, changing them by operations that the input itself says, and mending them.
#include <cstdlib>

#include "opifex/core/volumes/file_system.hpp"
#include "opifex/core/volumes/kept_facts.hpp"

#include "fuzz.hpp"

using namespace opifex;

namespace {

/// Operations out of bytes: what they name is in the image as often as not.
class Operations {
 public:
  Operations(ByteView bytes, const Volume& volume) : bytes_(bytes), volume_(volume) {}

  std::vector<VolumeEdit> take() {
    std::vector<VolumeEdit> edits;
    constexpr std::size_t kMost = 12;
    while (at_ < bytes_.size() && edits.size() < kMost) edits.push_back(next());
    return edits;
  }

 private:
  unsigned byte() { return at_ < bytes_.size() ? std::to_integer<unsigned>(bytes_[at_++]) : 0; }
  std::string name() {
    const unsigned which = byte();
    if (which < 128 && !volume_.entries.empty()) return volume_.entries[which % volume_.entries.size()].path;
    return fmt::format("new {}", which % 8);
  }
  VolumeEdit next() {
    VolumeEdit edit{.kind = static_cast<VolumeEdit::Kind>(byte() % 10), .path = name()};
    edit.text = name();
    edit.with_all = byte() % 2 == 0;
    edit.replace = byte() % 2 == 0;
    edit.named = true;
    Bytes contents(byte() * 200);
    if (contents.size() > 2 && byte() % 2 == 0) {
      contents.resize(round_up<std::size_t>(contents.size(), 8192));
      contents[0] = std::byte{'S'};
      contents[1] = std::byte{'C'};
    }
    edit.contents = memory_source(std::move(contents), "fuzz");
    edit.old_bytes = edit.new_bytes = Bytes(byte() % 4);
    edit.offset = byte() * 64;
    return edit;
  }

  ByteView bytes_;
  const Volume& volume_;
  std::size_t at_ = 0;
};

void read_files(const Volume& volume) {
  for (const VolumeEntry& e : volume.entries)
    if (e.source) fuzz::tolerate([&] { read_up_to(*e.source, 0, static_cast<std::size_t>(e.source->size())); });
}

Bytes applied(Bytes image, std::span<const ChangedRange> ranges) {
  for (const ChangedRange& r : ranges)
    if (r.offset > image.size() || r.bytes.size() > image.size() - r.offset) std::abort();
  apply_ranges(image, ranges);
  return image;
}

/// What was changed or mended reads as it should, or the editor is wrong.
void try_edits(const FileSystem& system, const Bytes& image, const Volume& volume, ByteView operations) {
  const std::vector<VolumeEdit> edits = Operations(operations, volume).take();
  EditPlan plan;
  try {
    plan = system.edit({memory_source(image, "fuzz"), 0, nullptr}, edits, 0);
  } catch (const Error&) {
    return;
  }
  const auto after = system.read({memory_source(applied(image, plan.ranges), "fuzz"), 0, nullptr});
  if (!after) std::abort();
  const bool of_bytes =
      std::any_of(edits.begin(), edits.end(), [](const VolumeEdit& e) { return e.kind == VolumeEdit::Kind::bytes; });
  if (!of_bytes) require_edited(volume, *after, edits, plan.steps);
}

void try_repair(const FileSystem& system, const Bytes& image, const Volume& volume) {
  const VolumeRepair repair = system.repair({memory_source(image, "fuzz"), 0, nullptr}, 0);
  if (repair.done.empty()) return;
  const auto after = system.read({memory_source(applied(image, repair.ranges), "fuzz"), 0, nullptr});
  if (!after) std::abort();
  const auto sound = [](const Volume& v) {
    return std::count_if(v.entries.begin(), v.entries.end(),
                         [](const VolumeEntry& e) { return e.kind == EntryKind::file && e.sound; });
  };
  if (sound(*after) < sound(volume)) std::abort();  // mending never loses a file
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const Bytes input = fuzz::bytes_of(data, size);
  for (const FileSystem* system : file_systems()) {
    if (system->host != VolumeHost::floppy && system->host != VolumeHost::memory_card) continue;
    const auto volume = system->read({memory_source(input, "fuzz"), 0, nullptr});
    if (!volume) continue;
    read_files(*volume);
    if (system->edit && volume->unlisted.empty())
      try_edits(*system, input, *volume, ByteView(input).last(std::min<std::size_t>(input.size(), 64)));
    if (system->repair && volume->unlisted.empty()) try_repair(*system, input, *volume);
  }
  return 0;
}
