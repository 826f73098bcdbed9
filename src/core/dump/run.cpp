// Reading, from an empty or an unfinished dump to the finished image.
#include <algorithm>
#include <array>
#include <chrono>
#include <fstream>
#include <mutex>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/check/span_hasher.hpp"
#include "opifex/core/dump/dump.hpp"

#include "parts.hpp"

namespace opifex::dump {

using cd::Lba;

namespace {

/// Facts of a state that must be equal for a dump to go on: they decide which bytes are read.
constexpr std::array<const char*, 5> kIdentity = {"medium", "sector-bytes", "offset", "subchannel", "decrypted"};

/// Hashes of the whole file and of each track in one pass over what was written.
void hash_data(const SourcePtr& data, const DumpPlan& plan, const std::vector<std::string>& names, DumpResult& result,
               Work& work) {
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
  work.progress.begin("taking hashes", data->size());
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
  flow.consume.emplace_back([&](const FlowBlock& block) { work.progress.done_bytes += block.data.size(); });
  run_flow(flow, work);
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
  fact("sector-bytes", std::to_string(plan_.sector_bytes()));
  fact("offset", std::to_string(request_.offset));
  fact("subchannel", request_.subchannel ? "yes" : "no");
  fact("decrypted", plan_.decrypts ? "yes" : "no");
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
                 .hint = "put that disc in to go on, give another name with --out, or throw it away with --restart"});
  }
}

/// Three sectors that both sides know: is it really the same disc, in a drive that reads alike?
void Dump::compare_samples(const DumpStore& store, const SectorMap& map) {
  std::vector<StateRange> good;
  for (const StateRange& r : map.ranges())
    if (r.state == SectorState::good) good.push_back(r);
  constexpr std::size_t kLooks = 3;
  for (std::size_t i = 0; i < std::min(kLooks, good.size()); ++i) {
    const StateRange& range = good[i * good.size() / kLooks];
    const Lba lba = range.first + (range.end - range.first) / 2;
    const auto region = std::find_if(plan_.regions.begin(), plan_.regions.end(),
                                     [&](const Region& r) { return lba >= r.first && lba < r.end; });
    if (region == plan_.regions.end()) continue;
    Bytes now(plan_.sector_bytes()), then(plan_.sector_bytes());
    if (parts_->reader->read(*region, lba, 1, now, nullptr).delivered != 1) continue;  // damage is no proof of a swap
    if (parts_->key) decrypt_ps3(*plan_.ps3, *parts_->key, static_cast<std::uint64_t>(lba), now);
    store.read(lba, then);
    if (now == then) continue;
    throw Error({.fault = Fault::needs_word,
                 .code = "other_dump",
                 .what = "the unfinished dump holds other data than this disc",
                 .file = store.files().data.string(),
                 .offset = store.offset_of(lba),
                 .hint = "give another name with --out, or throw it away with --restart"});
  }
}

DumpResult Dump::run(Work& work) {
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
    // A state that claims more than the file holds: the file is right.
    const std::uint64_t there = std::filesystem::file_size(files.data, ignored);
    for (const StateRange& r : state.map.ranges())
      for (Lba lba = r.first; lba < r.end && store.offset_of(r.end) > there; ++lba)
        if (store.offset_of(lba) + plan_.sector_bytes() > there && r.state != SectorState::outside) {
          state.map.set(lba, r.end, SectorState::untried);
          break;
        }
    compare_samples(store, state.map);
  }
  if (parts_->drive) {
    parts_->drive->lock_tray(true);
    Drive& drive = *parts_->drive;
    parts_->drive->on_change([&drive, fingerprint = plan_.medium.fingerprint] {
      if (fingerprint_of(drive) == fingerprint) return;
      throw Error({.fault = Fault::device,
                   .code = "medium_changed",
                   .what = "another disc lies in the drive",
                   .file = drive.transport().name(),
                   .hint = "put the first disc back and run the command again: the dump goes on where it stopped"});
    });
  }
  StrategyOptions options;
  options.passes = request_.passes;
  options.give_up_after_ms = request_.give_up_after_ms;
  options.save_every_ms = request_.save_every_ms;
  options.link_blocks = link_blocks(plan_);
  if (plan_.decrypts)
    options.transform = [this](Lba lba, std::span<std::byte> sectors) {
      decrypt_ps3(*plan_.ps3, *parts_->key, static_cast<std::uint64_t>(lba), sectors);
    };
  work.progress.begin("reading", plan_.sectors() * plan_.sector_bytes());
  work.progress.done_bytes = state.map.count_if([](SectorState s) {
    return s != SectorState::untried && s != SectorState::outside;
  }) * plan_.sector_bytes();
  store.save(state);
  Strategy* running = nullptr;
  const auto save = [&] {
    if (running)
      for (const auto& [lba, bytes] : running->suspect_bytes()) state.suspect_bytes[lba] = bytes;
    store.save(state);
  };
  Strategy strategy(*parts_->reader, store, state.map, options, save, work);
  running = &strategy;
  try {
    strategy.run();
  } catch (const Error& e) {
    store.save(state);
    const auto read =
        state.map.count_if([](SectorState s) { return s != SectorState::untried && s != SectorState::outside; });
    ErrorDetails details = e.details;
    if (details.file.empty()) details.file = plan_.source;
    if (details.fault == Fault::interrupted) details.what = "the dump was stopped";
    if (details.fault == Fault::interrupted || details.fault == Fault::device)
      details.hint = fmt::format(
          "{:.1f} % is read and kept in {}; the same command goes on from there",
          100.0 * static_cast<double>(read) / static_cast<double>(std::max<std::uint64_t>(1, plan_.sectors())),
          files.data.string());
    throw Error(std::move(details));
  }
  DumpResult result = finish(store, std::move(state), strategy.stats(), work);
  result.resumed = resumed;
  result.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  return result;
}

DumpResult Dump::finish(DumpStore& store, SectorMapFile state, DumpStats stats, Work& work) {
  DumpResult result;
  result.warnings = plan_.medium.warnings;
  const bool is_cd = plan_.medium.kind == MediumKind::cd;
  if (const auto ended = stats.ended_at; ended && *ended < plan_.regions.back().end) {
    result.warnings.push_back(
        {"toc_too_long", fmt::format("the disc ends at sector {}, not at {} as it claims: {} sectors fewer", *ended,
                                     plan_.regions.back().end, plan_.regions.back().end - *ended)});
    store.cut(*ended);
    plan_.regions = store.regions();
    if (plan_.regions.empty())
      throw Error({.fault = Fault::device,
                   .code = "read_failed",
                   .what = "nothing of the disc can be read",
                   .file = plan_.source});
    if (is_cd) cut_layout(plan_.layout, *ended);
    SectorMap map(state.map.first(), *ended);
    for (const StateRange& r : state.map.ranges()) map.set(r.first, r.end, r.state);
    state.map = std::move(map);
  }
  store.cut(plan_.regions.back().end);  // holes at the end are in the file too
  const WorkingFiles& files = store.files();
  if (is_cd && request_.subchannel) {
    const SourcePtr sub = open_file(files.subchannel);
    add_indexes(plan_.layout, [&](Lba lba) {
      cd::Subchannel block;
      sub->read_at(store.offset_of(lba) / cd::kRawBytes * cd::kSubchannelBytes, block);
      return block;
    });
  }
  const auto* cd_reader = dynamic_cast<const CdReader*>(parts_->reader.get());
  if (cd_reader && cd_reader->unreachable_samples() > 0) {
    result.unreachable_samples = cd_reader->unreachable_samples();
    result.warnings.push_back(
        {"offset_out_of_reach",
         fmt::format("{} samples at the disc's edge are out of this drive's reach: silence stands "
                     "in their place",
                     result.unreachable_samples)});
  }
  if (request_.subchannel && cd_reader && !cd_reader->has_subchannel())
    result.warnings.push_back({"no_subchannel", "this drive does not return the subchannel: the .sub file is empty"});

  const SourcePtr data = open_file(files.data);
  hash_data(data, plan_, request_.hashes, result, work);
  const Image image = image_of(data);
  const ConvertRequest request{plan_.format, plan_.lead, {}, request_.accepted};
  const Conversion conversion = plan_conversion(image, request, work);
  refuse_losses(conversion, image, *plan_.format);
  for (const Loss& loss : conversion.losses)
    if (std::none_of(plan_.losses.begin(), plan_.losses.end(), [&](const Loss& l) { return l.kind == loss.kind; }))
      plan_.losses.push_back(loss);

  WriteJob job;
  job.existing = request_.existing;
  job.target = plan_.target;
  // One bin of all sectors, or an ISO of all blocks, is what lies there already: it only needs its name.
  const PlannedOutput& first = conversion.plan.outputs.front();
  const bool same = first.size_bytes == data->size() && (is_cd ? plan_.format->id == "cue" : plan_.format->id == "iso");
  if (same) job.finished[first.path] = files.data;
  if (request_.subchannel && is_cd) {
    const auto target = std::filesystem::path(plan_.lead).replace_extension(".sub");
    job.adopted[target] = files.subchannel;
  }
  job.inputs = request_.inputs;
  const bool changed = std::any_of(conversion.losses.begin(), conversion.losses.end(),
                                   [](const Loss& l) { return is_content_loss(l.kind); });
  const bool can_prove = !changed || can_be_compared(image, *plan_.format, conversion.losses);
  const Inspect how = can_prove && request_.prove ? Inspect::prove : changed ? Inspect::readable : Inspect::layout;
  job.inspect = inspection_of(image, request, conversion.plan, how, result.proof, work);
  if (request_.prove && !can_prove)
    result.warnings.push_back({"not_proved", "--prove is left out: with accepted losses disc and image differ"});
  for (WrittenFile& file : write_outputs(image, conversion.plan, job, work)) result.outputs.push_back(std::move(file));
  result.verdict = verdict_of(state.map);
  store.remove();
  result.map = std::move(state);
  result.stats = std::move(stats);
  return result;
}

}  // namespace opifex::dump
