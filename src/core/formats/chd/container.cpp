// A CHD as a container: its header's facts, its codecs' shares, and the proof of every hunk.
#include "container.hpp"

#include <algorithm>
#include <map>
#include <mutex>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"

#include "decoder.hpp"

namespace opifex::chd {
namespace {

std::string sha1_text(const std::optional<Sha1>& sha1) { return sha1 ? hex(*sha1) : ""; }

void add_share(std::vector<ContainerShare>& shares, const std::string& codec, std::uint64_t hunks, const Hunk& kind) {
  auto at = std::find_if(shares.begin(), shares.end(), [&](const ContainerShare& s) { return s.codec == codec; });
  if (at == shares.end()) at = shares.insert(at, {codec, 0, 0});
  at->hunks += hunks;
  at->bytes += kind.kind <= HunkKind::stored ? hunks * kind.length : 0;
}

class ChdContainer final : public Container {
 public:
  ChdContainer(std::shared_ptr<const Chd> file, Contents contents, CdImagePtr cd)
      : chd_(std::move(file)), contents_(std::move(contents)), cd_(std::move(cd)) {}

  Origin origin() const { return {chd_, contents_.kind}; }

  std::vector<ContainerFact> facts() const override {
    const Header& h = chd_->header();
    std::vector<ContainerFact> facts = {{"version", "CHD", fmt::format("version {}, {}", h.version, kind_text()),
                                         static_cast<std::uint64_t>(h.version)},
                                        {"kind", "", std::string(to_string(contents_.kind))},
                                        {"logical_bytes", "Holds", bytes_text(h.logical_bytes), h.logical_bytes},
                                        {"hunk_bytes", "", fmt::format("{}", h.hunk_bytes), h.hunk_bytes},
                                        {"unit_bytes", "", fmt::format("{}", h.unit_bytes), h.unit_bytes}};
    std::string codecs;
    for (const std::string& c : h.codecs)
      if (!c.empty()) codecs += (codecs.empty() ? "" : ", ") + c;
    facts.push_back({"codecs", "Codecs", codecs.empty() ? "none" : codecs});
    const double ratio = 100.0 * static_cast<double>(chd_->file_bytes()) / static_cast<double>(h.logical_bytes);
    facts.push_back({"ratio", "Ratio", fmt::format("{:.1f} %", ratio)});
    facts.push_back({"file_bytes", "", "", chd_->file_bytes()});
    facts.push_back({"raw_sha1", "Raw SHA-1", sha1_text(h.raw_sha1)});
    facts.push_back({"sha1", "SHA-1", sha1_text(h.sha1)});
    facts.push_back({"md5", "MD5", h.md5});
    facts.push_back({"parent_sha1", "Parent", sha1_text(h.parent_sha1)});
    if (chd_->parent()) facts.push_back({"parent", "", chd_->parent()->name()});
    return facts;
  }

  std::vector<ContainerShare> shares() const override {
    std::vector<ContainerShare> shares;  // in the order they are met
    std::map<HunkKind, std::size_t> known;
    chd_->hunks().each_run([&](std::uint32_t, std::uint32_t count, const Hunk& h, std::uint32_t) {
      const auto [at, fresh] = known.try_emplace(h.kind, shares.size());
      if (fresh) {
        const std::string name = chd_->kind_name(h);  // two slots may hold one codec
        const auto named =
            std::find_if(shares.begin(), shares.end(), [&](const ContainerShare& s) { return s.codec == name; });
        at->second = static_cast<std::size_t>(named - shares.begin());
        if (named == shares.end()) shares.push_back({name, 0, 0});
      }
      ContainerShare& share = shares[at->second];
      share.hunks += count;
      share.bytes += h.kind <= HunkKind::stored ? std::uint64_t{count} * h.length : 0;
    });
    return shares;
  }

  std::vector<ContainerStretch> along(std::size_t most) const override {
    const std::uint64_t bytes = chd_->header().hunk_bytes, whole = chd_->header().logical_bytes;
    const std::uint64_t hunks = ceil_div(whole, bytes);
    if (hunks == 0 || most == 0) return {};
    const std::uint64_t each = ceil_div(hunks, most);
    std::vector<ContainerStretch> stretches(ceil_div(hunks, each));
    for (std::size_t i = 0; i < stretches.size(); ++i)
      stretches[i] = {i * each * bytes, std::min(whole, (i + 1) * each * bytes), {}};
    chd_->hunks().each_run([&](std::uint32_t first, std::uint32_t count, const Hunk& h, std::uint32_t) {
      const std::string name = chd_->kind_name(h);
      for (std::uint64_t at = first, end = std::uint64_t{first} + count; at < end;) {
        const std::uint64_t stop = std::min(end, (at / each + 1) * each);
        add_share(stretches[at / each].shares, name, stop - at, h);
        at = stop;
      }
    });
    return stretches;
  }

  std::vector<ContainerTag> tags() const override {
    std::vector<ContainerTag> tags;
    for (const Tag& t : chd_->tags()) {
      const std::string text = t.text();
      const bool readable = is_utf8(text) && std::none_of(text.begin(), text.end(),
                                                          [](char c) { return static_cast<unsigned char>(c) < 9; });
      tags.push_back({printable(t.name), t.flags, t.offset, t.data.size(), readable ? text : ""});
    }
    return tags;
  }

  bool hashes_nothing() const override {
    const Header& h = chd_->header();
    bool any_crc = false;
    chd_->hunks().each_run(
        [&](std::uint32_t, std::uint32_t, const Hunk& hunk, std::uint32_t) { any_crc = any_crc || hunk.crc_known; });
    return !h.raw_sha1 && h.md5.empty() && !any_crc;
  }

  bool decodes_blocks() const override { return !cd_; }
  void watch() const override { chd_->watch(); }
  std::optional<std::vector<ContainerProblem>> seen() const override {
    const Header& h = chd_->header();
    const auto found = chd_->watched_hash();
    const bool has_none = !h.raw_sha1 && h.md5.empty();
    if (!found && !has_none) return std::nullopt;
    return h.raw_sha1 ? compare(*found, "") : compare("", found.value_or(""));
  }

  std::vector<ContainerProblem> verify(JobContext& context, DecodedSectors* sectors) const override {
    const Header& h = chd_->header();
    Digest sha1("sha1"), md5("md5");
    BadHunks bad;
    const auto batch = std::max<std::uint64_t>(1, kFlowBlockBytes / 4 / h.hunk_bytes);  // stays in the nearer caches
    context.progress.begin("checking the container", h.logical_bytes);
    FlowOf<Sectors> flow;
    flow.next = [&](Block& block) {
      const std::uint64_t first = block.index * batch;
      if (first >= h.hunk_count) return false;
      block.data.resize(static_cast<std::size_t>(std::min<std::uint64_t>(batch, h.hunk_count - first) * h.hunk_bytes));
      return true;
    };
    flow.work = [&](Block& block) { decode(block, block.index * batch, sectors, bad); };
    const auto bytes_of = [&](const Block& block) {
      const std::uint64_t at = block.index * batch * h.hunk_bytes;
      return ByteView(block.data)
          .first(static_cast<std::size_t>(std::min<std::uint64_t>(block.data.size(), h.logical_bytes - at)));
    };
    flow.consume.emplace_back([&](Block& block) {
      sha1.update(bytes_of(block));
      if (!h.md5.empty()) md5.update(bytes_of(block));
      context.progress.done_bytes += bytes_of(block).size();
    });
    for (std::size_t lane = 0; sectors && lane < sectors->lanes(); ++lane)
      flow.consume.emplace_back([&, lane](Block& block) {
        for (const StoredRun& run : block.carried.stored) sectors->hash(lane, run);
        if (!cd_) sectors->hash_blocks(lane, block.index * batch * h.hunk_bytes, bytes_of(block));
      });
    run_flow(flow, context);
    std::vector<ContainerProblem> problems;
    for (auto& [number, problem] : bad.by_number) problems.push_back(std::move(problem));
    if (!problems.empty()) return problems;
    return compare(sha1.finish(), h.md5.empty() ? "" : md5.finish());
  }

 private:
  /// The hashes of the data against those of the header; an empty MD5 is not known.
  std::vector<ContainerProblem> compare(const std::string& sha1, const std::string& md5) const {
    const Header& h = chd_->header();
    std::vector<ContainerProblem> problems;
    const auto differs = [&](const char* code, const char* what, const std::string& wanted, const std::string& is) {
      if (!wanted.empty() && !is.empty() && wanted != is)
        problems.push_back({code, fmt::format("{} is {}, the header says {}", what, is, wanted)});
    };
    differs("sha1_raw", "the SHA-1 of the data", sha1_text(h.raw_sha1), sha1);
    differs("md5", "the MD5 of the data", h.md5, md5);
    if (h.sha1 && h.raw_sha1)
      differs("sha1_overall", "the overall SHA-1", hex(*h.sha1), hex(chd_->overall_sha1(*h.raw_sha1)));
    return problems;
  }

  /// Sectors of one track in a block of hunks: frames that follow each other.
  struct Run {
    std::size_t track = 0;  // its place in the list
    cd::Lba lba = 0;
    std::size_t begin = 0, frames = 0;  // `begin` in bytes of the block
  };
  struct Sectors {
    std::vector<Run> runs;
    Bytes parity_made;  // a byte for each frame of the block
    Bytes bytes;        // what is hashed: stored sectors, one behind the other, music little-endian
    std::vector<StoredRun> stored;

    std::span<std::byte> parity_of(std::size_t begin, std::size_t size) {
      return parity_made.empty() ? std::span<std::byte>{}
                                 : std::span(parity_made).subspan(begin / kFrameBytes, size / kFrameBytes);
    }
  };

  using Block = FlowOf<Sectors>::Block;
  struct BadHunks {
    std::mutex mutex;
    std::map<std::uint64_t, ContainerProblem> by_number;
  };

  /// The hunks of a block, the first of them `number`; what of them are sectors is judged, and laid out for hashing.
  void decode(Block& block, std::uint64_t number, DecodedSectors* sectors, BadHunks& bad) const {
    const std::uint32_t each = chd_->header().hunk_bytes;
    Sectors& out = block.carried;
    out.runs.clear();
    out.parity_made.assign(sectors && cd_ ? block.data.size() / kFrameBytes : 0, std::byte{0});
    for (std::size_t begin = 0; begin < block.data.size(); begin += each, ++number) {
      const auto hunk = std::span(block.data).subspan(begin, each);
      try {
        chd_->read_hunk(number, hunk, out.parity_of(begin, hunk.size()));
      } catch (const Error& e) {
        if (e.details.fault == Fault::device) throw;
        const std::lock_guard lock(bad.mutex);
        bad.by_number[number] = problem_of(number, e);
        continue;
      }
      if (sectors && cd_) add_runs(number * each, begin, hunk.size(), out.runs);
    }
    for (const Run& run : out.runs) sectors->judge(decoded(run, block.data, out.parity_made));
    if (cd_ && sectors && sectors->lanes() > 0) store(block.data, out);
  }

  /// The sectors in a hunk: byte `at` of the frames, `begin` of the block. Runs of the same track grow together.
  void add_runs(std::uint64_t at, std::size_t begin, std::size_t size, std::vector<Run>& runs) const {
    const std::uint64_t first = at / kFrameBytes, end = first + size / kFrameBytes;
    for (std::size_t i = 0; i < contents_.tracks.size(); ++i) {
      const ChdTrack& t = contents_.tracks[i];
      const std::uint64_t from = std::max(first, t.first_frame), to = std::min(end, t.first_frame + t.frames - t.pad);
      if (from >= to) continue;
      const Run run{i, cd_->extents()[i].lba + static_cast<cd::Lba>(from - t.first_frame),
                    begin + static_cast<std::size_t>(from - first) * kFrameBytes, static_cast<std::size_t>(to - from)};
      Run* const last = runs.empty() ? nullptr : &runs.back();
      if (last && last->track == i && last->begin + last->frames * kFrameBytes == run.begin)
        last->frames += run.frames;
      else
        runs.push_back(run);
    }
  }

  DecodedRun decoded(const Run& run, ByteView block, ByteView parity_made) const {
    return {&cd_->extents()[run.track],
            run.lba,
            block.subspan(run.begin, run.frames * kFrameBytes),
            kFrameBytes,
            contents_.tracks[run.track].swapped,
            parity_made.subspan(run.begin / kFrameBytes, run.frames)};
  }

  void store(ByteView block, Sectors& out) const {
    out.bytes.clear();
    out.stored.clear();
    out.bytes.reserve(block.size());  // it never moves: the runs point into it
    for (const Run& run : out.runs) {
      const Extent& e = cd_->extents()[run.track];
      const ChdTrack& t = contents_.tracks[run.track];
      const std::size_t each = stored_bytes(e.form), before = out.bytes.size();
      for (std::size_t f = 0; f < run.frames; ++f) {
        const ByteView frame = block.subspan(run.begin + f * kFrameBytes, each);
        out.bytes.insert(out.bytes.end(), frame.begin(), frame.end());
        if (t.swapped) cd::swap_words(std::span(out.bytes).last(each).first(t.mode.sector_bytes));
      }
      out.stored.push_back({&e, run.lba, ByteView(out.bytes).subspan(before)});
    }
  }

  std::string kind_text() const {
    switch (contents_.kind) {
      case Kind::cd:
        return "CD";
      case Kind::gdrom:
        return "GD-ROM";
      case Kind::dvd:
        return "DVD";
      case Kind::hd:
        return "hard disk";
      case Kind::raw:
        return "plain data";
    }
    return "";
  }

  /// The sectors a damaged hunk hits.
  ContainerProblem problem_of(std::uint64_t number, const Error& e) const {
    ContainerProblem p{e.details.code, e.details.what, e.details.offset, {}, 0};
    const Header& h = chd_->header();
    const std::uint64_t first = number * h.hunk_bytes, end = first + h.hunk_bytes;
    if (!cd_) {
      p.message += fmt::format(": bytes {} to {} of the data", first, std::min(end, h.logical_bytes) - 1);
      p.lba = static_cast<cd::Lba>(first / cd::kUserBytes);
      p.sectors = ceil_div(end, cd::kUserBytes) - first / cd::kUserBytes;
      return p;
    }
    for (std::size_t i = 0; i < contents_.tracks.size(); ++i) {
      const ChdTrack& t = contents_.tracks[i];
      const std::uint64_t from = std::max(first / kFrameBytes, t.first_frame),
                          to = std::min(ceil_div(end, kFrameBytes), t.first_frame + t.frames - t.pad);
      if (from >= to) continue;
      const auto lba = cd_->extents()[i].lba + static_cast<cd::Lba>(from - t.first_frame);
      if (!p.lba) p.lba = lba;
      p.sectors += to - from;
      p.message += fmt::format("{} track {}, {} sectors from LBA {}", i > 0 && p.sectors > to - from ? "," : ":",
                               t.number, to - from, lba);
    }
    return p;
  }

  std::shared_ptr<const Chd> chd_;
  Contents contents_;
  CdImagePtr cd_;
};

}  // namespace

std::shared_ptr<const Container> make_container(std::shared_ptr<const Chd> file, Contents contents, CdImagePtr cd) {
  return std::make_shared<ChdContainer>(std::move(file), std::move(contents), std::move(cd));
}

Origin origin_of(const Image& image) {
  const auto* container = dynamic_cast<const ChdContainer*>(image.container.get());
  return container ? container->origin() : Origin{};
}

}  // namespace opifex::chd
