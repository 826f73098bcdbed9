#include "opifex/core/formats/cue/build.hpp"

#include <algorithm>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/cd/examine.hpp"
#include "opifex/core/cd/parity.hpp"

namespace opifex::cue {
namespace {

using cd::Lba;
using cd::TrackMode;

/// Sectors of one track that lie together in one file.
struct Run {
  std::size_t track = 0, file = 0;  // indexes into the sheet
  std::int32_t start = 0;           // frames from the start of the file
  std::vector<SheetIndex> indexes;
  std::uint32_t sectors = 0;
  std::uint64_t offset = 0;
  bool missing = false;      // no file, or not all of it
  std::uint32_t stored = 0;  // of the sectors, those the file has
};

StoredForm form_of(TrackMode mode) {
  switch (mode.sector_bytes) {
    case 2448:
      return StoredForm::raw_with_pw;
    case 2336:
      return StoredForm::mode2;
    case 2324:
      return StoredForm::form2_user;
    case 2048:
      return mode.kind == TrackMode::Kind::mode1 ? StoredForm::mode1_user : StoredForm::form1_user;
    default:
      return StoredForm::raw;
  }
}

class Builder {
 public:
  Builder(const Sheet& sheet, const std::vector<TrackFile>& files, const std::string& name,
          std::vector<Warning>& warnings, Absent absent)
      : sheet_(sheet), files_(files), name_(name), warnings_(warnings), absent_(absent), swapped_(sheet.tracks.size()) {
    for (const SheetTrack& t : sheet.tracks) modes_.push_back(t.mode);
  }

  CdImagePtr build() {
    for (std::size_t file = 0; file < sheet_.files.size(); ++file) place_file(file);
    start_disc();
    for (std::size_t i = 0; i < runs_.size(); ++i) place_run(i);
    finish_session();
    layout_.lead_out = cur_;
    check_last_lead_out();
    check_addresses();
    layout_.catalogue = sheet_.catalogue;
    layout_.cd_text_file = sheet_.cd_text_file;
    layout_.texts = sheet_.texts;
    layout_.remarks = sheet_.remarks;
    const bool any_pw = std::any_of(extents_.begin(), extents_.end(),
                                    [](const Extent& e) { return e.form == StoredForm::raw_with_pw; });
    return std::make_shared<CdImage>(std::move(layout_), std::move(extents_),
                                     any_pw ? std::optional(cd::SubchannelForm::interleaved) : std::nullopt);
  }

 private:
  [[noreturn]] void refuse(std::string code, std::string what, std::uint32_t line, std::string found = {},
                           std::string expected = {}, std::string hint = {}) const {
    throw Error({.code = std::move(code),
                 .what = std::move(what),
                 .file = name_,
                 .line = line,
                 .found = std::move(found),
                 .expected = std::move(expected),
                 .hint = std::move(hint)});
  }
  void warn(std::string code, std::string message, Cause cause = Cause::other) {
    warnings_.push_back({std::move(code), std::move(message), {}, cause});
  }

  // ---- Pass 1: where the sectors of each track lie in the files -----------------------------------------------------

  void place_file(std::size_t file) {
    std::vector<Run> runs;
    for (std::size_t t = 0; t < sheet_.tracks.size(); ++t)
      for (const SheetIndex& index : sheet_.tracks[t].indexes) {
        if (index.file != file) continue;
        if (runs.empty() || runs.back().track != t)
          runs.push_back({.track = t, .file = file, .start = index.frames, .indexes = {}});
        runs.back().indexes.push_back(index);
      }
    if (runs.empty()) return;
    index_from_start(runs.front());
    std::uint64_t offset = 0;
    for (std::size_t i = 0; i < runs.size(); ++i) {
      runs[i].offset = offset;
      measure(runs[i], i + 1 < runs.size() ? &runs[i + 1] : nullptr);
      offset += std::uint64_t{runs[i].sectors} * modes_[runs[i].track].sector_bytes;
      runs_.push_back(std::move(runs[i]));
    }
  }

  /// A file's first run begins at its first byte, whatever its first index says.
  void index_from_start(Run& run) {
    const SheetTrack& track = sheet_.tracks[run.track];
    const bool begins_here = track.indexes.front().file == run.file;
    if (run.start > 0 && begins_here) {
      warn("unindexed_start",
           fmt::format("{} begins before its first index: what lies there is taken as the pregap of track {}",
                       sheet_.files[run.file].name, track.number));
      if (run.indexes.front().number != 0) run.indexes.insert(run.indexes.begin(), {0, 0, run.file, track.line});
      run.indexes.front().frames = 0;
    }
    run.start = 0;
  }

  /// `next`: the run behind it in the same file; null for the last, which reaches to the file's end.
  void measure(Run& run, const Run* next) {
    const SheetTrack& track = sheet_.tracks[run.track];
    // The furthest the sheet itself says the run reaches.
    const auto claimed = static_cast<std::uint32_t>((next ? next->start : run.indexes.back().frames) - run.start);
    if (!files_[run.file].data) {
      run.missing = true;
      run.sectors = claimed;
      return;
    }
    believe_content(run, next != nullptr);
    const std::uint64_t left = files_[run.file].data->size() - std::min(run.offset, files_[run.file].data->size());
    const std::uint64_t available = left / modes_[run.track].sector_bytes;
    if (available > static_cast<std::uint64_t>(most_sectors(track)) && !next) too_long(track.line);
    run.sectors = next ? claimed : static_cast<std::uint32_t>(available);
    run.stored = static_cast<std::uint32_t>(std::min<std::uint64_t>(run.sectors, available));
    if (const auto fault = overrun(run, claimed, available)) {
      if (absent_ == Absent::refuse) throw Error(*fault);
      warn(fault->code, fmt::format("{}: {} holds {} sectors", fault->what, sheet_.files[run.file].name, available));
      run.missing = true;
      run.sectors = static_cast<std::uint32_t>(std::max<std::uint64_t>(claimed, available));
      return;
    }
    const std::uint64_t over = left % modes_[run.track].sector_bytes;
    if (!next && over != 0)
      warn("partial_sector",
           fmt::format("{} ends with {} bytes of a sector of {}: the rest is missing, the part is not used",
                       sheet_.files[run.file].name, over, modes_[run.track].sector_bytes),
           Cause::incomplete);
  }

  /// A run that reaches behind the end of its file, or a track without a stored sector.
  std::optional<ErrorDetails> overrun(const Run& run, std::uint64_t claimed, std::uint64_t available) const {
    const SheetTrack& track = sheet_.tracks[run.track];
    const std::string& file = sheet_.files[run.file].name;
    const auto start =
        std::find_if(run.indexes.begin(), run.indexes.end(), [](const SheetIndex& i) { return i.number == 1; });
    const bool empty = start != run.indexes.end() && static_cast<std::uint64_t>(start->frames - run.start) == available;
    if (empty)
      return ErrorDetails{.code = "empty_track",
                          .what = fmt::format("track {} holds no sector", track.number),
                          .file = name_,
                          .line = track.line,
                          .found = fmt::format("{} of {} bytes", file, files_[run.file].data->size()),
                          .expected = "at least one sector",
                          .hint = "check that the sheet names the right file"};
    const auto last = static_cast<std::uint64_t>(run.indexes.back().frames - run.start);
    const bool gap_of_no_length = run.indexes.back().number == 0 && last == available;
    if (claimed <= available && (last < available || gap_of_no_length)) return std::nullopt;
    return ErrorDetails{.code = "index_past_end",
                        .what = fmt::format("an index of track {} lies behind the end of its file", track.number),
                        .file = name_,
                        .line = track.line,
                        .found = fmt::format("{} sectors in {}", available, file),
                        .expected = "more",
                        .hint = "the file is cut short or is not the right one: compare its size with the original"};
  }
  [[noreturn]] void too_long(std::uint32_t line) const {
    refuse("disc_too_long", "the tracks are longer than a CD can be", line, {}, "at most 99:59:74",
           "a DVD image is an .iso, not a cue sheet's bin");
  }

  /// The sector at INDEX 01 is believed over the sheet: its mode, its byte order, even its size.
  void believe_content(Run& run, bool another_follows) {
    const auto index01 =
        std::find_if(run.indexes.begin(), run.indexes.end(), [](const SheetIndex& i) { return i.number == 1; });
    if (index01 == run.indexes.end()) return;
    TrackMode& mode = modes_[run.track];
    const TrackMode declared = mode;
    const ByteSource& data = *files_[run.file].data;
    const std::uint64_t first_frame = static_cast<std::uint64_t>(index01->frames - run.start);
    const Bytes bytes = read_up_to(data, run.offset + first_frame * mode.sector_bytes, cd::kRawBytes);
    if (bytes.size() < cd::kRawBytes) {
      // Too little for a raw sector; a 2048-byte one may still be there.
      swapped_[run.track] = files_[run.file].big_endian && mode.is_audio();
      return;
    }
    cd::Sector sector;
    std::copy(bytes.begin(), bytes.end(), sector.begin());
    const bool big_endian_file = files_[run.file].big_endian;
    bool swapped = big_endian_file && mode.is_audio();
    if (big_endian_file && !cd::has_sync(sector)) {
      cd::swap_words(sector);
      if (cd::has_sync(sector)) swapped = true;
    }
    const bool whole_file = run.indexes.size() == 1 && !another_follows && run.offset == 0 && first_frame == 0;
    if (mode.sector_bytes == cd::kRawBytes) {
      const auto header = cd::has_valid_header(sector) ? cd::header_mode(sector) : std::nullopt;
      if (mode.is_audio()) {
        // Music may by chance begin with a sync; a whole sound sector is no chance.
        if (header && *header != 0 && cd::parity_is_right(sector, cd::kind_of(sector)))
          mode.kind = *header == 1 ? TrackMode::Kind::mode1 : TrackMode::Kind::mode2;
      } else if (header) {
        if (*header == 1) mode.kind = TrackMode::Kind::mode1;
        if (*header == 2 && mode.kind == TrackMode::Kind::mode1) mode.kind = TrackMode::Kind::mode2;
      } else if (whole_file && is_cooked(data)) {
        mode.sector_bytes = cd::kUserBytes;
      } else {
        warn("no_sync",
             fmt::format("track {} should be data, but its first sector has no sync", sheet_.tracks[run.track].number));
      }
    } else if (mode.sector_bytes == cd::kUserBytes && whole_file && cd::has_valid_header(sector)) {
      mode = {*cd::header_mode(sector) == 1 ? TrackMode::Kind::mode1 : TrackMode::Kind::mode2, cd::kRawBytes};
    }
    swapped_[run.track] = swapped;
    if (mode != declared)
      warn("mode_mismatch", fmt::format("the sheet calls track {} {}, its sectors are {}",
                                        sheet_.tracks[run.track].number, cd::to_string(declared), cd::to_string(mode)));
  }

  static bool is_cooked(const ByteSource& data) {
    return data.size() % cd::kUserBytes == 0 && as_text(read_up_to(data, kIsoMarkAt, kIsoMark.size())) == kIsoMark;
  }

  // ---- Pass 2: where they are on the disc ---------------------------------------------------------------------------

  void start_disc() {
    const auto& first = sheet_.tracks.front();
    if (!first.pregap) return;
    cur_ = -std::min<Lba>(*first.pregap, cd::kFirstPregap);
    warn("pregap_on_first_track", "PREGAP on the first track names the 2 seconds every disc has before it");
  }

  bool is_first_run(std::size_t i) const { return i == 0 || runs_[i - 1].track != runs_[i].track; }
  bool is_last_run(std::size_t i) const { return i + 1 == runs_.size() || runs_[i + 1].track != runs_[i].track; }

  void place_run(std::size_t i) {
    const Run& run = runs_[i];
    const SheetTrack& sheet_track = sheet_.tracks[run.track];
    if (is_first_run(i)) begin_track(i);
    cd::Track& track = layout_.tracks.back();
    track.incomplete = track.incomplete || run.missing;
    for (const SheetIndex& index : run.indexes) track.indexes[index.number] = cur_ + (index.frames - run.start);
    if (run.stored > 0)
      extents_.push_back({.track = track.number,
                          .lba = cur_,
                          .sectors = run.stored,
                          .form = form_of(track.mode),
                          .swapped = swapped_[run.track],
                          .source = files_[run.file].data,
                          .file = run.file,
                          .offset = run.offset});
    advance(run.sectors, sheet_track);
    if (!is_last_run(i)) return;
    advance(track.postgap_unstored, sheet_track);
    track.start_lba = track.indexes.at(1);
    track.end_lba = cur_;
  }

  static Lba most_sectors(const SheetTrack& track) {
    return track.area == cd::Area::high_density ? cd::kMaxGdRomSectors : cd::kMaxDiscSectors;
  }

  void advance(std::uint64_t sectors, const SheetTrack& track) {
    if (sectors > static_cast<std::uint64_t>(most_sectors(track) - cur_)) too_long(track.line);
    cur_ += static_cast<Lba>(sectors);
  }

  void begin_track(std::size_t i) {
    const SheetTrack& from = sheet_.tracks[runs_[i].track];
    cd::Track track;
    track.number = from.number;
    track.mode = modes_[runs_[i].track];
    track.session = from.session;
    track.area = from.area;
    track.flags = from.flags;
    track.isrc = from.isrc;
    track.texts = from.texts;
    track.remarks = from.remarks;
    track.pregap_unstored = static_cast<std::uint32_t>(from.pregap.value_or(0));
    track.postgap_unstored = static_cast<std::uint32_t>(from.postgap.value_or(0));
    const auto& before = layout_.tracks;
    if (!before.empty() && before.back().session != from.session) jump_to_session(i);
    if (!before.empty() && before.back().area != from.area && from.area == cd::Area::high_density) jump_to_area(i);
    if (from.pregap && runs_[i].indexes.front().number == 0)
      warn("pregap_and_index00",
           fmt::format("track {} has PREGAP and INDEX 00: first the gap no file holds, then the stored one",
                       from.number));
    track.pregap_lba = cur_;
    advance(track.pregap_unstored, from);
    if (layout_.sessions.empty())
      layout_.sessions.push_back({.number = from.session, .first_track = from.number, .last_track = from.number});
    layout_.sessions.back().last_track = from.number;
    layout_.tracks.push_back(std::move(track));
  }

  const SheetSession& sheet_session(int number) const {
    for (const SheetSession& s : sheet_.sessions)
      if (s.number == number) return s;
    return sheet_.sessions.front();
  }

  void finish_session() {
    if (!layout_.sessions.empty()) layout_.sessions.back().lead_out = cur_;
  }

  /// REM LEAD-OUT is used both as a length and as a position.
  std::uint32_t lead_out_length(const SheetSession& ended, bool has_lead_in, std::uint32_t usual) {
    if (!ended.lead_out) return usual;
    const std::int32_t value = *ended.lead_out;
    const bool position = value == cur_ || value == cur_ + cd::kFirstPregap;
    const bool usual_length =
        value == static_cast<std::int32_t>(cd::kFirstLeadOut) || value == static_cast<std::int32_t>(cd::kLaterLeadOut);
    if (has_lead_in || (usual_length && !position)) return static_cast<std::uint32_t>(value);
    if (!position)
      warn("leadout_mismatch", fmt::format("the lead-out remark of session {} ({}) fits neither as a length nor as a "
                                           "place; the usual length is used",
                                           ended.number, cd::to_string(cd::msf_of_frames(value))));
    return usual;
  }

  void jump_to_session(std::size_t i) {
    finish_session();
    cd::Session& ended = layout_.sessions.back();
    const SheetTrack& track = sheet_.tracks[runs_[i].track];
    const SheetSession& next = sheet_session(track.session);
    const bool first = layout_.sessions.size() == 1;
    ended.lead_out_sectors = lead_out_length(sheet_session(ended.number), next.lead_in.has_value(),
                                             first ? cd::kFirstLeadOut : cd::kLaterLeadOut);
    ended.lead_in_sectors = static_cast<std::uint32_t>(next.lead_in.value_or(cd::kLeadIn));
    ended.pregap_sectors = static_cast<std::uint32_t>(next.pregap.value_or(cd::kFirstPregap));
    const bool own_gap = track.pregap || runs_[i].indexes.front().number == 0;
    advance(std::uint64_t{ended.lead_out_sectors} + ended.lead_in_sectors + (own_gap ? 0 : ended.pregap_sectors),
            track);
    layout_.sessions.push_back({.number = track.session, .first_track = track.number, .last_track = track.number});
  }

  void check_last_lead_out() {
    if (!layout_.sessions.empty()) lead_out_length(sheet_session(layout_.sessions.back().number), false, 0);
  }

  /// INDEX 01 of the high-density area's first track is at a fixed place; its own gap lies before.
  void jump_to_area(std::size_t i) {
    const SheetTrack& track = sheet_.tracks[runs_[i].track];
    std::int64_t gap = track.pregap.value_or(0);
    for (std::size_t r = i; r < runs_.size() && runs_[r].track == runs_[i].track; ++r) {
      const auto at = std::find_if(runs_[r].indexes.begin(), runs_[r].indexes.end(),
                                   [](const SheetIndex& x) { return x.number == 1; });
      gap += at == runs_[r].indexes.end() ? std::int64_t{runs_[r].sectors} : at->frames - runs_[r].start;
      if (at != runs_[r].indexes.end()) break;
    }
    const std::int64_t start = cd::kHighDensityStart - gap;
    if (start < cur_)
      refuse("area_overlap", "the first area reaches into the high-density area", track.line,
             fmt::format("{} sectors", cur_), fmt::format("at most {}", start));
    cur_ = static_cast<Lba>(start);
  }

  // ---- The headers have the last word -------------------------------------------------------------------------------

  std::optional<Lba> address_at(Lba lba) const {
    for (const Extent& e : extents_) {
      if (lba < e.lba || lba >= e.end() || e.form != StoredForm::raw) continue;
      cd::Sector sector;
      e.source->read_at(e.offset + static_cast<std::uint64_t>(lba - e.lba) * cd::kRawBytes, sector);
      if (e.swapped) cd::swap_words(sector);
      return cd::has_sync(sector) ? cd::header_lba(sector) : std::nullopt;
    }
    return std::nullopt;
  }

  void check_addresses() {
    for (std::size_t i = 0; i < layout_.tracks.size(); ++i) {
      const cd::Track& track = layout_.tracks[i];
      if (track.mode.is_audio()) continue;
      const auto address = address_at(track.start_lba);
      if (!address || *address == track.start_lba) continue;
      if (i == 0 && *address == track.start_lba - cd::kFirstPregap && *address >= 0) {
        shift(-cd::kFirstPregap);
        warn("pregap_stored", "the first file begins with the 2 seconds before the first track");
      } else {
        warn(
            "address_mismatch",
            fmt::format("track {} should begin at {}, its first sector says {}: a gap before it is missing or too much",
                        track.number, cd::to_string(cd::msf_of_lba(track.start_lba)),
                        cd::to_string(cd::msf_of_lba(*address))));
      }
    }
  }

  void shift(Lba by) {
    for (cd::Track& t : layout_.tracks) {
      t.pregap_lba += by;
      t.start_lba += by;
      t.end_lba += by;
      for (auto& [number, lba] : t.indexes) lba += by;
    }
    for (cd::Session& s : layout_.sessions) s.lead_out += by;
    for (Extent& e : extents_) e.lba += by;
    layout_.lead_out += by;
  }

  const Sheet& sheet_;
  const std::vector<TrackFile>& files_;
  const std::string& name_;
  std::vector<Warning>& warnings_;
  Absent absent_;
  std::vector<TrackMode> modes_;
  std::vector<bool> swapped_;
  std::vector<Run> runs_;
  cd::Layout layout_;
  std::vector<Extent> extents_;
  Lba cur_ = 0;
};

}  // namespace

CdImagePtr build_disc(const Sheet& sheet, const std::vector<TrackFile>& files, const std::string& file,
                      std::vector<Warning>& warnings, Absent absent) {
  return Builder(sheet, files, file, warnings, absent).build();
}

}  // namespace opifex::cue
