// Reading, from an empty or an unfinished dump to the finished image.
#include <algorithm>
#include <array>
#include <chrono>
#include <fstream>
#include <mutex>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/check/file_map.hpp"
#include "opifex/core/check/span_hasher.hpp"
#include "opifex/core/dump/dump.hpp"

#include "parts.hpp"

namespace opifex::dump {

using cd::Lba;

namespace {

/// Facts of a state that must be equal for a dump to go on: they decide which bytes are read.
constexpr std::array<const char*, 6> kIdentity = {"medium", "sectors",    "sector-bytes",
                                                  "offset", "subchannel", "decrypted"};

/// Hashes of the whole file and of each track in one pass over what was written.
void hash_data(const SourcePtr& data, const DumpPlan& plan, const std::vector<std::string>& names, DumpResult& result,
               JobContext& context) {
  if (names.empty()) return;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> spans = {{0, data->size()}};
  std::uint64_t at = 0;
  if (plan.medium.kind == MediumKind::cd)
    for (const cd::Track& t : plan.layout.tracks) {
      const std::uint64_t size = static_cast<std::uint64_t>(t.end_lba - t.pregap_lba) * cd::kRawBytes;
      spans.emplace_back(at, at + size);
      result.tracks.push_back({t.number, size / cd::kRawBytes, {}});
      at += size;
    }
  std::vector<std::vector<std::string>> values(names.size(), std::vector<std::string>(spans.size()));
  std::vector<SpanHasher> hashers;
  for (std::size_t n = 0; n < names.size(); ++n) {
    std::vector<HashSpan> wanted;
    for (std::size_t s = 0; s < spans.size(); ++s) wanted.push_back({spans[s].first, spans[s].second, &values[n][s]});
    hashers.emplace_back(names[n], std::move(wanted));
  }
  context.progress.begin("taking hashes", data->size());
  Flow flow;
  flow.next = [&](FlowBlock& block) {
    const std::uint64_t from = block.index * kFlowBlockBytes;
    if (from >= data->size()) return false;
    block.data.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kFlowBlockBytes, data->size() - from)));
    return true;
  };
  flow.work = [&](FlowBlock& block) { data->read_at(block.index * kFlowBlockBytes, block.data); };
  for (SpanHasher& hasher : hashers)
    for (std::size_t lane = 0; lane < hasher.lanes(); ++lane)
      flow.consume.emplace_back(
          [&hasher, lane](const FlowBlock& block) { hasher.update(lane, block.index * kFlowBlockBytes, block.data); });
  flow.consume.emplace_back([&](const FlowBlock& block) { context.progress.done_bytes += block.data.size(); });
  run_flow(flow, context);
  for (std::size_t n = 0; n < names.size(); ++n) {
    result.hashes.push_back({names[n], values[n][0]});
    for (std::size_t t = 0; t < result.tracks.size(); ++t)
      result.tracks[t].hashes.push_back({names[n], values[n][t + 1]});
  }
}

DumpVerdict verdict_of(const SectorMap& map) {
  if (map.count_if(is_lost) > 0) return DumpVerdict::damaged;
  return map.count(SectorState::audio_unsure) > 0 ? DumpVerdict::unsure : DumpVerdict::intact;
}

/// Tells two dumps of one disc apart: the time in ns since 1970.
std::string begun_now() {
  return std::to_string(std::chrono::system_clock::now().time_since_epoch() / std::chrono::nanoseconds(1));
}

/// Runs of sectors that follow each other, of whatever kind: "0-4500 16000-18000".
std::string places_of(const std::vector<Region>& regions) {
  std::string places;
  for (std::size_t i = 0; i < regions.size(); ++i) {
    if (i == 0 || regions[i - 1].end != regions[i].first)
      places += fmt::format("{}{}", places.empty() ? "" : " ", regions[i].first);
    if (i + 1 == regions.size() || regions[i + 1].first != regions[i].end) places += fmt::format("-{}", regions[i].end);
  }
  return places;
}

/// The last two sectors of a data track written at once are link blocks; only if exactly these fail.
std::set<Lba> link_blocks(const DumpPlan& plan) {
  constexpr Lba kLinks = 2;
  std::set<Lba> links;
  if (!plan.medium.recordable || plan.medium.kind != MediumKind::cd) return links;
  for (const cd::Track& t : plan.layout.tracks)
    if (!t.mode.is_audio())
      for (Lba lba = t.end_lba - kLinks; lba < t.end_lba; ++lba) links.insert(lba);
  return links;
}

}  // namespace

SectorMapFile Dump::fresh_state() const {
  SectorMapFile state;
  state.map = SectorMap(plan_.regions.front().first, plan_.regions.back().end);
  for (std::size_t i = 1; i < plan_.regions.size(); ++i)
    state.map.set(plan_.regions[i - 1].end, plan_.regions[i].first, SectorState::outside);
  const auto fact = [&](const char* name, std::string value) { state.facts.emplace_back(name, std::move(value)); };
  fact("medium", plan_.medium.fingerprint);
  fact("sectors", places_of(plan_.regions));
  fact("sector-bytes", std::to_string(plan_.sector_bytes()));
  fact("offset", std::to_string(request_.offset.value_or(0)));
  fact("subchannel", request_.subchannel ? "yes" : "no");
  fact("decrypted", plan_.decrypts ? "yes" : "no");
  fact("begun", begun_now());
  fact("source", plan_.source);
  fact("drive", plan_.medium.reader);
  fact("disc", plan_.medium.name);
  fact("title", plan_.medium.identity.title);
  fact("serial", plan_.medium.identity.serial);
  return state;
}

std::optional<SectorMapFile> Dump::saved_state() const {
  const auto path = WorkingFiles::beside(plan_.lead).state;
  std::error_code ignored;
  if (request_.restart || !std::filesystem::exists(path, ignored)) return std::nullopt;
  const SourcePtr file = open_file(path);
  const Bytes text = read_up_to(*file, 0, kMaxSectorMapBytes);
  return parse_sector_map(as_text(text), path.string());
}

void Dump::refuse_other(const SectorMapFile& saved) const {
  const SectorMapFile fresh = fresh_state();
  for (const char* name : kIdentity) {
    if (saved.fact(name) == fresh.fact(name)) continue;
    const bool disc = std::string_view(name) == "medium";
    throw Error({.fault = Fault::needs_word,
                 .code = "other_dump",
                 .what = disc ? "an unfinished dump of another disc is there"
                              : fmt::format("the unfinished dump was begun with another {}", name),
                 .file = WorkingFiles::beside(plan_.lead).state.string(),
                 .found = disc ? fmt::format("{} {}", saved.fact("title"), saved.fact("serial")) : saved.fact(name),
                 .expected = disc ? fmt::format("{} {}", plan_.medium.identity.title, plan_.medium.identity.serial)
                                  : fresh.fact(name),
                 .hint = "put that disc in to go on, give another name with <out>, or throw it away with <restart>"});
  }
}

/// A state is believed as far as the data bear it out: its checksum only says that nobody cut it.
void Dump::distrust_state(const DumpStore& store, SectorMap& map) const {
  std::error_code ignored;
  const std::uint64_t there = std::filesystem::file_size(store.files().data, ignored);
  const std::size_t size = plan_.sector_bytes();
  Bytes sectors(kFlowBlockBytes / size * size);
  for (const Region& region : plan_.regions) {
    for (const StateRange& range : map.ranges()) {
      const Lba first = std::max(range.first, region.first), end = std::min(range.end, region.end);
      if (first >= end || range.state == SectorState::untried) continue;
      const bool music = range.state == SectorState::audio_confirmed || range.state == SectorState::audio_unsure;
      const bool data = range.state == SectorState::good || range.state == SectorState::retried ||
                        range.state == SectorState::repaired || range.state == SectorState::combined;
      // Gaps may have been judged otherwise by another drive: then they are read again.
      const bool fits = region.kind == RegionKind::audio ? !data : !music;
      if (!fits || range.state == SectorState::outside) {
        map.set(first, end, SectorState::untried);
        continue;
      }
      for (Lba at = first; at < end;) {
        const auto n =
            static_cast<Lba>(std::min<std::uint64_t>(sectors.size() / size, static_cast<std::uint64_t>(end - at)));
        // A state that claims more than the file holds: the file is right.
        if (store.offset_of(at) + static_cast<std::uint64_t>(n) * size > there) {
          for (Lba lba = at; lba < end; ++lba)
            if (store.offset_of(lba) + size > there) map.set(lba, lba + 1, SectorState::untried);
          break;
        }
        if (region.kind == RegionKind::data && data) {
          store.read(at, std::span(sectors).first(static_cast<std::size_t>(n) * size));
          for (Lba lba = at; lba < at + n; ++lba) {
            const auto s = ByteView(sectors).subspan(static_cast<std::size_t>(lba - at) * size, size);
            if (soundness(region, lba, cd::SectorView(s)) == Soundness::bad)
              map.set(lba, lba + 1, SectorState::untried);
          }
        }
        at += n;
      }
    }
  }
}

/// Sectors that both sides know: is it really the same disc, in a drive that reads alike?
void Dump::compare_samples(const DumpStore& store, SectorMap& map, Strategy& strategy) {
  const auto refuse = [&](std::string what, std::optional<Lba> lba) {
    Error error({.fault = Fault::needs_word,
                 .code = "other_dump",
                 .what = std::move(what),
                 .file = store.files().data.string(),
                 .hint = "give another name with <out>, or throw it away with <restart>"});
    if (lba) error.details.offset = store.offset_of(*lba);
    throw error;
  };
  // Music tells another offset, data another disc: each kind has to fit.
  for (const bool music : {false, true}) {
    std::vector<StateRange> known;
    for (const StateRange& r : map.ranges())
      if (music ? r.state == SectorState::audio_confirmed
                : r.state == SectorState::good || r.state == SectorState::retried)
        known.push_back(r);
    std::size_t same = 0, different = 0;
    std::optional<Lba> first_different;
    constexpr std::size_t kLooks = 8;
    for (std::size_t i = 0; i < kLooks && !known.empty(); ++i) {
      const StateRange& range = known[i * known.size() / kLooks];
      const auto lba = static_cast<Lba>(range.first + std::int64_t{range.end - range.first} * static_cast<Lba>(i + 1) /
                                                          static_cast<Lba>(kLooks + 1));
      const auto fits = compare_sample(store, lba, strategy);
      if (!fits) continue;
      (*fits ? same : different) += 1;
      if (!*fits && !first_different) first_different = lba;
    }
    if (different > 0 && different >= same)
      refuse(
          "the unfinished dump holds other data than this disc: it is another one, or the drive has another read "
          "offset",
          first_different);
    // Nothing of it tells its place: then it is read again.
    if (music && same == 0)
      for (const StateRange& range : known) map.set(range.first, range.end, SectorState::untried);
  }
  compare_edges(store, map, strategy);
}

/// Discs with the same music may differ in the pauses, and an offset takes samples at a region's edge from its
/// neighbours. Where the edge is another one, all of the region is read again.
void Dump::compare_edges(const DumpStore& store, SectorMap& map, Strategy& strategy) {
  constexpr Lba kEdge = 4;  // sectors: more than any offset
  for (const Region& region : plan_.regions) {
    if (region.kind != RegionKind::audio) continue;
    bool alike = true;
    for (Lba lba = region.first; lba < region.end && alike; ++lba) {
      if (lba == region.first + kEdge) lba = std::max(lba, region.end - kEdge);
      if (map.at(lba) == SectorState::audio_confirmed)
        alike = reads_alike(store, region, lba, 1, strategy).value_or(true);
    }
    if (!alike) map.set(region.first, region.end, SectorState::untried);
  }
}

/// Nothing if the sector cannot be read, or would be the same on many discs.
std::optional<bool> Dump::compare_sample(const DumpStore& store, Lba lba, Strategy& strategy) {
  const auto region = std::find_if(plan_.regions.begin(), plan_.regions.end(),
                                   [&](const Region& r) { return lba >= r.first && lba < r.end; });
  if (region == plan_.regions.end()) return std::nullopt;
  // Music that repeats itself would fit another offset as well.
  const bool music = region->kind == RegionKind::audio;
  const std::uint32_t count = music ? 3 : 1;
  if (lba + static_cast<Lba>(count) > region->end) return std::nullopt;
  Bytes then(count * plan_.sector_bytes());
  store.read(lba, then);
  const bool flat = std::adjacent_find(then.begin(), then.end(), std::not_equal_to<>()) == then.end();
  if (music ? !tells_its_place(then) : flat) return std::nullopt;
  return reads_alike(store, *region, lba, static_cast<Lba>(count), strategy);
}

/// Nothing if they cannot be read.
std::optional<bool> Dump::reads_alike(const DumpStore& store, const Region& region, Lba lba, Lba n,
                                      Strategy& strategy) {
  const auto count = static_cast<std::uint32_t>(n);
  Bytes now(count * plan_.sector_bytes()), then(now.size());
  store.read(lba, then);
  // A single wrong byte of music is no other disc. The stream of a drive that jitters is not joined here: it would fit
  // whatever its offset is; after some seeks it lies where it should.
  const int tries = parts_->reader->jitters() ? 8 : 3;
  for (int i = 0; i < tries; ++i) {
    if (i > 0) strategy.read_elsewhere(lba);
    if (parts_->reader->read(region, lba, count, now, nullptr).delivered != count) return std::nullopt;
    Bytes raw = now;
    if (parts_->key) decrypt_ps3(*plan_.ps3, *parts_->key, static_cast<std::uint64_t>(lba), now);
    if (now != then) continue;
    raw.resize(plan_.sector_bytes());
    strategy.add_witness(lba, std::move(raw));
    return true;
  }
  return false;
}

/// Until the dump is over, nothing is believed of a disc that may have been changed.
void Dump::guard_medium(Strategy& strategy) {
  Drive& drive = *parts_->drive;
  drive.lock_tray(true);
  drive.on_change([&drive, &strategy, fingerprint = plan_.medium.fingerprint] {
    if (fingerprint_of(drive) == fingerprint) return strategy.confirm_medium();
    throw Error({.fault = Fault::device,
                 .code = "medium_changed",
                 .what = "another disc lies in the drive",
                 .file = drive.transport().name(),
                 .hint = "put the first disc back and run the command again: the dump goes on where it stopped"});
  });
}

StrategyOptions Dump::strategy_options() const {
  StrategyOptions options;
  options.passes = request_.passes;
  options.give_up_after_ms = request_.give_up_after_ms;
  options.save_every_ms = request_.save_every_ms;
  options.link_blocks = link_blocks(plan_);
  if (plan_.decrypts)
    options.transform = [this](Lba lba, std::span<std::byte> sectors) {
      decrypt_ps3(*plan_.ps3, *parts_->key, static_cast<std::uint64_t>(lba), sectors);
    };
  return options;
}

namespace {

std::uint64_t sectors_tried(const SectorMap& map) {
  return map.count_if([](SectorState s) { return s != SectorState::untried && s != SectorState::outside; });
}

}  // namespace

/// What ended the reading, with what is kept of it.
[[noreturn]] void Dump::stopped(const Error& e, const SectorMap& map, const WorkingFiles& files) const {
  ErrorDetails details = e.details;
  if (details.file.empty()) details.file = plan_.source;
  if (details.fault == Fault::interrupted) details.what = "the dump was stopped";
  if (details.fault == Fault::interrupted || details.fault == Fault::device)
    details.hint = fmt::format("{:.1f} % is read and kept in {}; the same command goes on from there",
                               100.0 * static_cast<double>(sectors_tried(map)) /
                                   static_cast<double>(std::max<std::uint64_t>(1, plan_.sectors())),
                               files.data.string());
  throw Error(std::move(details));
}

/// Before the first sector: what is there already, what the drive was seen to have read, which disc it is.
void Dump::prepare(Strategy& strategy, const DumpStore& store, SectorMap& map, bool resumed) {
  for (const auto& [lba, sector] : plan_.medium.seen) strategy.add_witness(lba, sector);
  if (resumed) compare_samples(store, map, strategy);
  if (!parts_->drive) return;
  parts_->drive->stop_recording();
  for (const auto& [lba, count] : parts_->drive->read_so_far())
    strategy.suppose_read(lba, count + BufferModel::kReadAhead);
  guard_medium(strategy);
}

DumpResult Dump::run(JobContext& context) {
  check_plan();
  const auto start = std::chrono::steady_clock::now();
  const WorkingFiles files = WorkingFiles::beside(plan_.lead);
  auto saved = saved_state();
  const bool resumed = saved.has_value();
  SectorMapFile state = resumed ? std::move(*saved) : fresh_state();
  DumpStore store(files, plan_.regions, plan_.sector_bytes(), request_.subchannel);
  std::error_code ignored;
  if (!resumed) {
    std::filesystem::resize_file(files.data, 0, ignored);
    if (request_.subchannel) std::filesystem::resize_file(files.subchannel, 0, ignored);
  } else {
    distrust_state(store, state.map);
  }
  context.progress.begin("reading", plan_.sectors() * plan_.sector_bytes());
  context.progress.done_bytes = sectors_tried(state.map) * plan_.sector_bytes();
  store.save(state);
  Strategy* running = nullptr;
  const auto save = [&] {
    if (running)
      for (const auto& [lba, bytes] : running->suspect_bytes()) state.suspect_bytes[lba] = bytes;
    store.save(state);
  };
  Strategy strategy(*parts_->reader, store, state.map, strategy_options(), save, context);
  running = &strategy;
  prepare(strategy, store, state.map, resumed);
  try {
    strategy.run();
  } catch (const Error& e) {
    store.save(state);
    stopped(e, state.map, files);
  }
  DumpResult result = finish(store, std::move(state), strategy.stats(), context);
  if (parts_->drive) parts_->drive->on_change({});
  result.resumed = resumed;
  result.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  return result;
}

/// Where a sector resisted, its neighbours' subchannel may not have come either.
std::uint64_t Dump::read_missing_subchannel(DumpStore& store, JobContext& context) {
  constexpr std::uint32_t kTogether = 64;
  std::uint64_t missing = 0;
  const auto lacks = [&](Lba lba) { return all_zero(store.read_subchannel(lba)); };
  for (const Region& region : plan_.regions)
    for (Lba at = region.first; at < region.end;) {
      context.progress.check_stop();
      if (!lacks(at)) {
        ++at;
        continue;
      }
      Lba end = at + 1;
      while (end < region.end && end - at < static_cast<Lba>(kTogether) && lacks(end)) ++end;
      Extras extras;
      Bytes sectors(static_cast<std::size_t>(end - at) * plan_.sector_bytes());
      const ReadResult r = parts_->reader->read(region, at, static_cast<std::uint32_t>(end - at), sectors, &extras);
      store.write_subchannel(at, extras.subchannel);
      const Lba reached = at + static_cast<Lba>(r.delivered);
      for (Lba lba = at; lba < std::min(end, reached + 1); ++lba) missing += lacks(lba) ? 1u : 0u;
      at = std::min(end, reached + 1);
    }
  return missing;
}

/// The mode of a track whose first looks failed is known now; what stands for its lost sectors says so, too.
void Dump::correct_modes(DumpStore& store, const SectorMap& map) {
  for (cd::Track& track : plan_.layout.tracks) {
    if (track.mode.is_audio()) continue;
    const int supposed = track.mode.kind == cd::TrackMode::Kind::mode1 ? 1 : 2;
    std::array<std::uint64_t, 3> seen{};
    constexpr std::uint64_t kEnough = 64;
    cd::Sector s;
    for (Lba lba = track.start_lba; lba < track.end_lba && seen[1] + seen[2] < kEnough; ++lba) {
      if (is_lost(map.at(lba))) continue;
      store.read(lba, s);
      if (const int mode = cd::header_mode(s).value_or(0); mode == 1 || mode == 2)
        ++seen[static_cast<std::size_t>(mode)];
    }
    const int mode = seen[2] > seen[1] ? 2 : 1;
    if (seen[1] + seen[2] == 0 || mode == supposed) continue;
    track.mode.kind = mode == 2 ? cd::TrackMode::Kind::mode2 : cd::TrackMode::Kind::mode1;
    for (Lba lba = track.start_lba; lba < track.end_lba; ++lba) {
      const SectorState state = map.at(lba);
      if (state != SectorState::unreadable && state != SectorState::hang && state != SectorState::runout) continue;
      store.read(lba, s);
      cd::put_header(s, lba, mode);
      store.write(lba, s);
    }
  }
}

/// Which files the lost sectors belong to, as far as the file system is not damaged itself.
void Dump::find_files_hit(const Image& image, const SectorMap& map, DumpResult& result) const {
  if (map.count_if(is_lost) == 0) return;
  try {
    const FileMap files(image);
    result.files_known = files.complete();
    std::vector<DiscRange> lost;
    for (const StateRange& r : map.ranges())
      if (is_lost(r.state)) lost.push_back({r.first, r.end});
    result.suffered = files.suffered(lost);
    std::set<std::string> hit;
    for (const FileHit& file : result.suffered) hit.insert(file.path);
    result.hit_files = {hit.begin(), hit.end()};
  } catch (const Error& e) {
    if (e.details.fault != Fault::refused) throw;
  }
}

/// A table of contents that promises more than the disc has.
void Dump::cut_to(Lba ended, DumpStore& store, SectorMap& map, DumpResult& result) {
  result.warnings.push_back(
      {"toc_too_long", fmt::format("the disc ends at sector {}, not at {} as it claims: {} "
                                   "sectors fewer",
                                   ended, plan_.regions.back().end, plan_.regions.back().end - ended)});
  store.cut(ended);
  plan_.regions = store.regions();
  if (plan_.regions.empty())
    throw Error({.fault = Fault::device,
                 .code = "read_failed",
                 .cause = Cause::unreadable,
                 .what = "nothing of the disc can be read",
                 .file = plan_.source});
  if (plan_.medium.kind == MediumKind::cd) cut_layout(plan_.layout, ended);
  SectorMap shorter(map.first(), ended);
  for (const StateRange& r : map.ranges()) shorter.set(r.first, r.end, r.state);
  map = std::move(shorter);
}

/// What of the subchannel did not come with its sectors, and the indexes it tells.
void Dump::complete_subchannel(DumpStore& store, DumpResult& result, JobContext& context) {
  result.subchannel_missing = read_missing_subchannel(store, context);
  if (result.subchannel_missing > 0)
    result.warnings.push_back({"subchannel_missing", fmt::format("the subchannel of {} could not be read",
                                                                 plural(result.subchannel_missing, "sector"))});
  const SourcePtr sub = open_file(store.files().subchannel);
  add_indexes(plan_.layout, [&](Lba lba) {
    cd::Subchannel block;
    sub->read_at(store.offset_of(lba) / cd::kRawBytes * cd::kSubchannelBytes, block);
    return block;
  });
}

/// What the drive could not do.
void Dump::warn_of_drive(const DumpStats& stats, DumpResult& result) const {
  const auto* cd_reader = dynamic_cast<const CdReader*>(parts_->reader.get());
  if (cd_reader && cd_reader->unreachable_samples() > 0) {
    result.unreachable_samples = cd_reader->unreachable_samples();
    result.warnings.push_back(
        {"offset_out_of_reach",
         fmt::format("{} samples at the disc's edge are out of this drive's reach: silence stands "
                     "in their place",
                     result.unreachable_samples)});
  }
  if (stats.in_buffer > 0)
    result.warnings.push_back(
        {"only_from_buffer",
         fmt::format("{} could not be shown to come from the disc a second time, and not from the drive's buffer: "
                     "the disc is hardly larger, or the drive tells too little of it",
                     plural(stats.in_buffer, "sector"))});
}

/// The conversion of what was read into the image. What only the data showed to be lost is told with the rest.
Conversion Dump::plan_image(const Image& image, const ConvertRequest& request, JobContext& context) {
  Conversion conversion = plan_conversion(image, request, context);
  refuse_losses(conversion, image, *plan_.format);
  for (const Loss& loss : conversion.losses)
    if (std::none_of(plan_.losses.begin(), plan_.losses.end(), [&](const Loss& l) { return l.kind == loss.kind; }))
      plan_.losses.push_back(loss);
  return conversion;
}

/// One bin of all sectors, or an ISO of all blocks, is what lies there already: it only needs its name.
WriteJob Dump::write_job(const WritePlan& plan, const WorkingFiles& files, std::uint64_t data_bytes) const {
  const bool is_cd = plan_.medium.kind == MediumKind::cd;
  WriteJob job;
  job.existing = request_.existing;
  job.target = plan_.target;
  job.inputs = request_.inputs;
  const PlannedOutput& first = plan.outputs.front();
  const bool same =
      first.size_bytes == data_bytes && plan_.format->stored == (is_cd ? Stored::sectors : Stored::blocks);
  if (same) job.finished[first.path] = files.data;
  if (request_.subchannel && is_cd) {
    const auto target = std::filesystem::path(plan_.lead).replace_extension(".sub");
    job.adopted[target] = files.subchannel;
  }
  return job;
}

DumpResult Dump::finish(DumpStore& store, SectorMapFile state, DumpStats stats, JobContext& context) {
  DumpResult result;
  result.warnings = plan_.medium.warnings;
  const bool is_cd = plan_.medium.kind == MediumKind::cd;
  if (const auto ended = stats.ended_at; ended && *ended < plan_.regions.back().end)
    cut_to(*ended, store, state.map, result);
  store.cut(plan_.regions.back().end);  // holes at the end are in the file too
  if (is_cd) correct_modes(store, state.map);
  if (is_cd && request_.subchannel) complete_subchannel(store, result, context);
  warn_of_drive(stats, result);
  const SourcePtr data = open_file(store.files().data);
  hash_data(data, plan_, request_.hashes, result, context);
  const Image image = image_of(data);
  find_files_hit(image, state.map, result);
  const ConvertRequest request{plan_.format, plan_.lead, {}, request_.accepted};
  const Conversion conversion = plan_image(image, request, context);

  WriteJob job = write_job(conversion.plan, store.files(), data->size());
  const bool changed = std::any_of(conversion.losses.begin(), conversion.losses.end(),
                                   [](const Loss& l) { return is_content_loss(l.kind); });
  const bool can_prove = !changed || can_be_compared(image, *plan_.format, conversion.losses);
  const Inspect how = can_prove && request_.prove ? Inspect::prove : changed ? Inspect::readable : Inspect::layout;
  job.inspect = inspection_of(image, request, conversion.plan, how, result.proof, context);
  if (request_.prove && !can_prove)
    result.warnings.push_back({"not_proved", "the proof is left out: with accepted losses disc and image differ"});
  result.verdict = verdict_of(state.map);
  // What was asked for and did not come is not intact.
  if (result.subchannel_missing > 0) result.verdict = std::max(result.verdict, DumpVerdict::unsure);
  if (result.verdict != DumpVerdict::intact) job.texts[plan_.map] = print(state);
  for (WrittenFile& file : write_outputs(image, conversion.plan, job, context))
    result.outputs.push_back(std::move(file));
  store.remove();
  result.map = std::move(state);
  result.stats = std::move(stats);
  return result;
}

}  // namespace opifex::dump
