// One pass over all bytes: sectors are judged and hashes of files and tracks are taken from the same blocks.
#include "opifex/core/check/check.hpp"

#include <algorithm>
#include <iterator>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/check/file_map.hpp"
#include "opifex/core/check/span_hasher.hpp"
#include "opifex/core/check/wii_tree.hpp"
#include "opifex/core/formats/rom/rom.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/platforms/unrecognised.hpp"
#include "opifex/core/volumes/file_system.hpp"
#include "opifex/core/volumes/volume.hpp"

#include "other_forms.hpp"
#include "rom_judge.hpp"
#include "sector_judge.hpp"
#include "stream.hpp"
#include "track_findings.hpp"

namespace opifex {
namespace {

using cd::Lba;

class Checker {
 public:
  Checker(const Image& image, const CheckOptions& options, JobContext& context)
      : image_(image), options_(options), context_(context) {}

  CheckResult run() {
    if (const auto* rom = std::get_if<RomContent>(&image_.content)) return check_cartridge(*rom);
    const std::optional<Error> no_tree = open_tree();
    const Stream stream = make_stream(image_, tree_ ? &*tree_ : nullptr);
    prepare(stream);
    // A damaged container does not hide what else is wrong.
    const bool sound = beside() ? see_container() : read_all(stream);
    if (no_tree && sound) throw Error(*no_tree);
    if (sound && image_.cd() && !beside()) judge_tracks();
    name_files();
    if (tree_) judge_tree();
    if (tree_ && sound) take_tree();
    judge_structure();
    from_warnings();
    set_verdict();
    result_.bytes_read = stream.size_bytes;
    return std::move(result_);
  }

 private:
  /// A cartridge is small: read once, and judged where it is.
  CheckResult check_cartridge(const RomContent& content) {
    context_.progress.check_stop();
    const rom::Machine* machine = rom::find_machine(content.system);
    const rom::Container container = rom::container_of(*content.bytes, machine);
    Bytes bytes = rom::read_file(*content.bytes);
    result_.bytes_read = bytes.size();
    if (!beside())
      for (const ImageFile& file : image_.files)
        result_.files.push_back({file.path, file.size_bytes, hashes_of(bytes)});
    if (!container.is_plain() && container.header_bytes != rom::kNesHeaderBytes)
      bytes = rom::unpacked(bytes, container);
    const auto facts = std::make_shared<rom::Examined>(rom::examine(machine, container, bytes));
    result_.rom_facts = facts;
    if (!beside()) {
      const bool same = container.is_plain() && result_.files.size() == 1;
      const ByteView alone = rom::rom_alone(*facts, bytes);
      result_.rom = {image_.path, alone.size(), same ? result_.files.front().hashes : hashes_of(alone)};
      add_byte_orders(*facts, alone);
    }
    from_warnings();
    RomJudgement judged = judge_rom(*facts);
    std::move(judged.findings.begin(), judged.findings.end(), std::back_inserter(result_.findings));
    result_.verdict = std::max(result_.verdict, judged.verdict);
    set_verdict();
    return std::move(result_);
  }

  /// As other dump programs have it; the file's own order is there already.
  void add_byte_orders(const rom::Examined& facts, ByteView alone) {
    using rom::ByteOrder;
    const bool wanted = options_.wants_whole && options_.wants_whole(alone.size());
    if (!wanted || !facts.machine || !facts.machine->has_byte_orders() || alone.size() % 4 != 0) return;
    for (const ByteOrder order : {ByteOrder::swapped, ByteOrder::little})
      if (order != facts.container.order)
        result_.others.push_back({0,
                                  fmt::format("the ROM in {} byte order", to_string(order)),
                                  {image_.path, alone.size(), hashes_of(rom::packed(alone, {.order = order}, {}))}});
  }

  std::vector<NamedHash> hashes_of(ByteView bytes) const {
    std::vector<NamedHash> hashes;
    for (const std::string& name : options_.hashes) hashes.push_back({name, digest_of(name, bytes)});
    return hashes;
  }

  /// The partitions of a Wii disc. What their tables cannot be read for, a damaged container tells as a whole.
  std::optional<Error> open_tree() {
    try {
      if (image_.blocks() && is_wii_disc(*image_.blocks())) tree_.emplace(image_.stored_blocks(), image_.keys.get());
    } catch (const Error& e) {
      if (e.details.fault != Fault::refused || !image_.container) throw;
      tree_.reset();
      return e;
    }
    return std::nullopt;
  }

  void prepare(const Stream& stream) {
    for (const ImageFile& file : image_.files) result_.files.push_back({file.path, file.size_bytes, empty_hashes()});
    if (holds_disc(image_)) result_.disc = {image_.path, image_.stored_blocks()->size(), empty_hashes()};
    if (!image_.cd()) return;
    for (const cd::Track& t : image_.cd()->layout().tracks) {
      TrackCheck check{.number = t.number, .mode = t.mode, .hashes = {}};
      for (const Extent& e : image_.cd()->extents()) {
        if (e.track != t.number) continue;
        check.sectors += e.sectors;
        check.size_bytes += e.size_bytes();
      }
      const auto ranges = stream.tracks.find(t.number);
      // A track torn in two by a partial sector has no hash worth giving.
      if (ranges != stream.tracks.end() && ranges->second.size() == 1) check.hashes = empty_hashes();
      result_.tracks.push_back(std::move(check));
    }
    prepare_whole(stream);
  }

  /// The tracks as one bin, if they lie one behind the other in the stream, and are not one file anyway.
  void prepare_whole(const Stream& stream) {
    if (!options_.wants_whole || stream.tracks.empty()) return;
    std::uint64_t begin = 0, end = 0;
    for (const auto& [number, ranges] : stream.tracks) {
      if (ranges.size() != 1 || (end != 0 && ranges.front().first != end)) return;
      if (end == 0) begin = ranges.front().first;
      end = ranges.front().second;
    }
    const bool is_file = std::any_of(stream.files.begin(), stream.files.end(),
                                     [&](const auto& f) { return f == std::pair(begin, end); });
    if (is_file || !options_.wants_whole(end - begin)) return;
    whole_ = {begin, end};
    result_.whole = {image_.path, end - begin, empty_hashes()};
  }

  std::vector<NamedHash> empty_hashes() const {
    std::vector<NamedHash> hashes;
    for (const std::string& name : options_.hashes) hashes.push_back({name, {}});
    return hashes;
  }

  std::vector<SpanHasher> make_hashers(const Stream& stream) {
    std::vector<SpanHasher> hashers;
    for (std::size_t h = 0; h < options_.hashes.size(); ++h) {
      std::vector<HashSpan> spans;
      for (std::size_t f = 0; f < image_.files.size(); ++f)
        if (!image_.files[f].missing)
          spans.push_back({stream.files[f].first, stream.files[f].second, &result_.files[f].hashes[h].value});
      if (result_.disc) spans.push_back({stream.disc.first, stream.disc.second, &result_.disc->hashes[h].value});
      if (result_.whole) spans.push_back({whole_.first, whole_.second, &result_.whole->hashes[h].value});
      for (TrackCheck& track : result_.tracks) {
        if (track.hashes.empty()) continue;
        const auto& range = stream.tracks.at(track.number).front();
        spans.push_back({range.first, range.second, &track.hashes[h].value});
      }
      hashers.emplace_back(options_.hashes[h], std::move(spans));
    }
    return hashers;
  }

  bool beside() const { return options_.depth == CheckDepth::beside_a_job; }

  /// What another job's reading has shown; where that shows nothing, the container is verified now.
  bool see_container() {
    if (!image_.container) return true;
    const auto seen = image_.container->seen();
    const auto problems = seen ? *seen : image_.container->verify(context_, nullptr);
    if (!problems.empty()) container_is_damaged(problems);
    return problems.empty();
  }

  /// Clusters that are not on the way of the stream: those of a disc in a container that decodes.
  void judge_tree() {
    const bool on_the_way = !beside() && !(image_.container && image_.container->decodes_blocks());
    if (on_the_way) return;
    struct Piece {
      std::uint64_t at, size;
    };
    std::vector<Piece> pieces;
    for (const ByteRange& run : tree_->cluster_runs())
      for (std::uint64_t at = run.first; at < run.end; at += kFlowBlockBytes)
        pieces.push_back({at, std::min<std::uint64_t>(kFlowBlockBytes, run.end - at)});
    const SourcePtr disc = image_.stored_blocks();
    Flow flow;
    flow.next = [&](FlowBlock& b) {
      if (b.index >= pieces.size()) return false;
      b.data.resize(static_cast<std::size_t>(pieces[b.index].size));
      return true;
    };
    flow.work = [&](FlowBlock& b) {
      const Piece& piece = pieces[b.index];
      if (disc->next_data(piece.at) >= piece.at + piece.size) return tree_->judge_hole(piece.at, piece.size);
      disc->read_at(piece.at, b.data);
      tree_->judge(piece.at, b.data);
    };
    run_flow(flow, context_);
  }

  /// False if the container is damaged: its sectors cannot be looked at, and the result says so already.
  bool read_all(const Stream& stream) {
    std::vector<SpanHasher> hashers = make_hashers(stream);
    read_blocks(stream, hashers);
    if (!image_.container) result_.others = others_.finish();
    if (!image_.container) return true;
    // Sectors out of a container come by as it is verified.
    Watcher watcher(stream, hashers, others_, judge_.get());
    const bool passes_on = image_.cd() || image_.container->decodes_blocks();
    const auto problems = image_.container->verify(context_, passes_on ? &watcher : nullptr);
    if (!problems.empty()) container_is_damaged(problems);
    if (problems.empty()) result_.others = others_.finish();
    return problems.empty();
  }

  /// Passes the sectors of a container on.
  class Watcher final : public DecodedSectors {
   public:
    Watcher(const Stream& stream, std::vector<SpanHasher>& hashers, OtherForms& others, SectorJudge* judge)
        : judge_(judge), others_(others), disc_at_(stream.disc.first) {
      for (const StreamRun& s : stream.stretches)
        if (s.decoded) places_[s.extent] = s.at;
      for (SpanHasher& hasher : hashers)
        for (std::size_t lane = 0; lane < hasher.lanes(); ++lane) lanes_.emplace_back(&hasher, lane);
    }
    void judge(const DecodedRun& run) override { judge_->judge(run); }
    std::size_t lanes() const override { return lanes_.size() + others_.lanes(); }
    void hash(std::size_t lane, const StoredRun& run) override {
      if (lane >= lanes_.size()) return others_.sectors(lane - lanes_.size(), *run.extent, run.lba, run.sectors);
      const auto before = static_cast<std::uint64_t>(run.lba - run.extent->lba) * stored_bytes(run.extent->form);
      lanes_[lane].first->update(lanes_[lane].second, places_.at(run.extent) + before, run.sectors);
    }

    void hash_blocks(std::size_t lane, std::uint64_t at, ByteView bytes) override {
      if (lane >= lanes_.size()) return others_.blocks(lane - lanes_.size(), at, bytes);
      lanes_[lane].first->update(lanes_[lane].second, disc_at_ + at, bytes);
    }

   private:
    SectorJudge* judge_;
    OtherForms& others_;
    std::uint64_t disc_at_;                          // of a disc of blocks, in the stream
    std::map<const Extent*, std::uint64_t> places_;  // in the stream
    std::vector<std::pair<SpanHasher*, std::size_t>> lanes_;
  };

  void read_blocks(const Stream& stream, std::vector<SpanHasher>& hashers) {
    context_.progress.begin("checking", stream.size_bytes);
    std::vector<StreamRun> blocks;
    for (const StreamRun& s : stream.stretches) {
      if (s.decoded && image_.container) continue;
      // The container reads all of it again when it is verified: once is enough if nobody hashes it.
      if (image_.container && hashers.empty() && !s.clusters) continue;
      const std::size_t each = s.extent ? stored_bytes(s.extent->form) : s.clusters ? kWiiClusterBytes : 1;
      const std::uint64_t step = kFlowBlockBytes / each * each;
      for (std::uint64_t done = 0; done < s.size_bytes; done += step) {
        StreamRun block = s;
        block.hole = !s.extent && is_hole(s, done, std::min(step, s.size_bytes - done));
        block.at += done;
        block.offset += done;
        block.lba += static_cast<Lba>(done / each);
        block.size_bytes = std::min(step, s.size_bytes - done);
        blocks.push_back(block);
      }
    }
    Flow flow;
    flow.next = [&](FlowBlock& b) {
      if (b.index >= blocks.size()) return false;
      // A hole is made only for those who hash it.
      b.data.resize(blocks[b.index].hole && hashers.empty() ? 0 : blocks[b.index].size_bytes);
      return true;
    };
    flow.work = [&](FlowBlock& b) { read_and_judge(blocks[b.index], b.data); };
    for (SpanHasher& hasher : hashers)
      for (std::size_t lane = 0; lane < hasher.lanes(); ++lane)
        flow.consume.emplace_back(
            [&hasher, &blocks, lane](const FlowBlock& b) { hasher.update(lane, blocks[b.index].at, b.data); });
    for (std::size_t lane = 0; lane < others_.lanes(); ++lane)
      flow.consume.emplace_back(
          [this, &stream, &blocks, lane](const FlowBlock& b) { pass_on(lane, stream, blocks[b.index], b.data); });
    flow.consume.emplace_back([&](const FlowBlock& b) { context_.progress.done_bytes += blocks[b.index].size_bytes; });
    run_flow(flow, context_);
  }

  void pass_on(std::size_t lane, const Stream& stream, const StreamRun& block, ByteView data) {
    if (block.extent) return others_.sectors(lane, *block.extent, block.lba, data);
    const auto [begin, end] = image_.container || stream.files.empty() ? stream.disc : stream.files.front();
    if (!image_.cd() && block.at >= begin && block.at < end) others_.blocks(lane, block.at - begin, data);
  }

  static bool is_hole(const StreamRun& s, std::uint64_t done, std::uint64_t size) {
    return s.source->next_data(s.offset + done) >= s.offset + done + size;
  }

  void read_and_judge(const StreamRun& block, Bytes& data) {
    if (block.hole) {
      std::fill(data.begin(), data.end(), std::byte{0});
      if (block.clusters) tree_->judge_hole(block.offset, block.size_bytes);
      return;
    }
    if (block.decoded) {
      const auto sectors = static_cast<std::uint32_t>(data.size() / stored_bytes(block.extent->form));
      image_.cd()->read(SectorForm::stored, block.lba, sectors, data);
    } else {
      block.source->read_at(block.offset, data);
    }
    if (block.extent) judge_->judge({block.extent, block.lba, data, stored_bytes(block.extent->form)});
    if (block.clusters) tree_->judge(block.offset, data);
  }

  void take_tree() {
    WiiTree::Result tree = tree_->result();
    result_.verdict = std::max(result_.verdict, tree.verdict);
    result_.findings.insert(result_.findings.end(), tree.findings.begin(), tree.findings.end());
    if (tree.verified > 0)
      find("hashes_verified", Severity::note,
           fmt::format("{} clusters of {} were verified by their hashes", grouped(tree.verified),
                       human_size(kWiiClusterBytes)),
           tree.verified);
  }

  /// The file systems, whole: tables that loop, lie outside or contradict each other, files that are not there.
  /// With the sectors that can be repaired as they would be: what they say of the directories is no damage of its own.
  Image mended() const {
    const bool any =
        std::any_of(result_.tracks.begin(), result_.tracks.end(), [](const TrackCheck& t) { return t.repairable > 0; });
    try {
      return any ? repaired_view(image_, result_) : image_;
    } catch (const Error& e) {
      if (e.details.cause != Cause::nothing_to_repair) throw;
      return image_;
    }
  }

  void judge_structure() {
    if (options_.volumes) {
      for (const Volume& volume : *options_.volumes) judge_volume(volume);
      return;
    }
    std::vector<Volume> volumes;
    try {
      volumes = read_volumes(mended());
    } catch (const Error& e) {
      if (e.details.fault != Fault::refused) throw;
      if (e.details.cause == Cause::no_key) return;  // nobody can look
      find(e.details.code.empty() ? "bad_volume" : e.details.code, Severity::error,
           "the file system cannot be read: " + e.details.what);
      result_.verdict = std::max(result_.verdict, Verdict::damaged);
      judged_ = true;
      return;
    }
    for (const Volume& volume : volumes) judge_volume(volume);
    if (result_.verdict == Verdict::damaged && mends_whole(image_)) result_.verdict = Verdict::repairable;
  }

  void judge_volume(const Volume& volume) {
    if (!volume.unlisted.empty()) {
      unlisted_ = volume.unlisted;
      return;
    }
    judged_ = true;
    bool sound = true;
    const auto fault = [&](std::string code, std::string message, Verdict verdict, std::vector<std::string> files) {
      find(std::move(code), Severity::error, std::move(message));
      result_.findings.back().files = std::move(files);
      result_.verdict = std::max(result_.verdict, verdict);
      sound = false;
    };
    bool cut = false;
    for (const VolumeProblem& p : volume.problems) {
      const bool outside = p.weight == Weight::cut;
      cut = cut || outside;
      // The file can be listed, but which of the two numbers is true nobody knows.
      if (is_damage(p.weight) || p.weight == Weight::doubt)
        fault(p.code, p.message, outside ? Verdict::incomplete : Verdict::damaged, {});
      else
        find(p.code, p.weight == Weight::warning ? Severity::warning : Severity::note, p.message);
    }
    std::vector<std::string> lost;
    for (const VolumeEntry& e : volume.entries)
      if (!e.sound && e.flaw.empty() && e.kind != EntryKind::audio) lost.push_back(e.path);
    if (!lost.empty() && !cut)
      fault(
          "outside_image",
          fmt::format("{} of its files and folders lie outside the image: {}", grouped(lost.size()), files_text(lost)),
          Verdict::incomplete, lost);
    const FileSystem* system = file_system_of(volume);
    const bool tells_size = system && system->tells_size;
    if (sound && !tells_size && !tree_)
      find("tables_fit", Severity::note,
           fmt::format("the tables of its {} files and folders fit together, and every file lies in the image",
                       grouped(volume.entries.size())));
    if (sound && system && system->proves) find("verified", Severity::note, system->proves(volume));
    if (tells_size) judge_size(volume);
  }

  /// What the volume says it has against what is there. Files may all lie in front of the cut.
  void judge_size(const Volume& volume) {
    const auto told = std::any_of(image_.warnings.begin(), image_.warnings.end(),
                                  [](const Warning& w) { return w.cause == Cause::truncated; });
    const std::uint64_t there = volume.disc->size() / cd::kUserBytes;
    const auto wanted = static_cast<std::int64_t>(volume.blocks) + std::max<std::int64_t>(0, volume.shift);
    if (told || wanted <= static_cast<std::int64_t>(there)) return;
    find("volume_truncated", Severity::error,
         fmt::format("the file system has {} sectors, the image only {}: it is cut short", volume.blocks, there));
    result_.verdict = std::max(result_.verdict, Verdict::incomplete);
  }

  /// Damage is easier to judge by the files it hits.
  void name_files() {
    std::optional<FileMap> map;
    for (Finding& f : result_.findings) {
      if (f.severity != Severity::error || !f.lba) continue;
      if (!map) map.emplace(image_);
      f.files = map->hit_by(*f.lba, f.count);
      if (!f.files.empty()) f.message += "; it hits " + files_text(f.files);
    }
  }

  /// What the container's own checksums say.
  void container_is_damaged(const std::vector<ContainerProblem>& problems) {
    container_sound_ = false;
    result_.verdict = Verdict::damaged;
    if (!beside()) result_.tracks.clear();
    for (const ContainerProblem& p : problems) {
      Finding finding{p.code,
                      Severity::error,
                      p.message,
                      image_.path.string(),
                      p.offset,
                      p.lba,
                      std::max<std::uint64_t>(1, p.sectors),
                      p.files};
      if (!p.files.empty()) finding.message += "; it hits " + files_text(p.files);
      result_.findings.push_back(std::move(finding));
    }
  }

  void find(std::string code, Severity severity, std::string message, std::uint64_t count = 1,
            std::optional<Lba> lba = {}) {
    result_.findings.push_back({std::move(code), severity, std::move(message), {}, {}, lba, count});
  }

  void judge_tracks() {
    for (TrackCheck& track : result_.tracks) {
      std::vector<Finding> findings = judge_track(*image_.cd(), judge_->tallies()[track.number], track);
      std::move(findings.begin(), findings.end(), std::back_inserter(result_.findings));
    }
  }

  void from_warnings() {
    if (const auto why = beside() ? std::nullopt : why_unrecognised(image_)) {
      find("unrecognised", Severity::error, *why);
      result_.verdict = std::max(result_.verdict, Verdict::unsupported);
    }
    for (const Warning& w : image_.warnings)
      find(w.code, is_incomplete(w.cause) ? Severity::error : Severity::warning, w.message);
    if (image_.container && image_.container->hashes_nothing()) {
      find("no_checksums", Severity::warning,
           "this container has no checksum of any kind: nobody can tell whether it is what was written");
      result_.verdict = std::max(result_.verdict, Verdict::unsupported);
    }
    if (image_.container && image_.container->hashes_everything() && container_sound_)
      find("hashes_verified", Severity::note, "every block was verified by the container's own hashes");
    else if (!judge_kind())
      return;
    else if (!image_.cd() && !tree_)
      find("no_sector_checks", Severity::note,
           "blocks of 2048 bytes carry no error detection: their size and hashes can be checked, their bytes cannot");
  }

  /// False of content without blocks of a disc. Where nobody here can judge it that is said, and no verdict is given.
  bool judge_kind() {
    const auto* blocks = std::get_if<BlockContent>(&image_.content);
    if (std::holds_alternative<RomContent>(image_.content)) return false;  // it has a judge of its own
    if (!(blocks && !blocks->is_disc())) return true;
    if (!judged_ && image_.complete) {
      find("not_judged", Severity::error,
           fmt::format("{}: nothing in it can be verified, only the hashes of the file are told",
                       unlisted_.empty() ? describe(image_.content) : unlisted_));
      result_.verdict = std::max(result_.verdict, Verdict::unsupported);
    }
    return false;
  }

  void set_verdict() {
    for (const TrackCheck& track : result_.tracks) result_.verdict = std::max(result_.verdict, track.verdict);
    if (!image_.complete) result_.verdict = std::max(result_.verdict, Verdict::incomplete);
    // Verdict and findings never contradict each other.
    const bool error = std::any_of(result_.findings.begin(), result_.findings.end(),
                                   [](const Finding& f) { return f.severity == Severity::error; });
    if (error) result_.verdict = std::max(result_.verdict, Verdict::repairable);
    if (!error && result_.verdict == Verdict::incomplete)
      find("incomplete", Severity::error, "a part of the image is not there");
  }

  const Image& image_;
  const CheckOptions& options_;
  JobContext& context_;
  CheckResult result_;
  std::pair<std::uint64_t, std::uint64_t> whole_;  // in the stream
  bool container_sound_ = true;
  bool judged_ = false;        // a file system was looked at
  std::string unlisted_ = {};  // or why there is none
  OtherForms others_{image_, options_};
  std::optional<WiiTree> tree_;
  std::unique_ptr<SectorJudge> judge_ = image_.cd() ? std::make_unique<SectorJudge>(*image_.cd()) : nullptr;
};

}  // namespace

std::string_view to_string(Verdict verdict) {
  switch (verdict) {
    case Verdict::intact:
      return "intact";
    case Verdict::repairable:
      return "repairable";
    case Verdict::damaged:
      return "damaged";
    case Verdict::incomplete:
      return "incomplete";
    case Verdict::unsupported:
      return "unsupported";
  }
  return "";
}

std::string_view to_string(Severity severity) {
  return severity == Severity::note ? "note" : severity == Severity::warning ? "warning" : "error";
}

CheckResult check_image(const Image& image, const CheckOptions& options, JobContext& context) {
  return Checker(image, options, context).run();
}

}  // namespace opifex
