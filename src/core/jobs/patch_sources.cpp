#include "patch_sources.hpp"

#include "opifex/core/base/progress.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/rom/rom.hpp"
#include "opifex/core/image/inputs.hpp"
#include "opifex/core/io/folder_tree.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

/// The sectors of a CD as a BIN has them: those that are stored, one after the other.
class RawSectors final : public ByteSource {
 public:
  RawSectors(CdImagePtr cd, std::string name) : cd_(std::move(cd)), name_(std::move(name)) {}
  std::uint64_t size() const override { return cd_->stored_sectors() * cd::kRawBytes; }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    std::uint64_t before = 0;  // sectors of the extents in front
    for (const Extent& e : cd_->extents()) {
      while (!out.empty() && offset / cd::kRawBytes < before + e.sectors) {
        const std::size_t taken =
            read_some(e, static_cast<std::uint32_t>(offset / cd::kRawBytes - before), offset, out);
        out = out.subspan(taken);
        offset += taken;
      }
      before += e.sectors;
    }
    if (!out.empty()) throw Error({.code = "truncated", .what = "the disc ends too early", .file = name_});
  }
  std::string name() const override { return name_; }

 private:
  /// Whole sectors at once, or part of one.
  std::size_t read_some(const Extent& e, std::uint32_t n, std::uint64_t offset, std::span<std::byte> out) const {
    const std::size_t inside = offset % cd::kRawBytes;
    const cd::Lba lba = e.lba + static_cast<cd::Lba>(n);
    if (inside == 0 && out.size() >= cd::kRawBytes) {
      const auto count = static_cast<std::uint32_t>(std::min<std::size_t>(out.size() / cd::kRawBytes, e.sectors - n));
      cd_->read(SectorForm::raw, lba, count, out.first(count * cd::kRawBytes));
      return count * cd::kRawBytes;
    }
    cd::Sector sector;
    cd_->read_sector(lba, sector);
    const std::size_t take = std::min(out.size(), cd::kRawBytes - inside);
    std::copy_n(sector.begin() + static_cast<std::ptrdiff_t>(inside), take, out.begin());
    return take;
  }

  CdImagePtr cd_;
  std::string name_;
};

void add_rom(const SourcePtr& file, const rom::Machine& machine, bool in_archive, std::vector<PatchSource>& all) {
  const rom::Container container = rom::container_of(*file, &machine);
  if (container.is_plain()) return;
  const Bytes whole = rom::read_file(*file);
  const Bytes header(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(container.header_bytes));
  PatchSource inside{memory_source(rom::unpacked(whole, container), file->name()),
                     "the ROM alone, without what stands around it"};
  if (!in_archive) inside.packed = [container, header](const Bytes& b) { return rom::packed(b, container, header); };
  all.push_back(std::move(inside));
}

void add_decoded(const Image& image, std::vector<PatchSource>& all) {
  const bool in_archive = !image.archive.empty();
  if (const auto* content = std::get_if<RomContent>(&image.content)) {
    if (in_archive) all.push_back({content->bytes, "the ROM in the archive"});
    if (const rom::Machine* machine = rom::find_machine(content->system))
      add_rom(content->bytes, *machine, in_archive, all);
    return;
  }
  // What is stored as it is was the file itself already.
  if (!in_archive && !image.container) return;
  if (image.blocks()) all.push_back({image.stored_blocks(), "the blocks of the disc, as an ISO has them"});
  const CdImagePtr& cd = image.cd();
  if (cd && !image.blocks() && !cd->extents().empty())
    all.push_back(
        {std::make_shared<RawSectors>(cd, image.path.string()), "the sectors of the disc, as a BIN has them"});
}

/// A patch knows the sizes: nothing else is worth reading.
bool may_fit(const PatchFacts& facts, const PatchSource& source) {
  return source.bytes->size() == *facts.source_bytes || source.bytes->size() == *facts.target_bytes;
}

}  // namespace

std::vector<PatchSource> patch_sources(const fs::path& path) {
  std::vector<PatchSource> all = {{open_file(path)}};
  try {
    for (const Input& input : find_inputs(path, {}).images) add_decoded(open_image(input.path, input.options), all);
  } catch (const Error& e) {
    // It is no image, then: its own bytes are all that a patch can be for.
    if (e.details.fault != Fault::refused) throw;
  }
  return all;
}

ChosenSource choose(const std::vector<PatchSource>& all, const PatchFacts& facts) {
  if (!facts.source_crc32) return {all.front(), PatchFit::unknown};
  const PatchSource* patched_already = nullptr;
  for (const PatchSource& source : all) {
    if (!may_fit(facts, source)) continue;
    const PatchFit fit = fit_of(facts, *source.bytes);
    if (fit == PatchFit::source) return {source, fit};
    if (fit == PatchFit::target && !patched_already) patched_already = &source;
  }
  if (patched_already) return {*patched_already, PatchFit::target};
  return {all.front(), PatchFit::other};
}

fs::path found_among(const fs::path& folder, const PatchFacts& facts, const fs::path& patch, JobContext& context) {
  if (!facts.source_crc32)
    throw Error({.code = "patch_tells_nothing",
                 .what = "an IPS patch does not say what file it is for: it cannot be looked for",
                 .file = patch.string(),
                 .hint = "name the file yourself"});
  std::vector<fs::path> as_they_are, to_open;
  std::uint64_t files = 0;
  const std::function<void(const FolderNode&)> collect = [&](const FolderNode& node) {
    for (const FolderNode& child : node.children) {
      if (child.folder) {
        collect(child);
        continue;
      }
      ++files;
      (child.size_bytes == *facts.source_bytes ? as_they_are : to_open).push_back(child.host);
    }
  };
  collect(read_folder(folder).root);
  // One that fits as it is before one that has to be opened.
  for (const fs::path& file : as_they_are) {
    context.progress.check_stop();
    if (fit_of(facts, *open_file(file)) == PatchFit::source) return file;
  }
  to_open.insert(to_open.end(), as_they_are.begin(), as_they_are.end());
  for (const fs::path& file : to_open) {
    context.progress.check_stop();
    const std::vector<PatchSource> sources = patch_sources(file);
    if (choose(sources, facts).fit == PatchFit::source) return file;
  }
  throw Error({.code = "no_file_fits",
               .what = "none of these files is the one that the patch is for",
               .file = folder.string(),
               .found = plural(files, "file"),
               .expected = fmt::format("{} bytes, crc32 {:08x}", *facts.source_bytes, *facts.source_crc32)});
}

}  // namespace opifex::jobs
