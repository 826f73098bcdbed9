#include "opifex/core/check/prove.hpp"

#include <algorithm>
#include <cstring>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/check/compare.hpp"
#include "opifex/core/formats/rom/convert.hpp"
#include "opifex/core/image/shared_settings.hpp"
#include "opifex/core/volumes/volume.hpp"
#include "opifex/core/volumes/xdvdfs/volume.hpp"

namespace opifex {
namespace {

using cd::Lba;

[[noreturn]] void fail(const std::string& file, std::string found, std::string expected) {
  throw Error({.fault = Fault::device,
               .code = "proof_failed",
               .what = "the output does not decode to the input",
               .file = file,
               .found = std::move(found),
               .expected = std::move(expected),
               .hint = "nothing was put in place: check the drive and run the job again"});
}

/// One of the things two layouts have to agree in.
class LayoutProof {
 public:
  LayoutProof(const cd::Layout& source, const cd::Layout& result, const Capabilities& holds, std::string file)
      : source_(source), result_(result), holds_(holds), file_(std::move(file)) {}

  void run() const {
    same("tracks", source_.tracks.size(), result_.tracks.size());
    for (std::size_t i = 0; i < source_.tracks.size(); ++i) track(source_.tracks[i], result_.tracks[i], i == 0);
    if (holds_.sessions) {
      same("sessions", source_.sessions.size(), result_.sessions.size());
      for (std::size_t i = 0; i < source_.sessions.size(); ++i)
        same(fmt::format("the first track of session {}", i + 1), source_.sessions[i].first_track,
             result_.sessions[i].first_track);
    }
    same("the lead-out's LBA", source_.lead_out, result_.lead_out);
    if (holds_.catalogue) same("the catalogue number", source_.catalogue, result_.catalogue);
    if (holds_.cd_text && as_sheets_have(source_.texts) != as_sheets_have(result_.texts))
      fail(file_, "other texts of the disc", "the input's");
  }

  std::string words() const {
    const std::size_t n = source_.tracks.size();
    std::vector<std::string> parts = {"gaps"};
    if (holds_.sessions) parts.emplace_back("sessions");
    if (holds_.marks) parts.emplace_back("indexes and flags");
    if (holds_.catalogue) parts.emplace_back("codes");
    if (holds_.cd_text) parts.emplace_back("texts");
    return fmt::format("{} track{} ({})", n, n == 1 ? "" : "s", fmt::join(parts, ", "));
  }

 private:
  template <typename T>
  void same(const std::string& what, const T& source, const T& result) const {
    if (!(source == result)) fail(file_, fmt::format("{} {}", what, result), fmt::format("{}", source));
  }

  void track(const cd::Track& a, const cd::Track& b, bool first) const {
    const auto named = [&](const char* what) { return fmt::format("{} of track {}", what, a.number); };
    same("track number", a.number, b.number);
    if (kind_of(a.mode) != kind_of(b.mode))
      fail(file_, fmt::format("{} in track {}", cd::to_string(b.mode), a.number), cd::to_string(a.mode));
    same(named("the start"), a.start_lba, b.start_lba);
    same(named("the end"), a.end_lba, b.end_lba);
    if (!first) same(named("the pregap"), a.pregap_lba, b.pregap_lba);
    if (holds_.sessions) same(named("the session"), a.session, b.session);
    if (holds_.catalogue) same(named("the ISRC"), a.isrc, b.isrc);
    if (holds_.cd_text && as_sheets_have(a.texts) != as_sheets_have(b.texts))
      fail(file_, fmt::format("other texts of track {}", a.number), "the input's");
    if (!holds_.marks) return;
    if (marks_of(a) != marks_of(b)) fail(file_, fmt::format("other indexes in track {}", a.number), "the input's");
    same(named("the flags"), a.control(), b.control());
  }

  /// A sheet puts texts in double quotes, and has no way to write one inside.
  static cd::Texts as_sheets_have(cd::Texts texts) {
    for (auto& [key, value] : texts) std::replace(value.begin(), value.end(), '"', '\'');
    return texts;
  }
  /// Sector sizes are the file's matter; whether music, Mode 1 or Mode 2 is the disc's.
  static int kind_of(const cd::TrackMode& mode) {
    using enum cd::TrackMode::Kind;
    return mode.is_audio() ? 0 : mode.kind == mode1 ? 1 : 2;
  }
  /// Index 00 is the pregap, which is compared by itself: it has an index only where it is stored.
  static std::map<int, Lba> marks_of(const cd::Track& t) {
    std::map<int, Lba> marks = t.indexes;
    marks.erase(0);
    return marks;
  }

  const cd::Layout& source_;
  const cd::Layout& result_;
  const Capabilities& holds_;
  std::string file_;
};

/// Sectors that have to be alike, at most a block of them.
struct Compared {
  Lba lba = 0;
  std::uint32_t sectors = 0;
};

/// Every track with its gaps; what lies between sessions and areas is on no track.
std::vector<Compared> track_runs(const cd::Layout& layout, Lba first) {
  std::vector<Compared> runs;
  constexpr std::uint32_t kBatch = kFlowBlockBytes / cd::kRawBytes;
  for (const cd::Track& t : layout.tracks)
    for (Lba at = std::max(first, t.pregap_lba); at < t.end_lba;) {
      const auto n = std::min(kBatch, static_cast<std::uint32_t>(t.end_lba - at));
      runs.push_back({at, n});
      at += static_cast<Lba>(n);
    }
  return runs;
}

/// True if the result keeps the 96 bytes behind the sectors of this extent.
bool keeps_subchannel(const Capabilities& holds, const CdImage& disc, const Extent& e) {
  if (e.form != StoredForm::raw_with_pw) return false;
  const cd::Track* track = disc.layout().track(e.track);
  const bool cdg = track && track->mode.kind == cd::TrackMode::Kind::cdg;
  return holds.any_subchannel || (holds.subchannel && cdg);
}

void compare_subchannel(const Image& source, const Image& result, const Capabilities& holds, JobContext& context) {
  for (const Extent& e : source.cd()->extents()) {
    if (!keeps_subchannel(holds, *source.cd(), e)) continue;
    for (Lba lba = e.lba; lba < e.end(); ++lba) {
      context.progress.check_stop();
      const auto here = source.cd()->subchannel_at(lba), there = result.cd()->subchannel_at(lba);
      if (here && (!there || *here != *there))
        fail(result.path.string(), fmt::format("other subchannel at sector {}", lba), "the input's");
    }
  }
}

/// What is left of a disc's layout in a format of one session or area.
cd::Layout first_session(const cd::Layout& layout) {
  cd::Layout first = layout;
  std::erase_if(first.tracks, [&](const cd::Track& t) {
    return t.session != layout.tracks.front().session || t.area == cd::Area::high_density;
  });
  if (first.tracks.size() == layout.tracks.size() || first.tracks.empty()) return layout;
  first.sessions.resize(std::min<std::size_t>(1, first.sessions.size()));
  first.lead_out = first.tracks.back().end_lba;
  return first;
}

/// As far as `holds` has a place for it.
cd::Layout held_layout(const Image& source, const Capabilities& holds) {
  return holds.sessions || holds.areas ? source.cd()->layout() : first_session(source.cd()->layout());
}

Proof prove_disc(const Image& source, const Image& result, const ProofRequest& request, JobContext& context) {
  const std::string file = result.path.string();
  const cd::Layout held = held_layout(source, request.holds);
  const LayoutProof layout(held, result.cd()->layout(), request.holds, file);
  // Without a list of tracks the borders are lost: a stream of sectors is left, and its length.
  const bool borders = request.holds.track_list || held.tracks.size() == 1;
  if (borders) layout.run();
  if (!borders && result.cd()->layout().lead_out != held.lead_out)
    fail(file, fmt::format("{} sectors", result.cd()->layout().lead_out), fmt::format("{}", held.lead_out));
  const Lba from = source.cd()->extents().front().lba, there = result.cd()->extents().front().lba;
  if (request.holds.first_pregap && there > from)
    fail(file, fmt::format("sectors from LBA {} on", there), fmt::format("from LBA {} on", from));
  const std::vector<Compared> runs = track_runs(held, std::max(from, there));
  std::uint64_t sectors = 0;
  for (const Compared& run : runs) sectors += run.sectors;
  context.progress.begin("proving", sectors * cd::kRawBytes);
  Digest digest("sha1");
  Flow flow;
  flow.next = [&](FlowBlock& block) {
    if (block.index >= runs.size()) return false;
    block.data.resize(runs[block.index].sectors * cd::kRawBytes);
    return true;
  };
  flow.work = [&](FlowBlock& block) {
    Bytes other(block.data.size());
    const Compared& run = runs[block.index];
    source.cd()->read(SectorForm::raw, run.lba, run.sectors, block.data);
    result.cd()->read(SectorForm::raw, run.lba, run.sectors, other);
    if (std::memcmp(block.data.data(), other.data(), other.size()) == 0) return;
    const auto at = std::mismatch(other.begin(), other.end(), block.data.begin()).first - other.begin();
    fail(file, fmt::format("other bytes in sector {}", run.lba + static_cast<Lba>(at / std::ptrdiff_t{cd::kRawBytes})),
         "the input's");
  };
  flow.consume.emplace_back([&](const FlowBlock& block) {
    digest.update(block.data);
    context.progress.done_bytes += block.data.size();
  });
  run_flow(flow, context);
  compare_subchannel(source, result, request.holds, context);
  const bool part = held.tracks.size() < source.cd()->layout().tracks.size();
  return {digest.finish(), fmt::format("{}{}{} sectors of 2352 bytes", part ? "of the first session " : "",
                                       borders ? layout.words() + ", " : "", grouped(sectors))};
}

/// Holes of both sides are not read. Returns the SHA-1 of the bytes.
std::string compare_bytes(const ByteSource& source, const ByteSource& result, std::uint64_t size,
                          const std::string& file, JobContext& context) {
  struct Piece {
    std::uint64_t at = 0, size = 0;
    bool hole = false;
  };
  std::uint64_t next = 0;
  Digest digest("sha1");
  using Block = FlowOf<Piece>::Block;
  FlowOf<Piece> flow;
  flow.next = [&](Block& block) {
    if (next >= size) return false;
    const std::uint64_t data = std::min({source.next_data(next), result.next_data(next), size});
    const bool hole = data >= next + kFlowBlockBytes || (data == size && data > next);
    const std::uint64_t n = hole ? data - next : std::min<std::uint64_t>(kFlowBlockBytes, size - next);
    block.carried = {next, n, hole};
    block.data.resize(hole ? 0 : static_cast<std::size_t>(n));
    next += n;
    return true;
  };
  flow.work = [&](Block& block) {
    const Piece& piece = block.carried;
    if (piece.hole) return;
    Bytes other(block.data.size());
    source.read_at(piece.at, block.data);
    result.read_at(piece.at, other);
    if (std::memcmp(block.data.data(), other.data(), other.size()) == 0) return;
    const auto at = std::mismatch(other.begin(), other.end(), block.data.begin()).first - other.begin();
    fail(file, fmt::format("another byte at {}", grouped(piece.at + static_cast<std::uint64_t>(at))), "the input's");
  };
  flow.consume.emplace_back([&](Block& block) {
    const Piece& piece = block.carried;
    if (piece.hole)
      digest.update_zeros(piece.size);
    else
      digest.update(block.data);
    context.progress.done_bytes += piece.size;
  });
  context.progress.begin("proving", size);
  run_flow(flow, context);
  return digest.finish();
}

/// True if there are only zeros from `offset` on. Holes are not read.
bool zeros_behind(const ByteSource& source, std::uint64_t offset) {
  while ((offset = source.next_data(offset)) < source.size()) {
    const Bytes piece = read_up_to(source, offset, kFlowBlockBytes);
    if (!all_zero(piece)) return false;
    offset += piece.size();
  }
  return true;
}

/// The bytes of the source that a format of blocks has to hold.
SourcePtr held_bytes(const Image& source, const ProofRequest& request) {
  if (source.blocks() && !source.cd()) {
    if (request.holds.game_partition)
      if (const auto place = find_game_partition(*source.blocks())) {
        const auto volume = read_xdvdfs(source.blocks());
        return slice_source(source.blocks(), *place, game_bytes(*volume, *source.blocks(), *place));
      }
    return source.stored_blocks();
  }
  const int number = request.data_track != 0 ? request.data_track : source.main_data_track();
  const cd::Track* track = source.cd()->layout().track(number);
  Lba end = track->start_lba;
  for (const Extent& e : source.cd()->extents())
    if (e.track == number) end = std::max(end, e.end());
  const SourcePtr data = user_data_source(source.cd(), number);
  const std::uint64_t from = static_cast<std::uint64_t>(track->start_lba) * cd::kUserBytes;
  return slice_source(data, from, static_cast<std::uint64_t>(end) * cd::kUserBytes - from);
}

Proof prove_blocks(const Image& source, const Image& result, const ProofRequest& request, JobContext& context) {
  const std::string file = result.path.string();
  const SourcePtr here = held_bytes(source, request);
  const SourcePtr there = result.blocks() ? result.blocks() : result.user_data();
  const std::uint64_t size = here->size();
  if (!there || there->size() < size)
    fail(file, fmt::format("{} bytes", grouped(there ? there->size() : 0)), grouped(size));
  const std::string sha1 = compare_bytes(*here, *there, size, file, context);
  const std::uint64_t block_end = round_up(size, cd::kUserBytes);
  const bool more = there->size() > block_end && !request.holds.whole_discs;
  // A copied container goes on where the source does.
  const bool goes_on = source.blocks() && source.blocks()->size() == there->size();
  if (more || (!zeros_behind(*there, size) && !goes_on))
    fail(file, fmt::format("{} bytes", grouped(there->size())), grouped(size));
  return {sha1, fmt::format("{} bytes of user data{}", grouped(size),
                            there->size() > block_end ? ", zeros behind them" : "")};
}

Proof prove_files(const Image& source, const Image& result, JobContext& context) {
  const Comparison found = compare_images(source, result, context);
  if (!found.same())
    fail(result.path.string(),
         found.differences.empty() ? "other files" : printable(found.differences.front().path + " differs"),
         "the files of the input");
  return {"", fmt::format("{} files, byte by byte", grouped(found.same_files))};
}

}  // namespace

namespace {

/// Read again as whoever opens it will read it, with the container that it shows then: a ROM of an odd size may look as
/// if a copier's header stood in front of it.
Proof prove_rom(const RomContent& source, const Settings& settings, const ByteSource& file) {
  const rom::Converted wanted = rom::convert(source, settings);
  const rom::Container found = rom::container_of(file, wanted.machine);
  if (found.header_bytes != wanted.container.header_bytes || found.interleaved != wanted.container.interleaved ||
      found.order != wanted.container.order)
    throw Error({.code = "not_readable",
                 .what = "a file of this size would be taken for another kind of dump when it is read again",
                 .file = file.name(),
                 .found = fmt::format("{} bytes", file.size()),
                 .hint = "nothing was put in place; pad it to its full size with <pad>"});
  const Bytes there = rom::read_rom(file, found);
  if (there.size() != wanted.rom.size())
    fail(file.name(), fmt::format("{} bytes", grouped(there.size())), grouped(wanted.rom.size()));
  const auto differs = std::mismatch(there.begin(), there.end(), wanted.rom.begin()).first;
  if (differs != there.end())
    fail(file.name(), fmt::format("another byte at {:#x}", differs - there.begin()), "that of the ROM");
  const Bytes before = rom::read_rom(*source.bytes, rom::container_of(*source.bytes, wanted.machine));
  return {digest_of("sha1", there), fmt::format("the {} bytes of the ROM{}", grouped(there.size()),
                                                there.size() < before.size()   ? ", trimmed"
                                                : there.size() > before.size() ? ", padded"
                                                                               : "")};
}

}  // namespace

namespace {

/// Saves by their bytes: a card knows names that bare blocks have not.
Proof prove_saves(const Image& source, const Image& result) {
  const auto contents = [](const Image& image) {
    std::multiset<std::string> all;
    for (const Volume& v : read_volumes(image))
      for (const VolumeEntry& e : v.entries)
        if (e.kind == EntryKind::file) {
          const SourcePtr bytes = v.open(e);
          all.insert(digest_of("sha1", read_up_to(*bytes, 0, static_cast<std::size_t>(bytes->size()))));
        }
    return all;
  };
  const auto here = contents(source), there = contents(result);
  if (here != there) fail(result.path.string(), plural(there.size(), "save"), "the saves of the input, byte by byte");
  Digest all("sha1");
  for (const std::string& one : here) all.update(as_view(one));
  return {all.finish(), plural(here.size(), "save") + ", byte by byte"};
}

}  // namespace

namespace {

Proof prove_floppy(const BlockContent& source, const Image& result, JobContext& context) {
  const auto* there = std::get_if<BlockContent>(&result.content);
  const std::uint64_t size = source.bytes->size();
  if (!there || there->bytes->size() != size) fail(result.path.string(), describe(result.content), bytes_text(size));
  return {compare_bytes(*source.bytes, *there->bytes, size, result.path.string(), context),
          fmt::format("{} bytes of the floppy", grouped(size))};
}

}  // namespace

Proof prove_same(const Image& source, const Image& result, const ProofRequest& request, JobContext& context) {
  if (request.rebuilt) return prove_files(source, result, context);
  const auto *rom = std::get_if<RomContent>(&source.content), *there = std::get_if<RomContent>(&result.content);
  if (rom && there) return prove_rom(*rom, {}, *there->bytes);
  const auto* card = std::get_if<BlockContent>(&source.content);
  if (card && card->medium == BlockMedium::memory_card) return prove_saves(source, result);
  if (card && card->medium == BlockMedium::floppy) return prove_floppy(*card, result, context);
  const bool sectors = source.cd() && result.cd() && !result.blocks();
  return sectors ? prove_disc(source, result, request, context) : prove_blocks(source, result, request, context);
}

namespace {

/// Whoever opens the output has to find every track where the input has it.
void require_layout(const Image& source, const Image& result, const Capabilities& holds) {
  try {
    LayoutProof(held_layout(source, holds), result.cd()->layout(), holds, result.path.string()).run();
  } catch (const Error& e) {
    ErrorDetails d = e.details;
    d.fault = Fault::refused;
    throw Error(std::move(d));  // no device failed: the format has no place for it
  }
}

}  // namespace

Proof prove_copies(const WritePlan& plan, const FileSpace& staged, const std::vector<WrittenFile>& written,
                   JobContext& context) {
  std::vector<SourcePtr> wanted, found;
  for (const PlannedOutput& output : plan.outputs)
    for (const Piece& piece : output.pieces) {
      const auto& run = std::get<SourceRun>(piece);
      wanted.push_back(slice_source(run.source, run.offset, run.size_bytes));
    }
  for (const WrittenFile& file : written) {
    found.push_back(staged.open(file.path));
    if (found.back()->size() == file.size_bytes) continue;
    found = {found.back()};  // a part opens as the whole that it belongs to
    break;
  }
  const std::string name = written.front().path.string();
  const SourcePtr whole = concat_source(std::move(wanted), name), copy = concat_source(std::move(found), name);
  if (copy->size() != whole->size()) fail(name, fmt::format("{} bytes", grouped(copy->size())), grouped(whole->size()));
  return {compare_bytes(*whole, *copy, whole->size(), name, context),
          fmt::format("{} bytes in {} file{}", grouped(whole->size()), written.size(), written.size() == 1 ? "" : "s")};
}

bool can_be_compared(const Image& source, const Format& target, const std::vector<Loss>& losses) {
  if (source.cd() && !source.blocks() && !target.holds.audio && !target.holds.track_list)
    return true;  // user data alone
  return std::all_of(losses.begin(), losses.end(), [&](const Loss& l) {
    const bool borders_only = l.kind == "tracks" && target.holds.audio;
    return !is_content_loss(l.kind) || l.kind == "subchannel" || l.kind == "partitions" || l.kind == "sessions" ||
           borders_only;
  });
}

Inspection inspection_of(const Image& source, const ConvertRequest& request, const WritePlan& plan, Inspect how,
                         Proof& proof, JobContext& context) {
  const bool prove = how == Inspect::prove, same_content = how != Inspect::readable;
  return [&source, &plan, &proof, &context, prove, same_content, request](const FileSpacePtr& staged,
                                                                          const std::vector<WrittenFile>& written) {
    if (plan.copies) {
      if (prove) proof = prove_copies(plan, *staged, written, context);
      return;
    }
    const std::filesystem::path lead = leading_file(plan, written).path;
    if (const auto* rom = std::get_if<RomContent>(&source.content)) {
      Proof found = prove_rom(*rom, request.settings, *staged->open(lead));
      if (prove) proof = std::move(found);
      return;
    }
    OpenOptions options;
    options.files = staged;
    options.keys = source.keys;
    options.needed = plan.needed;
    try {
      const Image result = open_image(lead, options);
      if (!result.complete) fail(lead.string(), "an incomplete image", "all of it");
      if (same_content && source.cd() && result.cd() && !result.blocks())
        require_layout(source, result, request.target->holds);
      if (prove)
        proof = prove_same(source, result,
                           {request.target->holds, static_cast<int>(request.settings.number(kTrack).value_or(0)),
                            request.settings.flag(kRebuild)},
                           context);
    } catch (const Error& e) {
      if (e.details.fault != Fault::refused) throw;
      const bool no_disc = std::any_of(source.warnings.begin(), source.warnings.end(),
                                       [](const Warning& w) { return w.cause == Cause::not_a_disc; });
      if (no_disc && !prove) return;  // plain data in a plain file: there is nothing to recognise
      ErrorDetails d = e.details;
      d.code = "not_readable";
      d.what = fmt::format("{} cannot hold this disc: what was written cannot be opened again ({})", request.target->id,
                           d.what);
      d.hint = "nothing was put in place; another format may hold it";
      throw Error(std::move(d));
    }
  };
}

}  // namespace opifex
