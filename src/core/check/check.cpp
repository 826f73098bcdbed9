// One pass over all bytes: sectors are judged and hashes of files and tracks are taken from the same blocks.
#include "opifex/core/check/check.hpp"

#include <algorithm>
#include <atomic>
#include <mutex>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/cd/subchannel.hpp"
#include "opifex/core/check/file_map.hpp"
#include "opifex/core/check/span_hasher.hpp"
#include "opifex/core/check/wii_tree.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/volumes/volume.hpp"
#include "opifex/core/volumes/xdvdfs_volume.hpp"

namespace opifex {
namespace {

using cd::Lba;

/// Beyond this many damaged sectors nobody repairs one by one: the image has to be dumped again.
constexpr std::uint64_t kMaxRepairTries = 20'000;

/// A run of bytes of the stream: sectors of an extent, or bytes between them (a header, a partial tail).
struct Stretch {
  std::uint64_t at = 0;  // in the stream
  std::uint64_t size_bytes = 0;
  const ByteSource* source = nullptr;
  std::uint64_t offset = 0;        // in the source
  const Extent* extent = nullptr;  // null: no sectors
  Lba lba = 0;
  bool decoded = false;   // read through the image: audio little-endian
  bool clusters = false;  // whole clusters of a Wii partition; `offset` is that of the disc
  bool hole = false;      // nothing but zeros: not read
};

/// What is read, in order: all files; then tracks whose bytes are not in their files as they are (byte order, audio
/// files).
struct Stream {
  std::vector<Stretch> stretches;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> files;  // begin and end of each, by file
  std::map<int, std::vector<std::pair<std::uint64_t, std::uint64_t>>> tracks;
  std::pair<std::uint64_t, std::uint64_t> disc;  // inside a container
  std::uint64_t size_bytes = 0;

  void add(Stretch s) {
    s.at = size_bytes;
    if (s.size_bytes == 0) return;
    size_bytes += s.size_bytes;
    stretches.push_back(s);
  }
  void add_to_track(int track, std::uint64_t begin, std::uint64_t end) {
    auto& ranges = tracks[track];
    if (!ranges.empty() && ranges.back().second == begin)
      ranges.back().second = end;
    else
      ranges.emplace_back(begin, end);
  }
};

bool lies_as_it_is(const Extent& e, const ImageFile& file) {
  return e.source == file.source && !e.swapped && !e.scrambled;
}

/// Bytes of a disc, cut where clusters that can be verified begin and end.
void add_disc(Stream& stream, const ByteSource& disc, std::uint64_t size, const WiiTree* tree) {
  std::uint64_t done = 0;
  for (const ByteRange& run : tree ? tree->cluster_runs() : std::vector<ByteRange>{}) {
    if (run.first < done) continue;  // partitions that overlap: told already
    stream.add({0, run.first - done, &disc, done});
    Stretch clusters{0, run.end - run.first, &disc, run.first};
    clusters.clusters = true;
    stream.add(clusters);
    done = run.end;
  }
  stream.add({0, size - done, &disc, done});
}

/// The disc in a container that is no plain copy of it.
bool holds_disc(const Image& image) { return image.container && image.blocks && image.format->holds.whole_discs; }

Stream make_stream(const Image& image, const WiiTree* tree) {
  Stream stream;
  std::vector<const Extent*> later;
  for (std::size_t f = 0; f < image.files.size(); ++f) {
    const ImageFile& file = image.files[f];
    const std::uint64_t begin = stream.size_bytes;
    std::uint64_t offset = 0;
    if (image.cd)
      for (const Extent& e : image.cd->extents()) {
        if (e.file != f) continue;
        if (!lies_as_it_is(e, file)) {
          later.push_back(&e);
          continue;
        }
        stream.add({0, e.offset - offset, file.source.get(), offset});
        stream.add_to_track(e.track, stream.size_bytes, stream.size_bytes + e.size_bytes());
        stream.add({0, e.size_bytes(), file.source.get(), e.offset, &e, e.lba});
        offset = e.offset + e.size_bytes();
      }
    const bool is_disc = tree && image.files.size() == 1 && !image.container && offset == 0;
    if (is_disc)
      add_disc(stream, *file.source, file.size_bytes, tree);
    else if (!file.missing)
      stream.add({0, file.size_bytes - offset, file.source.get(), offset});
    stream.files.emplace_back(begin, stream.size_bytes);
  }
  if (holds_disc(image)) {
    const std::uint64_t begin = stream.size_bytes;
    add_disc(stream, *image.blocks, image.blocks->size(), tree);
    stream.disc = {begin, stream.size_bytes};
  }
  for (const Extent* e : later) {
    stream.add_to_track(e->track, stream.size_bytes, stream.size_bytes + e->size_bytes());
    stream.add({0, e->size_bytes(), e->source.get(), e->offset, e, e->lba, true});
  }
  return stream;
}

struct BadSector {
  Lba lba;
  cd::Damage damage;
  unsigned problems;
  bool repairable;
};

/// What the sectors of one track were found to be.
struct Tally {
  std::map<std::string_view, std::uint64_t> kinds;
  std::vector<BadSector> bad, formless;
  std::uint64_t authored = 0, data_in_audio = 0;
  std::uint64_t q_blocks = 0, q_bad = 0, q_elsewhere = 0;
};

void add(Tally& sum, Tally&& part) {
  for (const auto& [kind, n] : part.kinds) sum.kinds[kind] += n;
  sum.bad.insert(sum.bad.end(), part.bad.begin(), part.bad.end());
  sum.formless.insert(sum.formless.end(), part.formless.begin(), part.formless.end());
  sum.authored += part.authored;
  sum.data_in_audio += part.data_in_audio;
  sum.q_blocks += part.q_blocks;
  sum.q_bad += part.q_bad;
  sum.q_elsewhere += part.q_elsewhere;
}

class SectorJudge {
 public:
  explicit SectorJudge(const CdImage& disc) : disc_(disc) {}

  /// `bytes` are whole stored sectors of `e` from `lba` on, as read.
  void judge(const Extent& e, Lba lba, ByteView bytes) {
    const std::size_t size = stored_bytes(e.form);
    const cd::Track& track = *disc_.layout().track(e.track);
    Tally part;
    for (std::size_t i = 0; i * size < bytes.size(); ++i)
      judge_one(e, track, lba + static_cast<Lba>(i), bytes.subspan(i * size, size), part);
    const std::lock_guard lock(mutex_);
    add(tallies_[e.track], std::move(part));
  }

  std::map<int, Tally>& tallies() { return tallies_; }

 private:
  void judge_one(const Extent& e, const cd::Track& track, Lba lba, ByteView stored, Tally& part) {
    if (e.form == StoredForm::mode1_user || e.form == StoredForm::form1_user || e.form == StoredForm::form2_user) {
      ++part.kinds["cooked"];
      return;
    }
    if (e.form == StoredForm::raw_with_pw || e.form == StoredForm::raw_with_q) judge_q(e, lba, stored, part);
    cd::Sector raised;
    if (e.form == StoredForm::mode2) {
      cd::put_header(raised, lba, 2);
      std::copy(stored.begin(), stored.end(), raised.begin() + cd::kSubheaderAt);
      stored = raised;
    } else if (e.swapped || e.scrambled) {
      disc_.read_sector(lba, raised);
      stored = raised;
    }
    const auto sector = cd::SectorView(stored.first(cd::kRawBytes));
    // A data track's pause may begin with sectors of the track before it.
    const bool data = !track.mode.is_audio();
    const bool judged = data && (lba >= track.start_lba || cd::has_sync(sector));
    const cd::SectorReport report = cd::examine(sector, {lba, judged});
    ++part.kinds[report.sync_lost ? std::string_view("no_sync") : cd::to_string(report.kind)];
    if (report.damage == cd::Damage::authored) ++part.authored;
    if (!data) {
      if (report.kind != cd::SectorKind::audio && report.lba == lba) ++part.data_in_audio;
      return;
    }
    if (!judged) return;
    if (report.kind == cd::SectorKind::mode2_formless && !report.bad())
      part.formless.push_back({lba, cd::Damage::damaged, cd::kProblemSubheader, false});
    if (!report.bad()) return;
    cd::Sector copy;
    std::copy(sector.begin(), sector.end(), copy.begin());
    const bool repairable = tries_++ < kMaxRepairTries && cd::repair(copy, {lba, true});
    part.bad.push_back({lba, report.damage, report.problems, repairable});
  }

  void judge_q(const Extent& e, Lba lba, ByteView stored, Tally& part) const {
    cd::QBytes q{};
    if (e.form == StoredForm::raw_with_q) {
      std::copy_n(stored.begin() + cd::kRawBytes, q.size(), q.begin());
      if (q[10] == std::byte{0} && q[11] == std::byte{0}) return;  // this form may leave the checksum out
    } else {
      const auto block = stored.subspan(cd::kRawBytes).first<cd::kSubchannelBytes>();
      if (all_zero(block)) return;
      q = cd::q_of(block, disc_.subchannel().value_or(cd::SubchannelForm::packed));
    }
    ++part.q_blocks;
    const cd::Q read = cd::parse_q(q);
    if (!read.crc_fits)
      ++part.q_bad;
    else if (read.adr == 1 && read.area == cd::QArea::program && read.absolute && cd::lba_of(*read.absolute) != lba)
      ++part.q_elsewhere;
  }

  const CdImage& disc_;
  std::mutex mutex_;
  std::map<int, Tally> tallies_;
  std::atomic<std::uint64_t> tries_{0};
};

std::vector<DamagedRange> ranges_of(std::vector<BadSector>& bad) {
  std::sort(bad.begin(), bad.end(), [](const BadSector& a, const BadSector& b) { return a.lba < b.lba; });
  std::vector<DamagedRange> ranges;
  for (const BadSector& b : bad) {
    DamagedRange* last = ranges.empty() ? nullptr : &ranges.back();
    if (last && last->first + static_cast<Lba>(last->sectors) == b.lba && last->damage == b.damage &&
        last->problems == b.problems && last->repairable == b.repairable)
      ++last->sectors;
    else
      ranges.push_back({b.lba, 1, b.damage, b.problems, b.repairable});
  }
  return ranges;
}

class Checker {
 public:
  Checker(const Image& image, const CheckOptions& options, Work& work)
      : image_(image), options_(options), work_(work) {}

  CheckResult run() {
    if (image_.blocks && is_wii_disc(*image_.blocks)) tree_.emplace(image_.stored_blocks(), image_.keys.get());
    const Stream stream = make_stream(image_, tree_ ? &*tree_ : nullptr);
    prepare(stream);
    if (!read_all(stream)) {
      name_files();
      return std::move(result_);
    }
    if (image_.cd) judge_tracks();
    name_files();
    if (tree_) take_tree();
    if (!tree_) judge_structure();
    from_warnings();
    set_verdict();
    result_.bytes_read = stream.size_bytes;
    return std::move(result_);
  }

 private:
  void prepare(const Stream& stream) {
    for (const ImageFile& file : image_.files) result_.files.push_back({file.path, file.size_bytes, empty_hashes()});
    if (holds_disc(image_)) result_.disc = {image_.path, image_.blocks->size(), empty_hashes()};
    if (!image_.cd) return;
    for (const cd::Track& t : image_.cd->layout().tracks) {
      TrackCheck check{.number = t.number, .mode = t.mode, .hashes = {}};
      for (const Extent& e : image_.cd->extents()) {
        if (e.track != t.number) continue;
        check.sectors += e.sectors;
        check.size_bytes += e.size_bytes();
      }
      const auto ranges = stream.tracks.find(t.number);
      // A track torn in two by a partial sector has no hash worth giving.
      if (ranges != stream.tracks.end() && ranges->second.size() == 1) check.hashes = empty_hashes();
      result_.tracks.push_back(std::move(check));
    }
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
      for (TrackCheck& track : result_.tracks) {
        if (track.hashes.empty()) continue;
        const auto& range = stream.tracks.at(track.number).front();
        spans.push_back({range.first, range.second, &track.hashes[h].value});
      }
      hashers.emplace_back(options_.hashes[h], std::move(spans));
    }
    return hashers;
  }

  /// False if the container is damaged: its sectors cannot be looked at, and the result says so already.
  bool read_all(const Stream& stream) {
    std::vector<SpanHasher> hashers = make_hashers(stream);
    read_blocks(stream, hashers);
    if (!image_.container) return true;
    // Sectors out of a container come by as it is verified.
    Watcher watcher(stream, hashers, judge_.get());
    const auto problems = image_.container->verify(work_, image_.cd ? &watcher : nullptr);
    if (!problems.empty()) container_is_damaged(problems);
    return problems.empty();
  }

  /// Passes the sectors of a container on.
  class Watcher final : public DecodedSectors {
   public:
    Watcher(const Stream& stream, std::vector<SpanHasher>& hashers, SectorJudge* judge) : judge_(judge) {
      for (const Stretch& s : stream.stretches)
        if (s.decoded) places_[s.extent] = s.at;
      for (SpanHasher& hasher : hashers)
        for (std::size_t lane = 0; lane < hasher.lanes(); ++lane) lanes_.emplace_back(&hasher, lane);
    }
    void judge(const DecodedRun& run) override { judge_->judge(*run.extent, run.lba, run.sectors); }
    std::size_t lanes() const override { return lanes_.size(); }
    void hash(std::size_t lane, const DecodedRun& run) override {
      const auto before = static_cast<std::uint64_t>(run.lba - run.extent->lba) * stored_bytes(run.extent->form);
      lanes_[lane].first->update(lanes_[lane].second, places_.at(run.extent) + before, run.sectors);
    }

   private:
    SectorJudge* judge_;
    std::map<const Extent*, std::uint64_t> places_;  // in the stream
    std::vector<std::pair<SpanHasher*, std::size_t>> lanes_;
  };

  void read_blocks(const Stream& stream, std::vector<SpanHasher>& hashers) {
    work_.progress.begin("checking", stream.size_bytes);
    std::vector<Stretch> blocks;
    for (const Stretch& s : stream.stretches) {
      if (s.decoded && image_.container) continue;
      // The container reads all of it again when it is verified: once is enough if nobody hashes it.
      if (image_.container && hashers.empty() && !s.clusters) continue;
      const std::size_t each = s.extent ? stored_bytes(s.extent->form) : s.clusters ? kWiiClusterBytes : 1;
      const std::uint64_t step = kFlowBlockBytes / each * each;
      for (std::uint64_t done = 0; done < s.size_bytes; done += step) {
        Stretch block = s;
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
    flow.consume.emplace_back([&](const FlowBlock& b) { work_.progress.done_bytes += blocks[b.index].size_bytes; });
    run_flow(flow, work_);
  }

  static bool is_hole(const Stretch& s, std::uint64_t done, std::uint64_t size) {
    return s.source->next_data(s.offset + done) >= s.offset + done + size;
  }

  void read_and_judge(const Stretch& block, Bytes& data) {
    if (block.hole) {
      std::fill(data.begin(), data.end(), std::byte{0});
      if (block.clusters) tree_->judge_hole(block.offset, block.size_bytes);
      return;
    }
    if (block.decoded) {
      const auto sectors = static_cast<std::uint32_t>(data.size() / stored_bytes(block.extent->form));
      image_.cd->read(SectorForm::stored, block.lba, sectors, data);
    } else {
      block.source->read_at(block.offset, data);
    }
    if (block.extent) judge_->judge(*block.extent, block.lba, data);
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

  /// Discs without error detection whose tables of files can at least be held against each other.
  void judge_structure() {
    const auto volume = structure();
    if (!volume) return;
    for (const VolumeProblem& p : volume->problems) {
      const Severity severity = p.weight == Weight::damage    ? Severity::error
                                : p.weight == Weight::warning ? Severity::warning
                                                              : Severity::note;
      find(p.code, severity, p.message);
      const bool cut = p.code == "cut_short" || p.code == "outside_image";
      if (severity == Severity::error)
        result_.verdict = std::max(result_.verdict, cut ? Verdict::incomplete : Verdict::damaged);
    }
    if (!volume->damaged())
      find("tables_fit", Severity::note,
           fmt::format("the tables of its {} files and folders fit together, and every file lies in the image",
                       grouped(volume->entries.size())));
  }

  std::optional<Volume> structure() const {
    if (!image_.blocks && !image_.cd && image_.format->id == "stfs") return read_volumes(image_).front();
    if (!image_.blocks) return std::nullopt;
    if (auto game = read_xdvdfs(image_.stored_blocks())) return game;
    return read_gamecube(image_.stored_blocks());
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
    result_.verdict = Verdict::damaged;
    result_.tracks.clear();
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
      Tally& tally = judge_->tallies()[track.number];
      for (const auto& [kind, n] : tally.kinds)
        if (n > 0) track.kinds[std::string(kind)] = n;
      add_lone_formless(tally);
      track.ranges = ranges_of(tally.bad);
      track.bad = tally.bad.size();
      track.authored = tally.authored;
      for (const BadSector& b : tally.bad) track.repairable += b.repairable ? 1u : 0u;
      if (track.bad > 0) track.verdict = track.repairable == track.bad ? Verdict::repairable : Verdict::damaged;
      if (image_.cd->layout().track(track.number)->incomplete) track.verdict = Verdict::incomplete;
      for (const DamagedRange& r : track.ranges) describe(track, r);
      describe_oddities(track, tally);
    }
  }

  /// A track whose sectors are nearly all XA is XA: a formless one among them is damage.
  static void add_lone_formless(Tally& tally) {
    const std::uint64_t xa = tally.kinds["mode2_form1"] + tally.kinds["mode2_form2"];
    constexpr std::uint64_t kFew = 10;
    if (tally.formless.empty() || tally.formless.size() * kFew > xa) return;
    tally.bad.insert(tally.bad.end(), tally.formless.begin(), tally.formless.end());
  }

  void describe(const TrackCheck& track, const DamagedRange& r) {
    const Lba last = r.first + static_cast<Lba>(r.sectors) - 1;
    const std::string place =
        r.sectors == 1
            ? fmt::format("sector {} (LBA {})", cd::to_string(cd::msf_of_lba(r.first)), r.first)
            : fmt::format("{} sectors {} to {} (LBA {} to {})", r.sectors, cd::to_string(cd::msf_of_lba(r.first)),
                          cd::to_string(cd::msf_of_lba(last)), r.first, last);
    const char* outlook = r.repairable                          ? "can be repaired"
                          : r.damage == cd::Damage::missing     ? "were never read: the data is lost"
                          : r.damage == cd::Damage::placeholder ? "hold a dumping tool's filler: the data is lost"
                                                                : "cannot be repaired from this image alone";
    Finding finding{
        r.damage == cd::Damage::none ? "sector_fault" : std::string(cd::to_string(r.damage)),
        Severity::error,
        fmt::format("track {}: {}: wrong {}; {}", track.number, place, cd::problem_names(r.problems), outlook),
        {},
        {},
        r.first,
        r.sectors};
    if (const Extent* e = image_.cd->extent_at(r.first)) {
      finding.file = e->source->name();
      finding.offset = e->offset + static_cast<std::uint64_t>(r.first - e->lba) * stored_bytes(e->form);
    }
    result_.findings.push_back(std::move(finding));
  }

  void describe_oddities(const TrackCheck& track, const Tally& tally) {
    if (tally.authored > 0)
      find("authored", Severity::note,
           fmt::format("track {}: {} sectors were mastered with a wrong EDC on purpose (a copy protection); they are "
                       "kept as they are",
                       track.number, tally.authored),
           tally.authored);
    if (tally.data_in_audio > 0)
      find("data_in_audio", Severity::warning,
           fmt::format("track {} is called audio but {} of its sectors are data", track.number, tally.data_in_audio),
           tally.data_in_audio);
    if (tally.q_bad > 0)
      find("subchannel_crc", Severity::note,
           fmt::format("track {}: {} of {} Q blocks have a wrong checksum; a few in a thousand are usual", track.number,
                       tally.q_bad, tally.q_blocks),
           tally.q_bad);
    if (tally.q_elsewhere > 0)
      find("subchannel_position", Severity::warning,
           fmt::format("track {}: {} Q blocks name another place than their sector's", track.number, tally.q_elsewhere),
           tally.q_elsewhere);
    const auto cooked = track.kinds.find("cooked");
    if (cooked != track.kinds.end() && cooked->second > 0)
      find("no_sector_checks", Severity::note,
           fmt::format(
               "track {} is stored without error detection: its size and hashes can be checked, its bytes cannot",
               track.number),
           cooked->second);
  }

  void from_warnings() {
    constexpr std::array<std::string_view, 3> kIncomplete = {"missing_file", "partial_sector", "volume_truncated"};
    for (const Warning& w : image_.warnings) {
      const bool error = std::find(kIncomplete.begin(), kIncomplete.end(), w.code) != kIncomplete.end();
      find(w.code, error ? Severity::error : Severity::warning, w.message);
    }
    if (image_.container && image_.container->hashes_everything())
      find("hashes_verified", Severity::note, "every block was verified by the container's own hashes");
    else if (!image_.cd && !tree_)
      find("no_sector_checks", Severity::note,
           "blocks of 2048 bytes carry no error detection: their size and hashes can be checked, their bytes cannot");
  }

  void set_verdict() {
    for (const TrackCheck& track : result_.tracks) result_.verdict = std::max(result_.verdict, track.verdict);
    if (!image_.complete) result_.verdict = std::max(result_.verdict, Verdict::incomplete);
  }

  const Image& image_;
  const CheckOptions& options_;
  Work& work_;
  CheckResult result_;
  std::optional<WiiTree> tree_;
  std::unique_ptr<SectorJudge> judge_ = image_.cd ? std::make_unique<SectorJudge>(*image_.cd) : nullptr;
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

CheckResult check_image(const Image& image, const CheckOptions& options, Work& work) {
  return Checker(image, options, work).run();
}

}  // namespace opifex
