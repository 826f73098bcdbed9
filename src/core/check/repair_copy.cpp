#include <algorithm>
#include <set>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/check/check.hpp"
#include "opifex/core/volumes/file_system.hpp"

namespace opifex {
namespace {

using cd::Lba;

/// A sector to mend, by the place of its 2352 bytes in the source.
struct Mend {
  std::uint64_t offset;
  Lba lba;
};

/// Mends sectors as they are read, so that no more than one is held in memory.
class MendingSource final : public ByteSource {
 public:
  MendingSource(SourcePtr damaged, std::vector<Mend> mends) : damaged_(std::move(damaged)), mends_(std::move(mends)) {
    std::sort(mends_.begin(), mends_.end(), [](const Mend& a, const Mend& b) { return a.offset < b.offset; });
  }
  std::uint64_t size() const override { return damaged_->size(); }
  std::string name() const override { return damaged_->name(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    damaged_->read_at(offset, out);
    const std::uint64_t end = offset + out.size();
    auto mend = std::lower_bound(mends_.begin(), mends_.end(), offset,
                                 [](const Mend& m, std::uint64_t at) { return m.offset + cd::kRawBytes <= at; });
    for (; mend != mends_.end() && mend->offset < end; ++mend) {
      cd::Sector s;
      damaged_->read_at(mend->offset, s);
      cd::repair(s, {mend->lba, true});
      const std::uint64_t from = std::max(offset, mend->offset), to = std::min(end, mend->offset + cd::kRawBytes);
      std::copy(s.begin() + static_cast<std::ptrdiff_t>(from - mend->offset),
                s.begin() + static_cast<std::ptrdiff_t>(to - mend->offset),
                out.begin() + static_cast<std::ptrdiff_t>(from - offset));
    }
  }

 private:
  SourcePtr damaged_;
  std::vector<Mend> mends_;
};

bool holds_plain_raw_sectors(const Extent& e) {
  return stored_bytes(e.form) >= cd::kRawBytes && !e.swapped && !e.scrambled;
}

}  // namespace

namespace {

/// Of a floppy or a card: the system whose tables can be mended; null: none.
const FileSystem* mending_system(const Image& image, const Volume& volume) {
  const auto* blocks = std::get_if<BlockContent>(&image.content);
  const FileSystem* system = blocks && !blocks->is_disc() ? file_system_of(volume) : nullptr;
  return system && system->repair && volume.unlisted.empty() ? system : nullptr;
}

/// Every file that could be read whole reads as it did: mending tables touches none.
void require_same_files(const Volume& before, const Volume& after) {
  std::multiset<std::string> there;
  const auto key = [](const Volume& v, const VolumeEntry& e) {
    const SourcePtr bytes = v.open(e);
    return digest_of("sha1", read_up_to(*bytes, 0, static_cast<std::size_t>(bytes->size())));
  };
  for (const VolumeEntry& e : after.entries)
    if (e.kind == EntryKind::file && e.sound) there.insert(key(after, e));
  for (const VolumeEntry& e : before.entries) {
    if (e.kind != EntryKind::file || !e.sound) continue;
    const auto at = there.find(key(before, e));
    if (at == there.end())
      throw Error({.fault = Fault::device,
                   .code = "proof_failed",
                   .what = "a file would not be the same in the mended copy: nothing was written",
                   .file = before.disc->name(),
                   .found = printable(e.path)});
    there.erase(at);
  }
}

[[noreturn]] void nothing_mended(const Image& image, const CheckResult& result, const char* expected) {
  throw Error(
      {.code = "nothing_to_repair",
       .cause = Cause::nothing_to_repair,
       .what = "there is nothing that could be repaired",
       .file = image.path.string(),
       .found = std::string(to_string(result.verdict)),
       .expected = expected,
       .hint = result.verdict == Verdict::intact ? "it needs no repair" : "<job extract> still reads what is sound"});
}

Image mended_volumes(const Image& image, const CheckResult& result) {
  const SourcePtr whole = std::get<BlockContent>(image.content).bytes;
  Bytes bytes = read_up_to(*whole, 0, static_cast<std::size_t>(whole->size()));
  Image view = image;
  for (const Volume& volume : read_volumes(image)) {
    const FileSystem* system = mending_system(image, volume);
    if (!system) continue;
    VolumeRepair repair = system->repair({whole, 0, nullptr}, seconds_now());
    apply_ranges(bytes, repair.ranges);
    for (std::string& done : repair.done) view.warnings.push_back({"mended", std::move(done)});
    const auto after = system->read({memory_source(bytes, whole->name()), 0, nullptr});
    if (after) require_same_files(volume, *after);
  }
  if (view.warnings.size() == image.warnings.size())
    nothing_mended(image, result, "directories or a bitmap that can be made anew");
  const SourcePtr mended = memory_source(std::move(bytes), whole->name());
  std::get<BlockContent>(view.content).bytes = mended;
  view.files.front().source = mended;
  return view;
}

}  // namespace

bool mends_whole(const Image& image) {
  const auto* blocks = std::get_if<BlockContent>(&image.content);
  if (!blocks || blocks->is_disc() || !image.complete) return false;
  try {
    const std::vector<Volume> mended = read_volumes(mended_volumes(image, {}));
    return !mended.empty() && std::none_of(mended.begin(), mended.end(), [](const Volume& v) { return v.damaged(); });
  } catch (const Error& e) {
    if (e.details.fault == Fault::interrupted) throw;
    return false;  // nothing to mend, or not without a loss
  }
}

void refuse_unrepairable(const Image& image) {
  const auto* blocks = std::get_if<BlockContent>(&image.content);
  if (blocks && !blocks->is_disc()) {
    const std::vector<Volume> volumes = read_volumes(image);
    if (std::any_of(volumes.begin(), volumes.end(), [&](const Volume& v) { return mending_system(image, v); })) return;
  }
  if (image.cd() && std::any_of(image.cd()->extents().begin(), image.cd()->extents().end(), holds_plain_raw_sectors))
    return;
  throw Error({.code = "nothing_to_repair",
               .cause = Cause::nothing_to_repair,
               .what = "there is nothing that could be repaired",
               .file = image.path.string(),
               .found = "no sectors with error correction of their own",
               .expected = "the 2352-byte sectors of a CD, as they were read, or a floppy with a file system",
               .hint = "<job check> without <repair> says whether it is damaged"});
}

Image repaired_view(const Image& image, const CheckResult& result) {
  if (!image.cd()) return mended_volumes(image, result);
  std::map<SourcePtr, std::vector<Mend>> mends;
  for (const TrackCheck& track : result.tracks)
    for (const DamagedRange& range : track.ranges) {
      if (!range.repairable) continue;
      for (Lba lba = range.first; lba < range.first + static_cast<Lba>(range.sectors); ++lba) {
        const Extent* e = image.cd()->extent_at(lba);
        if (e && holds_plain_raw_sectors(*e))
          mends[e->source].push_back(
              {e->offset + static_cast<std::uint64_t>(lba - e->lba) * stored_bytes(e->form), lba});
      }
    }
  if (mends.empty())
    throw Error({.code = "nothing_to_repair",
                 .cause = Cause::nothing_to_repair,
                 .what = "there is nothing that could be repaired",
                 .file = image.path.string(),
                 .found = std::string(to_string(result.verdict)),
                 .expected = "sectors with repairable damage",
                 .hint = "dump the disc again, or join several dumps of it"});
  std::map<SourcePtr, SourcePtr> mended;
  for (auto& [source, list] : mends) mended[source] = std::make_shared<MendingSource>(source, std::move(list));
  Image view = image;
  std::vector<Extent> extents = image.cd()->extents();
  for (Extent& e : extents)
    if (const auto m = mended.find(e.source); m != mended.end()) e.source = m->second;
  for (ImageFile& file : view.files)
    if (const auto m = mended.find(file.source); m != mended.end()) file.source = m->second;
  view.content =
      CdContent{std::make_shared<CdImage>(image.cd()->layout(), std::move(extents), image.cd()->subchannel())};
  return view;
}

namespace {

WritePlan plan_mended_volume(const Image& repaired, const std::filesystem::path& out) {
  const SourcePtr& bytes = std::get<BlockContent>(repaired.content).bytes;
  WritePlan plan;
  plan.copies = true;
  plan.steps.push_back(fmt::format("copy {} with its tables mended", repaired.path.filename().string()));
  for (const Warning& w : repaired.warnings)
    if (w.code == "mended") plan.steps.push_back(w.message);
  plan.outputs.push_back({.path = out, .pieces = {SourceRun{bytes, 0, bytes->size()}}, .size_bytes = bytes->size()});
  return plan;
}

}  // namespace

WritePlan plan_repaired_copy(const Image& repaired, const std::filesystem::path& out) {
  // One file: a copy with its mended sectors, whatever else stands in it. A set: written anew by its format.
  const bool set = repaired.format->holds.unstored_gaps;
  if (set && !repaired.format->plan_write)
    throw Error(
        {.fault = Fault::usage,
         .code = "read_only_format",
         .what = fmt::format("{} can be read but not written, so no repaired copy can be made", repaired.format->id),
         .file = repaired.path.string(),
         .hint = "convert it to cue first, and repair that"});
  if (set) return repaired.format->plan_write(repaired, out, {});
  if (!repaired.cd()) return plan_mended_volume(repaired, out);
  WritePlan plan;
  plan.copies = true;
  PlannedOutput output{out, {}, repaired.files.front().size_bytes};
  output.pieces.emplace_back(SourceRun{repaired.files.front().source, 0, output.size_bytes});
  plan.steps.push_back(fmt::format("copy {} with its damaged sectors mended", repaired.path.filename().string()));
  plan.outputs.push_back(std::move(output));
  return plan;
}

}  // namespace opifex
