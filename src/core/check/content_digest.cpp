#include "opifex/core/check/content_digest.hpp"

#include <algorithm>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/rom/rom.hpp"
#include "opifex/core/image/image.hpp"

namespace opifex {
namespace {

constexpr const char* kDigest = "sha256";

struct SectorBlock {
  cd::Lba lba = 0;
  std::uint32_t sectors = 0;
};

/// Every sector of every track, in order.
std::vector<SectorBlock> blocks_of(const CdImage& disc) {
  constexpr std::int32_t kAtOnce = kFlowBlockBytes / cd::kRawBytes;
  const cd::Lba first = disc.extents().empty() ? 0 : disc.extents().front().lba;
  std::vector<SectorBlock> blocks;
  for (const cd::Track& t : disc.layout().tracks)
    for (cd::Lba at = std::max(std::min<cd::Lba>(0, first), t.pregap_lba); at < t.end_lba;) {
      const auto n = static_cast<std::uint32_t>(std::min(kAtOnce, t.end_lba - at));
      blocks.push_back({at, n});
      at += static_cast<cd::Lba>(n);
    }
  return blocks;
}

std::string layout_text(const cd::Layout& layout) {
  std::string text;
  for (const cd::Track& t : layout.tracks) {
    // What a format calls the mode of data differs with how it stores them; the sectors tell it.
    const char* mode = t.mode.is_audio() ? "audio" : "data";
    text += fmt::format("{} {} {} {} {} {}\n", t.number, mode, t.session, t.pregap_lba, t.start_lba, t.end_lba);
  }
  return text;
}

ContentDigest of_cd(const CdImage& disc, JobContext& context) {
  const std::vector<SectorBlock> blocks = blocks_of(disc);
  Digest digest(kDigest);
  digest.update(as_view(layout_text(disc.layout())));
  ContentDigest result{.kind = "cd"};
  for (const SectorBlock& b : blocks) result.bytes += std::uint64_t{b.sectors} * cd::kRawBytes;
  context.progress.begin("hashing the content", result.bytes);
  Flow flow;
  flow.next = [&](FlowBlock& b) {
    if (b.index >= blocks.size()) return false;
    b.data.resize(blocks[b.index].sectors * cd::kRawBytes);
    return true;
  };
  flow.work = [&](FlowBlock& b) { disc.read(SectorForm::raw, blocks[b.index].lba, blocks[b.index].sectors, b.data); };
  flow.consume.emplace_back([&](const FlowBlock& b) {
    digest.update(b.data);
    context.progress.done_bytes += b.data.size();
  });
  run_flow(flow, context);
  result.sha256 = digest.finish();
  return result;
}

/// All bytes of a source through the digests, each in a lane of its own.
void hash_bytes(const ByteSource& source, std::vector<Digest>& digests, JobContext& context) {
  context.progress.begin("hashing", source.size());
  Flow flow;
  flow.next = [&](FlowBlock& b) {
    const std::uint64_t at = b.index * kFlowBlockBytes;
    if (at >= source.size()) return false;
    b.data.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kFlowBlockBytes, source.size() - at)));
    return true;
  };
  flow.work = [&](FlowBlock& b) { source.read_at(b.index * kFlowBlockBytes, b.data); };
  for (Digest& digest : digests) flow.consume.emplace_back([&digest](const FlowBlock& b) { digest.update(b.data); });
  flow.consume.emplace_back([&](const FlowBlock& b) { context.progress.done_bytes += b.data.size(); });
  run_flow(flow, context);
}

ContentDigest of_bytes(const ByteSource& source, JobContext& context) {
  std::vector<Digest> digests;
  digests.emplace_back(kDigest);
  hash_bytes(source, digests, context);
  return {"blocks", source.size(), digests.front().finish()};
}

ContentDigest of_rom(const RomContent& content) {
  const rom::Machine* machine = rom::find_machine(content.system);
  const rom::Container container = rom::container_of(*content.bytes, machine);
  const Bytes bytes = rom::read_rom(*content.bytes, container);
  const ByteView alone = rom::rom_alone(rom::examine(machine, container, bytes), bytes);
  return {"cartridge", alone.size(), digest_of(kDigest, alone)};
}

}  // namespace

ContentDigest digest_content(const Image& image, JobContext& context) {
  if (image.blocks()) return of_bytes(*image.stored_blocks(), context);
  if (image.cd()) return of_cd(*image.cd(), context);
  if (const auto* rom = std::get_if<RomContent>(&image.content)) return of_rom(*rom);
  if (const auto* blocks = std::get_if<BlockContent>(&image.content)) return of_bytes(*blocks->bytes, context);
  return {};
}

std::vector<NamedHash> hash_file(const std::string& path, const std::vector<std::string>& names, JobContext& context) {
  return hash_source(*open_file(path), names, context);
}

std::vector<NamedHash> hash_source(const ByteSource& source, const std::vector<std::string>& names,
                                   JobContext& context) {
  std::vector<Digest> digests;
  for (const std::string& name : names) digests.emplace_back(name);
  hash_bytes(source, digests, context);
  std::vector<NamedHash> hashes;
  for (std::size_t i = 0; i < names.size(); ++i) hashes.push_back({names[i], digests[i].finish()});
  return hashes;
}

}  // namespace opifex
