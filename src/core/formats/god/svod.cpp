#include "svod.hpp"

#include <algorithm>
#include <array>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/xdvdfs/volume.hpp"

namespace opifex::god {
namespace {

constexpr std::uint64_t kSector = 2048, kDescriptorSector = 32, kNaturalStart = 17;

class Stream final : public ByteSource {
 public:
  explicit Stream(const std::vector<DataFile>& files) : files_(files) {
    const std::size_t last = files_.size() - 1;
    blocks_ = last * kFileBlocks + (files_[last].source ? data_blocks(files_[last].source->size()) : 0);
  }
  std::uint64_t size() const override { return blocks_ * kBlock; }
  std::string name() const override { return files_.front().path.string(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (offset > size() || out.size() > size() - offset)
      throw Error({.code = "truncated", .what = "the data files end here", .file = name(), .offset = offset});
    while (!out.empty()) {
      const std::uint64_t block = offset / kBlock, inside = block % kFileBlocks, group = inside / kGroupBlocks;
      const auto n = static_cast<std::size_t>(
          std::min<std::uint64_t>(out.size(), ((group + 1) * kGroupBlocks - inside) * kBlock - offset % kBlock));
      const DataFile& file = files_[static_cast<std::size_t>(block / kFileBlocks)];
      if (!file.source)
        throw Error({.code = "missing_part",
                     .cause = Cause::missing_part,
                     .what = "a data file is missing",
                     .file = file.path.string()});
      const std::uint64_t at = group_at(group) + kBlock + inside % kGroupBlocks * kBlock + offset % kBlock;
      // Of a last block that is cut the rest reads as zeros.
      const std::uint64_t there = std::min<std::uint64_t>(n, file.source->size() - std::min(at, file.source->size()));
      file.source->read_at(std::min(at, file.source->size()), out.first(static_cast<std::size_t>(there)));
      std::fill(out.begin() + static_cast<std::ptrdiff_t>(there), out.begin() + static_cast<std::ptrdiff_t>(n),
                std::byte{0});
      out = out.subspan(n);
      offset += n;
    }
  }

 private:
  std::vector<DataFile> files_;
  std::uint64_t blocks_ = 0;
};

/// Runs of the stream at their places on the disc.
class Disc final : public ByteSource {
 public:
  Disc(SourcePtr stream, const Mapping& mapping) : stream_(std::move(stream)) {
    const std::uint64_t sectors = stream_->size() / kSector;
    if (!mapping.enhanced) {
      runs_.push_back({0, 0, sectors});
    } else {
      // The first stored block holds the descriptor and the sector before the second block's first.
      const std::uint64_t second = 2 * mapping.start;
      if (mapping.start >= kNaturalStart && sectors > 1) {
        runs_.push_back({kDescriptorSector, 0, 1});
        const bool apart = second - 1 > kDescriptorSector;
        runs_.push_back({apart ? second - 1 : second, apart ? 1u : 2u, sectors - (apart ? 1 : 2)});
      } else if (sectors > 2) {
        cut_at_descriptor(second, sectors);
      }
    }
    for (const Run& r : runs_) size_ = std::max(size_, (r.sector + r.sectors) * kSector);
    size_ = std::max(size_, (kDescriptorSector + 1) * kSector);
  }
  std::uint64_t size() const override { return size_; }
  std::string name() const override { return stream_->name(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    std::fill(out.begin(), out.end(), std::byte{0});
    const std::uint64_t end = offset + out.size();
    for (const Run& r : runs_) {
      const std::uint64_t first = std::max(offset, r.sector * kSector),
                          last = std::min(end, (r.sector + r.sectors) * kSector);
      if (first >= last) continue;
      stream_->read_at(r.stored * kSector + first - r.sector * kSector,
                       out.subspan(static_cast<std::size_t>(first - offset), static_cast<std::size_t>(last - first)));
    }
  }
  std::uint64_t next_data(std::uint64_t offset) const override {
    std::uint64_t next = size_;
    for (const Run& r : runs_)
      if (offset < (r.sector + r.sectors) * kSector) next = std::min(next, std::max(offset, r.sector * kSector));
    return next;
  }

 private:
  struct Run {
    std::uint64_t sector = 0, stored = 0, sectors = 0;
  };
  /// A start before the descriptor: it wins over the stored range.
  void cut_at_descriptor(std::uint64_t second, std::uint64_t sectors) {
    const std::uint64_t count = sectors - 2;
    const std::uint64_t before = std::min(count, kDescriptorSector - std::min(second, kDescriptorSector));
    if (before > 0) runs_.push_back({second, 2, before});
    runs_.push_back({kDescriptorSector, 0, 1});
    if (second + count > kDescriptorSector + 1) {
      const std::uint64_t from = std::max(second, kDescriptorSector + 1);
      runs_.push_back({from, 2 + from - second, second + count - from});
    }
  }

  SourcePtr stream_;
  std::vector<Run> runs_;  // by sector
  std::uint64_t size_ = 0;
};

bool has_mark(const ByteSource& stream, std::uint64_t sector) {
  return as_text(read_up_to(stream, sector * kSector, kXdvdfsMark.size())) == kXdvdfsMark;
}

/// A tree without a file is none: where nothing is stored, an empty folder is read.
constexpr std::size_t kNoTree = SIZE_MAX;

std::size_t damage_of(const SourcePtr& stream, const Mapping& mapping) {
  try {
    // A start that is too large would give a disc of holes: everything has to lie where something is stored.
    const Bytes descriptor = read_up_to(*stream, mapping.enhanced ? 0 : kDescriptorSector * kSector, 0x20);
    const auto stored = [&](std::uint64_t sector, std::uint64_t size) {
      // The first block's second sector lies just before the second block, if that is no place of the descriptor.
      const std::uint64_t skipped = !mapping.enhanced ? 0 : mapping.start >= kNaturalStart ? 1 : 2;
      const std::uint64_t first = mapping.enhanced ? 2 * mapping.start - (2 - skipped) : 0;
      return sector >= first && (sector - first + skipped) * kSector + size <= stream->size();
    };
    if (!stored(load_le32(descriptor, 0x14), load_le32(descriptor, 0x18))) return kNoTree;
    const auto volume = read_xdvdfs(open_disc(stream, mapping));
    if (!volume || volume->entries.empty()) return kNoTree;
    auto damage = std::count_if(volume->problems.begin(), volume->problems.end(),
                                [](const VolumeProblem& p) { return is_damage(p.weight); });
    for (const VolumeEntry& e : volume->entries)
      damage += std::count_if(e.extents.begin(), e.extents.end(),
                              [&](const VolumeExtent& x) { return !stored(x.sector, x.size_bytes); });
    return static_cast<std::size_t>(damage);
  } catch (const Error& e) {
    if (e.details.fault != Fault::refused) throw;
    return kNoTree;
  }
}

/// No reading of the header fits: a stored sector that could be the root's table.
std::optional<Mapping> search_start(const SourcePtr& stream) {
  constexpr std::uint64_t kMostSectors = 1 << 16;
  const Bytes descriptor = read_up_to(*stream, 0, 0x20);
  const std::uint64_t root = load_le32(descriptor, 0x14), size = load_le32(descriptor, 0x18);
  if (size == 0) return std::nullopt;
  for (std::uint64_t t = 1; t < std::min(stream->size() / kSector, kMostSectors); ++t) {
    if (root + 2 < t || (root + 2 - t) % 2 != 0) continue;
    const Bytes entry = read_up_to(*stream, t * kSector, 16);
    const bool plausible = entry.size() == 16 && load_le16(entry, 0) < size / 4 && load_le16(entry, 2) < size / 4 &&
                           entry[13] != std::byte{0} && (entry[12] & std::byte{0x48}) == std::byte{0};
    const Mapping mapping{true, (root + 2 - t) / 2, "found"};
    if (plausible && damage_of(stream, mapping) == 0) return mapping;
  }
  return std::nullopt;
}

std::uint64_t little24(ByteView v, std::size_t at) {
  return std::to_integer<std::uint64_t>(v[at]) | std::to_integer<std::uint64_t>(v[at + 1]) << 8 |
         std::to_integer<std::uint64_t>(v[at + 2]) << 16;
}
std::uint64_t big24(ByteView v, std::size_t at) {
  return std::to_integer<std::uint64_t>(v[at + 2]) | std::to_integer<std::uint64_t>(v[at + 1]) << 8 |
         std::to_integer<std::uint64_t>(v[at]) << 16;
}
constexpr std::size_t kStartAt = 0x395 - kContentDescriptorAt;

}  // namespace

std::uint64_t data_blocks(std::uint64_t file_bytes) {
  const std::uint64_t blocks = (std::min(file_bytes, kFullFile) + kBlock - 1) / kBlock;
  if (blocks < 2) return 0;
  const std::uint64_t rest = blocks - 1, groups = (rest + kGroupBlocks) / (kGroupBlocks + 1);
  return rest - groups;
}

SourcePtr stored_stream(const std::vector<DataFile>& files) { return std::make_shared<Stream>(files); }

std::optional<Mapping> find_mapping(const SourcePtr& stream, const ContentHeader& header) {
  const bool enhanced = has_mark(*stream, 0);
  if (!enhanced && !has_mark(*stream, kDescriptorSector)) return std::nullopt;
  const std::array<Mapping, 3> candidates = {Mapping{enhanced, little24(header.descriptor, kStartAt), "little"},
                                             Mapping{enhanced, big24(header.descriptor, kStartAt), "big"},
                                             Mapping{enhanced, 0, "zero"}};
  if (!enhanced) return Mapping{false, 0, candidates[0].start == 0 ? "little" : "zero"};
  const Mapping* best = nullptr;
  std::size_t least = kNoTree;
  for (const Mapping& m : candidates) {
    const std::size_t damage = damage_of(stream, m);
    if (damage == 0) return m;
    if (damage < least) {
      least = damage;
      best = &m;
    }
  }
  if (auto found = search_start(stream)) return found;
  if (!best) return std::nullopt;
  Mapping fallback = *best;
  fallback.believed = "unproved";
  return fallback;
}

SourcePtr open_disc(SourcePtr stream, const Mapping& mapping) {
  return std::make_shared<Disc>(std::move(stream), mapping);
}

namespace {

bool same_hash(const ContentHash& value, ByteView table, std::uint64_t entry) {
  const ByteView wanted = table.subspan(static_cast<std::size_t>(entry) * kHashBytes, kHashBytes);
  return std::equal(value.begin(), value.end(), wanted.begin());
}

class Verifier {
 public:
  Verifier(const std::vector<DataFile>& files, const ContentHeader& header, const std::optional<Mapping>& mapping,
           JobContext& context)
      : files_(files), header_(header), mapping_(mapping), context_(context) {}

  std::vector<ContainerProblem> run() {
    if (!header_.content_id_fits)
      add("hash_header", "the header is not as it was written: its content id does not match it");
    const bool all = std::all_of(files_.begin(), files_.end(), [](const DataFile& f) { return f.source != nullptr; });
    if (!mapping_ && all)
      add("no_start", "no start block fits the data: which sectors of the disc are stored is unknown");
    else if (mapping_ && all && mapping_->believed == "unproved")
      add("no_start", "no start block fits the data as a whole: the nearest is taken");
    check_masters();
    std::uint64_t total = 0;
    for (const DataFile& f : files_) total += f.source ? f.source->size() : 0;
    context_.progress.begin("verifying", total);
    Flow flow;
    flow.next = [&](FlowBlock& b) {
      if (b.index >= groups_.size()) return false;
      const Group& g = groups_[static_cast<std::size_t>(b.index)];
      b.data.resize(static_cast<std::size_t>(g.bytes));
      return true;
    };
    flow.work = [&](FlowBlock& b) { check_group(groups_[static_cast<std::size_t>(b.index)], b.data); };
    flow.consume.emplace_back([&](const FlowBlock& b) { context_.progress.done_bytes += b.data.size(); });
    run_flow(flow, context_);
    for (Group& g : groups_)
      for (ContainerProblem& p : g.problems) problems_.push_back(std::move(p));
    return std::move(problems_);
  }

 private:
  struct Group {
    std::size_t file = 0;
    std::uint64_t number = 0, bytes = 0;  // hash block and data
    bool hash_block_fits = true;
    ContentHash wanted = {};
    std::vector<ContainerProblem> problems = {};
  };

  void add(const char* code, std::string message, std::optional<std::uint64_t> offset = {}) {
    problems_.push_back({code, std::move(message), offset, {}, 0});
  }
  std::string name(std::size_t file) const { return printable(files_[file].path.filename().string()); }

  /// Masters are a chain from the header on.
  void check_masters() {
    ContentHash wanted;
    std::copy_n(header_.descriptor.begin() + (0x37D - kContentDescriptorAt), wanted.size(), wanted.begin());
    std::optional<ContentHash> expected = wanted;
    for (std::size_t f = 0; f < files_.size(); ++f) {
      const SourcePtr& source = files_[f].source;
      if (!source) {
        missing(f);
        expected.reset();
        continue;
      }
      Bytes master = read_up_to(*source, 0, kBlock);
      master.resize(kBlock);
      if (expected && short_sha1(master) != *expected)
        add(f == 0 ? "hash_root" : "hash_master",
            fmt::format("{}: its first block does not match {}", name(f), f == 0 ? "the header" : "the file before it"),
            0);
      constexpr std::size_t kNextAt = kFileGroups * kHashBytes;
      const bool further = f + 1 < files_.size();
      if (further) {
        expected.emplace();
        std::copy_n(master.begin() + kNextAt, kHashBytes, expected->begin());
      }
      check_size(f, further, master);
      list_groups(f, master);
    }
  }

  void missing(std::size_t f) {
    const std::uint64_t first = f * kFileBlocks;
    problems_.push_back(at_blocks("missing_data_file", name(f) + " is missing", {}, first, kFileBlocks));
  }

  /// The master block tells how many groups there should be, whatever the file's length says.
  void check_size(std::size_t f, bool further, ByteView master) {
    std::uint64_t groups = 0;
    for (std::uint64_t g = 0; g < kFileGroups; ++g)
      if (!all_zero(master.subspan(static_cast<std::size_t>(g) * kHashBytes, kHashBytes))) groups = g + 1;
    const SourcePtr& source = files_[f].source;
    std::uint64_t wanted = groups * kGroupBlocks;
    if (!further && groups > 0) {
      const Bytes hashes = read_up_to(*source, group_at(groups - 1), kBlock);
      std::uint64_t last = hashes.size() == kBlock ? 0 : kGroupBlocks;
      for (std::uint64_t i = 0; i < kGroupBlocks && hashes.size() == kBlock; ++i)
        if (!all_zero(ByteView(hashes).subspan(static_cast<std::size_t>(i) * kHashBytes, kHashBytes))) last = i + 1;
      wanted = (groups - 1) * kGroupBlocks + last;
    }
    const std::uint64_t bytes = further ? kFullFile : (1 + groups + wanted) * kBlock;
    const std::uint64_t there = source->size();
    if (there < bytes) {
      const std::uint64_t first = f * kFileBlocks + (there / kBlock < 2 ? 0 : data_blocks(there / kBlock * kBlock));
      problems_.push_back(
          at_blocks("short_data_file",
                    fmt::format("{} has {} bytes, its hashes are of {}", name(f), grouped(there), grouped(bytes)),
                    there, first, f * kFileBlocks + wanted - std::min(f * kFileBlocks + wanted, first)));
    }
    if (!further && groups == kFileGroups && wanted == kFileBlocks && files_.size() == f + 1 &&
        !all_zero(master.subspan(kFileGroups * kHashBytes, kHashBytes)))
      add("missing_data_file", fmt::format("a data file behind {} is missing: it names the next one", name(f)));
  }

  void list_groups(std::size_t f, ByteView master) {
    const SourcePtr& source = files_[f].source;
    for (std::uint64_t g = 0; g < kFileGroups && group_at(g) < source->size(); ++g) {
      Group group;
      group.file = f;
      group.number = g;
      group.bytes = std::min((1 + kGroupBlocks) * kBlock, source->size() - group_at(g));
      std::copy_n(master.begin() + static_cast<std::ptrdiff_t>(g * kHashBytes), kHashBytes, group.wanted.begin());
      groups_.push_back(std::move(group));
    }
  }

  void check_group(Group& group, std::span<std::byte> bytes) const {
    const DataFile& file = files_[group.file];
    file.source->read_at(group_at(group.number), bytes);
    if (bytes.size() < kBlock) return;  // told as short
    const ByteView table = bytes.first(kBlock);
    if (short_sha1(table) != group.wanted)
      group.problems.push_back(
          {"hash_group",
           fmt::format("{}: the hashes of group {} do not match its first block", name(group.file), group.number),
           group_at(group.number),
           {},
           0});
    const ByteView data = bytes.subspan(kBlock);
    std::uint64_t first_bad = 0, bad = 0;
    const auto tell = [&] {
      if (bad > 0) group.problems.push_back(bad_blocks(group, first_bad, bad));
      bad = 0;
    };
    for (std::uint64_t i = 0; i * kBlock < data.size(); ++i) {
      const auto at = static_cast<std::size_t>(i * kBlock);
      Bytes padded;
      ByteView block = data.subspan(at, std::min<std::size_t>(kBlock, data.size() - at));
      if (block.size() < kBlock && !same_hash(short_sha1(block), table, i)) {
        padded.assign(block.begin(), block.end());
        padded.resize(kBlock);
        block = padded;
      }
      if (same_hash(short_sha1(block), table, i)) {
        tell();
        continue;
      }
      if (bad++ == 0) first_bad = i;
    }
    tell();
  }

  ContainerProblem bad_blocks(const Group& group, std::uint64_t first, std::uint64_t count) const {
    const std::uint64_t in_file = group.number * kGroupBlocks + first;
    return at_blocks("hash_data",
                     fmt::format("{}: {} from {} do{} not match {} hash{}", name(group.file),
                                 count == 1 ? std::string("the block") : fmt::format("{} blocks", count), in_file,
                                 count == 1 ? "es" : "", count == 1 ? "its" : "their", count == 1 ? "" : "es"),
                     group_at(group.number) + (1 + first) * kBlock, group.file * kFileBlocks + in_file, count);
  }

  /// With the disc's sectors, where they are known.
  ContainerProblem at_blocks(const char* code, std::string message, std::optional<std::uint64_t> offset,
                             std::uint64_t first, std::uint64_t count) const {
    ContainerProblem p{code, std::move(message), offset, {}, 0};
    if (!mapping_ || count == 0) return p;
    const std::uint64_t stored = 2 * first;
    const std::uint64_t sector = !mapping_->enhanced ? stored
                                 : stored == 0       ? kDescriptorSector
                                                     : stored - 2 + 2 * mapping_->start;
    if (sector > INT32_MAX) return p;
    p.lba = static_cast<std::int32_t>(sector);
    p.sectors = 2 * count;
    return p;
  }

  const std::vector<DataFile>& files_;
  const ContentHeader& header_;
  const std::optional<Mapping>& mapping_;
  JobContext& context_;
  std::vector<Group> groups_;
  std::vector<ContainerProblem> problems_;
};

}  // namespace

std::vector<ContainerProblem> verify(const std::vector<DataFile>& files, const ContentHeader& header,
                                     const std::optional<Mapping>& mapping, JobContext& context) {
  return Verifier(files, header, mapping, context).run();
}

namespace {

/// What the outputs of one container tell each other: they are written from the last to the first.
struct Shared {
  ContentHash next = {};  // of the master block of the file written before
  bool any = false;
};

class DataPacker final : public Packer {
 public:
  DataPacker(SourcePtr game, std::uint64_t first, std::uint64_t blocks, std::shared_ptr<Shared> shared)
      : game_(std::move(game)), first_(first), blocks_(blocks), shared_(std::move(shared)) {}
  std::uint64_t source_bytes() const override { return blocks_ * kBlock; }
  std::uint64_t most_bytes() const override { return (1 + groups() + blocks_) * kBlock; }

  void write(Output& file, JobContext& context) const override {
    Bytes master(kBlock);
    file.write(master);
    Flow flow;
    flow.next = [&](FlowBlock& b) {
      if (b.index >= groups()) return false;
      const std::uint64_t blocks = std::min(kGroupBlocks, blocks_ - b.index * kGroupBlocks);
      b.data.resize(static_cast<std::size_t>((1 + blocks) * kBlock));
      return true;
    };
    flow.work = [&](FlowBlock& b) { fill_group(b.index, b.data); };
    flow.consume.emplace_back([&](const FlowBlock& b) {
      const ContentHash hash = short_sha1(ByteView(b.data).first(kBlock));
      std::copy(hash.begin(), hash.end(), master.begin() + static_cast<std::ptrdiff_t>(b.index * kHashBytes));
      file.write(b.data);
      context.progress.done_bytes += b.data.size() - kBlock;
    });
    run_flow(flow, context);
    if (shared_->any) std::copy(shared_->next.begin(), shared_->next.end(), master.begin() + kFileGroups * kHashBytes);
    file.rewrite(0, master);
    shared_->next = short_sha1(master);
    shared_->any = true;
  }

 private:
  std::uint64_t groups() const { return ceil_div(blocks_, kGroupBlocks); }
  void fill_group(std::uint64_t group, std::span<std::byte> bytes) const {
    const std::uint64_t at = (first_ + group * kGroupBlocks) * kBlock;
    const std::span<std::byte> data = bytes.subspan(kBlock);
    const auto there = static_cast<std::size_t>(std::min<std::uint64_t>(data.size(), game_->size() - at));
    game_->read_at(at, data.first(there));
    std::fill(data.begin() + static_cast<std::ptrdiff_t>(there), data.end(), std::byte{0});
    std::fill(bytes.begin(), bytes.begin() + kBlock, std::byte{0});
    for (std::size_t i = 0; i * kBlock < data.size(); ++i) {
      const ContentHash hash = short_sha1(data.subspan(i * kBlock, kBlock));
      std::copy(hash.begin(), hash.end(), bytes.begin() + static_cast<std::ptrdiff_t>(i * kHashBytes));
    }
  }

  SourcePtr game_;
  std::uint64_t first_, blocks_;
  std::shared_ptr<Shared> shared_;
};

class HeaderPacker final : public Packer {
 public:
  HeaderPacker(Bytes header, std::shared_ptr<Shared> shared) : header_(std::move(header)), shared_(std::move(shared)) {}
  std::uint64_t source_bytes() const override { return 0; }
  std::uint64_t most_bytes() const override { return header_.size(); }
  void write(Output& file, JobContext&) const override {
    Bytes header = header_;
    std::copy(shared_->next.begin(), shared_->next.end(), header.begin() + 0x37D);
    const ContentHash id = short_sha1(ByteView(header).subspan(0x344));
    std::copy(id.begin(), id.end(), header.begin() + 0x32C);
    file.write(header);
  }

 private:
  Bytes header_;
  std::shared_ptr<Shared> shared_;
};

}  // namespace

std::vector<PlannedOutput> plan_outputs(NewContainer container) {
  const auto shared = std::make_shared<Shared>();
  const std::uint64_t blocks = ceil_div<std::uint64_t>(container.game->size(), kBlock);
  const std::uint64_t files = std::max<std::uint64_t>(1, ceil_div(blocks, kFileBlocks));
  std::vector<PlannedOutput> outputs;
  std::uint64_t total = 0;
  for (std::uint64_t f = files; f-- > 0;) {
    const std::uint64_t count = std::min(kFileBlocks, blocks - f * kFileBlocks);
    const auto packer = std::make_shared<DataPacker>(container.game, f * kFileBlocks, count, shared);
    total += packer->most_bytes();
    outputs.push_back(
        {container.folder / (container.name + ".data") / fmt::format("Data{:04}", f), {packer}, packer->most_bytes()});
  }
  Bytes& header = container.header;
  for (std::size_t i = 0; i < 3; ++i) header[0x392 + i] = static_cast<std::byte>(blocks >> 8 * i & 255);
  store_be32(header, 0x39D, files);
  for (const std::size_t at : {0x34Cu, 0x3A1u}) {
    store_be32(header, at, total >> 32);
    store_be32(header, at + 4, total);
  }
  const std::uint64_t size = header.size();
  outputs.push_back(
      {container.folder / container.name, {std::make_shared<HeaderPacker>(std::move(header), shared)}, size});
  return outputs;
}

}  // namespace opifex::god
