// A Wii disc in a container of blocks.
#include "opifex/core/image/format.hpp"

#include <algorithm>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/glob.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/image/container.hpp"

#include "listing.hpp"
#include "table.hpp"

namespace opifex {

extern const Format kWbfsFormat;

namespace {

namespace fs = std::filesystem;

constexpr std::array<std::string_view, 1> kExtensions = {".wbfs"};

int probe(const ByteSource& source, std::string_view) { return as_text(read_up_to(source, 0, 4)) == "WBFS" ? 33 : 0; }

class WbfsContainer final : public Container {
 public:
  WbfsContainer(wbfs::Geometry geometry, std::size_t discs, wbfs::Disc disc)
      : geometry_(geometry), discs_(discs), disc_(std::move(disc)) {}
  std::vector<ContainerFact> facts() const override {
    return {{"block_bytes", "Blocks",
             fmt::format("{} of {}, {} stored", grouped(disc_.blocks.size()), human_size(geometry_.block_bytes()),
                         grouped(disc_.stored)),
             geometry_.block_bytes()},
            {"blocks", "", "", disc_.blocks.size()},
            {"stored_blocks", "", "", disc_.stored},
            {"discs", "Discs", fmt::format("{}", discs_), discs_},
            {"logical_bytes", "Holds", bytes_text(disc_.size_bytes), disc_.size_bytes},
            {"version", "", fmt::format("{}", geometry_.version), geometry_.version},
            {"slot", "", fmt::format("{}", disc_.slot), disc_.slot}};
  }
  std::vector<ContainerShare> shares() const override { return {}; }
  std::vector<ContainerTag> tags() const override { return {}; }
  /// It has no checksums of its own: its tables were held against each other when it was opened.
  std::vector<ContainerProblem> verify(JobContext&, DecodedSectors*) const override { return {}; }

 private:
  wbfs::Geometry geometry_;
  std::size_t discs_;
  wbfs::Disc disc_;
};

const wbfs::Disc& choose(const wbfs::Table& table, const fs::path& path, const std::string& pick) {
  std::vector<const wbfs::Disc*> fitting;
  std::vector<std::string> names;
  for (const wbfs::Disc& d : table.discs) {
    names.push_back(fmt::format("{} {}", d.id, d.title));
    if (pick.empty() || path_fits(pick, d.id)) fitting.push_back(&d);
  }
  if (fitting.size() == 1) return *fitting.front();
  throw Error({.fault = Fault::usage,
               .code = "several_discs",
               .what = fitting.empty() ? "no disc in the container has an id like this"
                                       : "there is more than one disc in the container",
               .file = path.string(),
               .found = fmt::format("{}", fmt::join(names, ", ")),
               .expected = "one",
               .hint = "choose with <pick> ID"});
}

Image open(const fs::path& path, const OpenOptions& options) {
  Image image;
  image.format = &kWbfsFormat;
  image.path = path;
  const SourcePtr parts = options.space().open(path);
  image.files.push_back({path, "wbfs", parts->size(), false, parts});
  wbfs::Table table = wbfs::read_table(parts);
  const wbfs::Disc& disc = choose(table, path, options.archive.empty() ? options.pick : "");
  image.warnings = table.warnings;
  image.content = BlockContent{.bytes = wbfs::open_disc(parts, table.geometry, disc)};
  image.container = std::make_shared<WbfsContainer>(table.geometry, table.discs.size(), disc);
  return image;
}

/// Writes the stored blocks as they come, and block 0 when it is known what was stored.
class WbfsPacker final : public Packer {
 public:
  WbfsPacker(SourcePtr disc, wbfs::Geometry geometry) : disc_(std::move(disc)), geometry_(geometry) {
    const std::uint64_t bytes = geometry_.block_bytes(), blocks = ceil_div(disc_->size(), bytes);
    for (std::uint64_t n = 0; n < blocks; ++n)
      if (n == 0 || disc_->next_data(n * bytes) < (n + 1) * bytes) numbers_.push_back(n);
  }
  std::uint64_t source_bytes() const override { return numbers_.size() * geometry_.block_bytes(); }
  std::uint64_t most_bytes() const override { return (numbers_.size() + 1) * geometry_.block_bytes(); }

  void write(Output& file, JobContext& context) const override {
    // In pieces, for a block may have 64 MiB and several are on their way.
    const std::uint64_t bytes = geometry_.block_bytes(), piece = std::min<std::uint64_t>(bytes, kFlowBlockBytes);
    const std::uint64_t in_block = bytes / piece;
    std::vector<std::uint16_t> table(static_cast<std::size_t>(geometry_.blocks_per_disc()));
    std::uint16_t stored = 0;
    bool begun = false;  // the block of the last piece is in the file
    file.skip(bytes);
    const auto number_of = [&](std::uint64_t index) { return numbers_[static_cast<std::size_t>(index / in_block)]; };
    Flow flow;
    flow.next = [&](FlowBlock& block) {
      if (block.index >= numbers_.size() * in_block) return false;
      block.data.resize(static_cast<std::size_t>(piece));
      return true;
    };
    flow.work = [&](FlowBlock& block) {
      const std::uint64_t at = number_of(block.index) * bytes + block.index % in_block * piece, size = disc_->size();
      if (at >= size || disc_->next_data(at) >= at + piece) return block.data.clear();
      const auto there = static_cast<std::size_t>(std::min(piece, size - at));
      disc_->read_at(at, std::span(block.data).first(there));
      std::fill(block.data.begin() + static_cast<std::ptrdiff_t>(there), block.data.end(), std::byte{0});
      if (all_zero(block.data)) block.data.clear();
    };
    flow.consume.emplace_back([&](const FlowBlock& block) {
      const std::uint64_t number = number_of(block.index), part = block.index % in_block;
      context.progress.done_bytes += piece;
      if (part == 0) begun = false;
      // Empty blocks are left out, but for the first one.
      if (!begun && (!block.data.empty() || number == 0)) {
        table[static_cast<std::size_t>(number)] = ++stored;
        begun = true;
        file.skip(part * piece);
      }
      if (!begun) return;
      block.data.empty() ? file.skip(piece) : file.write(block.data);
    });
    run_flow(flow, context);
    file.rewrite(0, head(table, stored));
  }

 private:
  Bytes head(const std::vector<std::uint16_t>& table, std::uint16_t stored) const {
    const std::uint64_t sector = geometry_.sector_bytes();
    Bytes head(static_cast<std::size_t>(sector + geometry_.info_bytes()));
    const std::string_view magic = "WBFS";
    std::copy_n(as_view(magic).begin(), magic.size(), head.begin());
    const auto put16 = [&](std::size_t at, unsigned value) {
      head[at] = static_cast<std::byte>(value >> 8 & 255);
      head[at + 1] = static_cast<std::byte>(value & 255);
    };
    const std::uint64_t sectors = (stored + std::uint64_t{1}) * geometry_.block_bytes() / sector;
    put16(4, static_cast<unsigned>(sectors >> 16));
    put16(6, static_cast<unsigned>(sectors & 0xFFFF));
    head[8] = static_cast<std::byte>(geometry_.sector_shift);
    head[9] = static_cast<std::byte>(geometry_.block_shift);
    head[12] = std::byte{1};
    const auto at = static_cast<std::size_t>(sector);
    disc_->read_at(0, std::span(head).subspan(at, wbfs::kInfoHead));
    for (std::size_t i = 0; i < table.size(); ++i) put16(at + wbfs::kInfoHead + 2 * i, table[i]);
    return head;
  }

  SourcePtr disc_;
  wbfs::Geometry geometry_;
  std::vector<std::uint64_t> numbers_;  // of the blocks that may hold something: holes are not read
};

constexpr Setting kHunkSize{.name = "hunk-size",
                            .type = SettingType::size,
                            .help = "bytes of a block (default: 2 MiB)",
                            .value = "SIZE",
                            .range = {1, UINT32_MAX}};
constexpr std::array kSettings = {&kHunkSize};

/// NAME.wbfs, NAME.wbf1 .. NAME.wbf9
std::string part_name(std::string_view stem, std::string_view extension, std::size_t part) {
  return part == 0 ? fmt::format("{}{}", stem, extension) : fmt::format("{}.wbf{}", stem, part);
}
constexpr PartNaming kPartNames = {.name = &part_name, .most = 10};

/// 2 MiB unless the user wants something else.
wbfs::Geometry geometry_for(const Settings& settings) {
  wbfs::Geometry geometry;
  const auto wanted = settings.bytes(kHunkSize);
  if (!wanted) return geometry;
  constexpr unsigned kLeast = 18, kMost = 26;
  for (geometry.block_shift = kLeast; geometry.block_shift <= kMost; ++geometry.block_shift)
    if (geometry.block_bytes() == *wanted) return geometry;
  throw Error({.fault = Fault::usage,
               .code = "bad_block_size",
               .what = "blocks cannot have this size",
               .found = human_size(*wanted),
               .expected = "a power of two from 256 KiB to 64 MiB",
               .hint = "loaders expect 2 MiB: leave <hunk-size> out"});
}

WritePlan plan_write(const Image& image, const fs::path& out, const Settings& settings) {
  constexpr std::size_t kHead = 0x100;
  const Bytes head = image.blocks() ? read_up_to(*image.blocks(), 0, kHead) : Bytes{};
  if (head.size() < kHead || load_be32(head, kWiiMarkAt) != kWiiMark) {
    const bool game_cube = head.size() == kHead && load_be32(head, kGameCubeMarkAt) == kGameCubeMark;
    throw Error({.code = "no_wii_disc",
                 .what = "only a Wii disc goes into this container",
                 .file = image.path.string(),
                 .found = game_cube ? "a GameCube disc" : describe(image.content),
                 .hint = game_cube ? "loaders expect GameCube discs as ISO" : "<job identify> says what it is"});
  }
  const wbfs::Geometry geometry = geometry_for(settings);
  if (image.blocks()->size() > geometry.blocks_per_disc() * geometry.block_bytes())
    throw Error({.code = "too_large",
                 .what = "the image is larger than a dual-layer disc",
                 .file = image.path.string(),
                 .found = human_size(image.blocks()->size())});
  const auto packer = std::make_shared<WbfsPacker>(image.blocks(), geometry);
  WritePlan plan;
  plan.steps.push_back(fmt::format("write the blocks of {} that hold anything to {}",
                                   human_size(geometry.block_bytes()), out.filename().string()));
  plan.outputs.push_back({out, {packer}, packer->most_bytes()});
  return plan;
}

}  // namespace

extern const Format kWbfsFormat = {.id = "wbfs",
                                   .title = "a Wii disc in blocks, without empty ones",
                                   .extensions = kExtensions,
                                   .probe = &probe,
                                   .open = &open,
                                   .holds = {.blocks = true, .whole_discs = true},
                                   .plan_write = &plan_write,
                                   .unit_bytes = std::uint64_t{1} << wbfs::Geometry{}.block_shift,
                                   .unit_setting = &kHunkSize,
                                   .settings = kSettings,
                                   .part_names = &kPartNames,
                                   .list = &wbfs::list};

}  // namespace opifex
