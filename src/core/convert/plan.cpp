#include "opifex/core/convert/plan.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/shared_settings.hpp"
#include "opifex/core/io/part_names.hpp"
#include "opifex/core/volumes/wii/disc.hpp"
#include "opifex/core/volumes/xdvdfs/volume.hpp"

namespace opifex {
namespace {

using cd::Lba;

/// "12 min 30 s"
std::string duration_text(std::int64_t frames) {
  const std::int64_t seconds = (frames + cd::kFramesPerSecond / 2) / cd::kFramesPerSecond;
  return seconds < 60 ? fmt::format("{} s", seconds) : fmt::format("{} min {} s", seconds / 60, seconds % 60);
}

/// "tracks 2 to 4", "track 2", "tracks 2, 5"
std::string tracks_text(const std::vector<int>& numbers) {
  if (numbers.size() == 1) return fmt::format("track {}", numbers[0]);
  const bool run = numbers.back() - numbers.front() + 1 == static_cast<int>(numbers.size());
  if (run) return fmt::format("tracks {} to {}", numbers.front(), numbers.back());
  return fmt::format("tracks {}", fmt::join(numbers, ", "));
}

std::string at_text(Lba lba) { return fmt::format("{} (LBA {})", cd::to_string(cd::msf_of_lba(lba)), lba); }

/// Of one data track alone, or of tracks without their borders.
void lose_tracks(const cd::Layout& layout, const Capabilities& holds, int chosen, std::vector<Loss>& losses) {
  if (holds.track_list) return;
  if (holds.audio) {
    if (layout.tracks.size() > 1)
      losses.push_back(
          {"tracks", fmt::format("{} tracks", layout.tracks.size()), "the borders between them, which need a sheet"});
    return;
  }
  std::vector<int> audio, data;
  std::int64_t frames = 0;
  for (const cd::Track& t : layout.tracks) {
    if (t.number == chosen) continue;
    (t.mode.is_audio() ? audio : data).push_back(t.number);
    if (t.mode.is_audio()) frames += t.end_lba - t.start_lba;
  }
  if (!audio.empty())
    losses.push_back({"audio", tracks_text(audio), fmt::format("{} of music", duration_text(frames))});
  if (!data.empty())
    losses.push_back({"tracks", tracks_text(data), fmt::format("only one data track can be held: track {}", chosen)});
}

void lose_sessions(const cd::Layout& layout, const Capabilities& holds, std::vector<Loss>& losses) {
  // A format of one data track loses the others as tracks.
  if (holds.sessions || (!holds.track_list && !holds.audio)) return;
  const bool areas = std::any_of(layout.tracks.begin(), layout.tracks.end(),
                                 [](const cd::Track& t) { return t.area == cd::Area::high_density; });
  if (layout.sessions.size() < 2 && (!areas || holds.areas)) return;
  const char* what = areas ? "area" : "session";
  losses.push_back(
      {"sessions", fmt::format("all but the first {}", what), fmt::format("only the first {} can be held", what)});
}

class Planner {
 public:
  Planner(const Image& image, const ConvertRequest& request, JobContext& context, Conversion& out)
      : image_(image), holds_(request.target->holds), request_(request), context_(context), out_(out) {}

  void find_losses() {
    if (image_.cd()) find_cd_losses();
    for (Loss& loss : out_.losses) loss.accepted = !is_content_loss(loss.kind) || request_.accepted.contains(loss.kind);
  }

 private:
  void find_cd_losses() {
    const auto wanted = request_.settings.number(kTrack);
    chosen_ = wanted ? static_cast<int>(*wanted) : image_.main_data_track();
    for (Loss& loss : layout_losses(layout(), holds_, chosen_)) out_.losses.push_back(std::move(loss));
    subchannel();
    sector_contents();
    fillers();
  }

  const cd::Layout& layout() const { return image_.cd()->layout(); }
  void lose(std::string kind, std::string where, std::string detail) {
    out_.losses.push_back({std::move(kind), std::move(where), std::move(detail)});
  }

  void subchannel() {
    if (holds_.any_subchannel) {
      // 96 bytes or none: the 16 of Q alone have no place.
      const bool q_only = std::any_of(image_.cd()->extents().begin(), image_.cd()->extents().end(),
                                      [](const Extent& e) { return e.form == StoredForm::raw_with_q; });
      if (q_only && !image_.cd()->subchannel_is_regenerable())
        lose("subchannel", plural(image_.cd()->stored_sectors(), "sector"), "the 16 bytes of Q behind each sector");
      return;
    }
    if (holds_.subchannel && holds_.mixed_subchannel) {
      // Each CD+G track keeps its 96 bytes; only raw sectors no sheet can name lose theirs.
      return lose_subchannel([&](const cd::Track& t) { return t.mode.kind != cd::TrackMode::Kind::cdg; });
    }
    const bool all_cdg = std::all_of(layout().tracks.begin(), layout().tracks.end(),
                                     [](const cd::Track& t) { return t.mode.kind == cd::TrackMode::Kind::cdg; });
    if (holds_.subchannel && all_cdg) return;
    const bool one_track = !holds_.track_list && !holds_.audio;
    lose_subchannel([&](const cd::Track& t) { return !one_track || t.number == chosen_; });
  }

  template <typename Affected>
  void lose_subchannel(Affected affected) {
    std::vector<int> numbers;
    for (const cd::Track& t : layout().tracks) {
      const bool stored =
          std::any_of(image_.cd()->extents().begin(), image_.cd()->extents().end(), [&](const Extent& e) {
            return e.track == t.number && (e.form == StoredForm::raw_with_pw || e.form == StoredForm::raw_with_q);
          });
      if (stored && affected(t)) numbers.push_back(t.number);
    }
    if (numbers.empty() || image_.cd()->subchannel_is_regenerable()) return;
    lose("subchannel", tracks_text(numbers), "the 96 bytes of subchannel behind each sector");
  }

  void sector_contents() {
    if ((holds_.form2 && holds_.raw_headers) || chosen_ == 0) return;
    const UserDataScan scan = scan_user_data(*image_.cd(), chosen_, context_);
    if (!holds_.form2 && scan.form2 > 0)
      lose("form2", fmt::format("{}, the first at {}", plural(scan.form2, "sector"), at_text(*scan.first_form2)),
           "streamed audio or video; zeros take its place");
    if (!holds_.raw_headers && scan.irregular > 0)
      lose("raw-headers",
           fmt::format("{}, the first at {}", plural(scan.irregular, "sector"), at_text(*scan.first_irregular)),
           "headers or parity that the data does not regenerate");
    if (scan.bad > 0)
      out_.warnings.push_back(
          {"bad_sectors",
           fmt::format("{} with wrong EDC or without sync, the first at {}: check and repair the image first",
                       plural(scan.bad, "sector"), at_text(*scan.first_bad)),
           {},
           Cause::bad_sectors});
    const cd::Track& track = *layout().track(chosen_);
    if (track.start_lba != 0)
      out_.warnings.push_back(
          {"not_at_lba_zero", fmt::format("track {} begins at LBA {}: its file system counts from LBA 0 of the disc, "
                                          "so the output will not mount by itself",
                                          chosen_, track.start_lba)});
  }

  void fillers() {
    const bool one_track = !holds_.track_list && !holds_.audio;
    std::uint64_t gaps = 0;
    bool texts = !layout().texts.empty() || !layout().cd_text_file.empty(), codes = !layout().catalogue.empty(),
         marks = false;
    for (const cd::Track& t : layout().tracks) {
      const bool before_disc = t.number == layout().tracks.front().number;
      gaps += t.postgap_unstored +
              (before_disc ? t.pregap_unstored - std::min(t.pregap_unstored, 150u) : t.pregap_unstored);
      texts = texts || !t.texts.empty();
      codes = codes || !t.isrc.empty();
      marks = marks || t.flags.any() || t.indexes.rbegin()->first > 1;
    }
    const Lba first = image_.cd()->extents().empty() ? 0 : image_.cd()->extents().front().lba;
    if (!holds_.first_pregap && first < 0)
      lose("padding", plural(static_cast<std::uint64_t>(-first), "sector"),
           "the stored sectors before LBA 0 are left out");
    if (!holds_.unstored_gaps && !one_track && gaps > 0)
      lose("pregap-silence", plural(gaps, "sector"), "gaps that no file holds are written out as silence");
    if (!holds_.cd_text && texts) lose("cd-text", "titles and names", "texts of the sheet are not kept");
    if (!holds_.catalogue && codes) lose("catalogue", "catalogue number or ISRC", "codes of the sheet are not kept");
    if (!holds_.marks && marks && !one_track)
      lose("marks", "indexes from 02, track flags", "marks inside tracks are not kept");
  }

  const Image& image_;
  const Capabilities& holds_;
  const ConvertRequest& request_;
  JobContext& context_;
  Conversion& out_;
  int chosen_ = 0;
};

}  // namespace

namespace {

/// A container that holds whole discs pads what is missing; without the key nobody could ever tell it from what was
/// blank before.
void refuse_cut_disc(const Image& image) {
  const auto wii = image.blocks() ? read_wii_disc(image.blocks(), image.keys.get()) : std::nullopt;
  if (!wii || wii->plain) return;
  for (const WiiPartition& p : wii->partitions)
    if (!p.listed_only && !p.readable() && image.blocks()->size() < p.end())
      throw Error({.code = "short_unknown",
                   .what = fmt::format("the image ends within the {} partition, and without its key nobody can tell "
                                       "what is lost",
                                       p.type_name()),
                   .file = image.path.string(),
                   .found = human_size(image.blocks()->size()),
                   .expected = human_size(p.end()),
                   .hint = "give the key with <key-file>; <to> chd keeps the image as it is"});
}

}  // namespace

std::vector<Loss> Conversion::refused() const {
  std::vector<Loss> open;
  for (const Loss& loss : losses)
    if (!loss.accepted) open.push_back(loss);
  return open;
}

std::uint64_t Conversion::output_bytes() const {
  std::uint64_t sum = 0;
  for (const PlannedOutput& o : plan.outputs) sum += o.size_bytes;
  return sum;
}

namespace {

std::string_view what_it_holds(const Format& target) {
  const Capabilities& holds = target.holds;
  return holds.roms       ? "ROMs of cartridges"
         : holds.floppies ? "floppies"
         : holds.saves    ? "saves"
         : holds.blocks   ? "discs"
                          : "CDs";
}

/// What the target cannot hold anything of.
void refuse_content(const Image& image, const Format& target) {
  const auto refuse = [&](const char* code, std::string what, std::string hint) {
    throw Error({.code = code, .what = std::move(what), .file = image.path.string(), .hint = std::move(hint)});
  };
  const auto no_disc = [&] {
    refuse("not_a_disc",
           fmt::format("this is {}, and {} holds {}", describe(image.content), target.id, what_it_holds(target)), "");
  };
  const auto no_cd = [&](const BlockContent& blocks) {
    const bool too_large = blocks.bytes->size() / cd::kUserBytes > static_cast<std::uint64_t>(cd::kMaxDiscSectors);
    if (!too_large) return no_disc();
    throw Error({.code = "not_a_cd",
                 .what = fmt::format("this image is too large to be a CD, and {} holds CDs", target.id),
                 .file = image.path.string(),
                 .found = human_size(image.size_bytes()),
                 .expected = "at most 99:59:74 of sectors"});
  };
  const bool is_rom = std::holds_alternative<RomContent>(image.content);
  const bool has_own_words =
      std::holds_alternative<NoContent>(image.content) || std::holds_alternative<FileContent>(image.content);
  const auto* held = std::get_if<BlockContent>(&image.content);
  const bool is_floppy = held && held->medium == BlockMedium::floppy;
  const bool is_card = held && held->medium == BlockMedium::memory_card;
  const auto refuse_other = [&](const char* code) {
    refuse(code, fmt::format("this is {}, and {} holds {}", describe(image.content), target.id, what_it_holds(target)),
           "");
  };
  if (target.holds.roms && !is_rom && !has_own_words) refuse_other("not_a_rom");
  if (target.holds.floppies && !is_floppy && !has_own_words) refuse_other("not_a_floppy");
  if (target.holds.saves && !is_card && !has_own_words) refuse_other("not_a_save");
  std::visit(Overloaded{[&](const NoContent&) { refuse("no_disc", "nothing of the disc is there", ""); },
                        [](const CdContent&) {},
                        [&](const BlockContent& blocks) {
                          if ((is_floppy && target.holds.floppies) || (is_card && target.holds.saves)) return;
                          if (!blocks.is_disc()) no_disc();
                          if (!target.holds.blocks) no_cd(blocks);
                        },
                        [&](const RomContent&) {
                          if (!target.holds.roms) no_disc();
                        },
                        [&](const FileContent& files) {
                          if (!target.holds.packages)
                            refuse("no_disc", fmt::format("this is a {} of files, not a disc", files.what),
                                   "<job extract> writes its files");
                        }},
             image.content);
}

}  // namespace

std::vector<Loss> layout_losses(const cd::Layout& layout, const Capabilities& holds, int data_track) {
  std::vector<Loss> losses;
  lose_tracks(layout, holds, data_track, losses);
  lose_sessions(layout, holds, losses);
  return losses;
}

Conversion plan_conversion(const Image& image, const ConvertRequest& request, JobContext& context) {
  const Format& target = *request.target;
  if (!target.plan_write)
    throw Error({.fault = Fault::usage,
                 .code = "read_only_format",
                 .what = fmt::format("{} can be read but not written", target.id)});
  for (const ImageFile& file : image.files)
    if (file.missing)
      throw Error({.code = "missing_file", .what = "a file of the set is missing", .file = file.path.string()});
  refuse_content(image, target);
  if (target.holds.whole_discs) refuse_cut_disc(image);
  Conversion conversion;
  conversion.plan = target.plan_write(image, request.out, request.settings);
  conversion.warnings = conversion.plan.warnings;
  if (target.own_losses) conversion.losses = target.own_losses(image, request.settings);
  Planner(image, request, context, conversion).find_losses();
  return conversion;
}

/// A format of another kind that can hold all of it.
std::string_view lossless_format(const Image& image, const Format& target) {
  if (target.holds.roms) return target.id;
  if (!image.cd()) return usual_format(false).id;
  for (const Format* f : formats()) {
    const Capabilities& c = f->holds;
    const bool all = c.audio && c.track_list && c.form2 && c.raw_headers && c.subchannel && c.sessions;
    if (f->plan_write && all && f->extensions.front() != target.extensions.front()) return f->id;
  }
  return target.id;
}

void refuse_losses(std::span<const Loss> losses, const std::string& file, const Format& target,
                   std::string_view lossless) {
  std::vector<std::string> kinds, found;
  for (const Loss& loss : losses) {
    if (loss.accepted) continue;
    kinds.push_back(loss.kind);
    found.push_back(fmt::format("{} ({})", loss.kind, loss.where));
  }
  if (kinds.empty()) return;
  // What is refused is no advice.
  const std::string advice = lossless == target.id ? "" : fmt::format("; <to> {} loses nothing", lossless);
  throw Error({.fault = Fault::needs_word,
               .code = "loss",
               .what = fmt::format("{} would be lost in {}", fmt::join(kinds, " and "), target.id),
               .file = file,
               .found = fmt::format("{}", fmt::join(found, ", ")),
               .hint = fmt::format("add <accept> {} if that is meant{}", fmt::join(kinds, ","), advice)});
}

void refuse_losses(const Conversion& conversion, const Image& image, const Format& target) {
  refuse_losses(conversion.losses, image.path.string(), target, lossless_format(image, target));
}

std::string output_stem(const Image& image) {
  if (!image.name.empty()) return image.name;
  // The parts of a split file are one output.
  const auto set = image.archive.empty() ? part_set_of(image.path) : std::nullopt;
  const std::filesystem::path name = set && !set->lonely ? set->stem : image.path.filename().string();
  return set && !set->lonely && !is_image_name(name) ? name.string() : name.stem().string();
}

std::filesystem::path default_output(const Image& image, const Format& target, const std::filesystem::path& out,
                                     const Settings& settings) {
  if (!out.empty()) return out;
  const std::filesystem::path folder = (image.archive.empty() ? image.path : image.archive).parent_path();
  return folder / (output_stem(image) + std::string(target.output_extension(image, settings)));
}

std::vector<std::filesystem::path> input_paths(const Image& image) {
  std::vector<std::filesystem::path> paths = {image.path};
  if (!image.archive.empty()) paths.push_back(image.archive);
  for (const auto& part : image.parts)
    if (part != image.path) paths.push_back(part);
  for (const ImageFile& file : image.files)
    if (!file.missing && file.path != image.path) paths.push_back(file.path);
  paths.insert(paths.end(), image.also_read.begin(), image.also_read.end());
  return paths;
}

}  // namespace opifex
