// CHD as an image: a CD with its tracks, a disc of blocks, or plain data.
#include "opifex/core/image/format.hpp"

#include <algorithm>
#include <memory>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/chd/chd.hpp"
#include "opifex/core/image/shared_settings.hpp"

#include "container.hpp"
#include "decoder.hpp"
#include "encoder.hpp"
#include "frames.hpp"
#include "open.hpp"
#include "sheet_tag.hpp"
#include "tracks.hpp"
#include "writer.hpp"

namespace opifex {

extern const Format kChdFormat;

namespace {

namespace fs = std::filesystem;
using chd::Chd;
using chd::ChdTrack;
using chd::kFrameBytes;

constexpr std::array<std::string_view, 1> kExtensions = {".chd"};

int probe(const ByteSource& source, std::string_view) {
  return as_text(read_up_to(source, 0, kChdMark.size())) == kChdMark ? 64 : 0;
}

/// The stored sectors of one track, one behind the other, without the rest of their frames; audio little-endian.
class TrackSource final : public ByteSource {
 public:
  TrackSource(SourcePtr frames, std::size_t hunk_bytes, const ChdTrack& track, bool with_subcode)
      : frames_(std::move(frames)),
        batch_(std::max<std::size_t>(1, hunk_bytes / kFrameBytes)),
        first_(track.first_frame),
        count_(track.frames - track.pad),
        swapped_(track.swapped),
        each_(with_subcode ? track.mode.sector_bytes + chd::kFrameSubcode : track.mode.sector_bytes),
        audio_bytes_(track.mode.sector_bytes) {}
  std::uint64_t size() const override { return std::uint64_t{count_} * each_; }
  std::string name() const override { return frames_->name(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    // A hunk at a time: whole ones are decoded straight into `frames`, which stays in the nearest cache.
    const auto frames = std::make_unique_for_overwrite<std::byte[]>(batch_ * kFrameBytes);
    while (!out.empty()) {
      const std::uint64_t frame = first_ + offset / each_, last = first_ + (offset + out.size() - 1) / each_;
      const std::uint64_t n = std::min(batch_ - frame % batch_, last - frame + 1);
      const auto some = std::span(frames.get(), n * kFrameBytes);
      fill(frame * kFrameBytes, some);
      for (std::uint64_t i = 0; i < n; ++i) {
        const auto stored = some.subspan(i * kFrameBytes, each_);
        if (swapped_) cd::swap_words(stored.first(audio_bytes_));
        const auto inside = static_cast<std::size_t>(offset % each_);
        const std::size_t bytes = std::min(out.size(), each_ - inside);
        std::copy_n(stored.begin() + static_cast<std::ptrdiff_t>(inside), bytes, out.begin());
        out = out.subspan(bytes);
        offset += bytes;
      }
    }
  }

 private:
  /// The padding of the very last frame may be missing.
  void fill(std::uint64_t from, std::span<std::byte> out) const {
    const std::uint64_t size = frames_->size();
    const std::size_t there =
        static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), size - std::min(from, size)));
    frames_->read_at(from, out.first(there));
    std::fill(out.begin() + static_cast<std::ptrdiff_t>(there), out.end(), std::byte{0});
  }

  SourcePtr frames_;
  std::uint64_t batch_;  // frames of a hunk
  std::uint64_t first_;
  std::uint32_t count_;
  bool swapped_;
  std::size_t each_, audio_bytes_;
};

std::optional<StoredForm> form_of(const ChdTrack& track) {
  if (track.has_subcode())
    return track.mode.sector_bytes == cd::kRawBytes ? std::optional(StoredForm::raw_with_pw) : std::nullopt;
  switch (track.mode.sector_bytes) {
    case 2352:
      return StoredForm::raw;
    case 2336:
      return StoredForm::mode2;
    case 2324:
      return StoredForm::form2_user;
    default:
      return track.mode.kind == cd::TrackMode::Kind::mode1 ? StoredForm::mode1_user : StoredForm::form1_user;
  }
}

/// Which form the 96 bytes have is told by their checksums, not by the word in the metadata.
std::optional<cd::SubchannelForm> subchannel_form(const ByteSource& track) {
  constexpr std::uint64_t kLook = 32, kStored = cd::kRawBytes + cd::kSubchannelBytes;
  std::vector<cd::Subchannel> blocks;
  for (std::uint64_t i = 0; i < kLook && (i + 1) * kStored <= track.size(); ++i) {
    blocks.emplace_back();
    track.read_at(i * kStored + cd::kRawBytes, blocks.back());
  }
  return cd::detect_form(blocks);
}

/// Addresses by the sheet that was kept, if there is one of exactly these tracks; else by the track list.
struct Places {
  cd::Layout layout;
  std::vector<cd::Lba> first_lba;
};

Places find_places(const Chd& file, const chd::Contents& contents, std::vector<Warning>& warnings) {
  if (const chd::Tag* tag = file.tag(chd::kSheetTag)) {
    const auto bytes_of = [&](std::size_t track, bool with_subcode) -> SourcePtr {
      return std::make_shared<TrackSource>(file.logical(), file.header().hunk_bytes, contents.tracks[track],
                                           with_subcode);
    };
    const auto sheet = chd::parse_sheet_tag(tag->data);
    if (auto by_sheet = sheet ? chd::layout_by_sheet(*sheet, contents, bytes_of) : std::nullopt)
      return {std::move(by_sheet->layout), std::move(by_sheet->first_lba)};
    warnings.push_back({"sheet_ignored",
                        "the cue sheet kept in this CHD is not one of its tracks: texts, marks and "
                        "sessions it may name are left out"});
  }
  Places places{chd::make_layout(contents, warnings), {}};
  for (const cd::Track& t : places.layout.tracks)
    places.first_lba.push_back(t.pregap_lba + static_cast<cd::Lba>(t.pregap_unstored));
  return places;
}

CdImagePtr make_cd(const Chd& file, chd::Contents& contents, std::vector<Warning>& warnings) {
  Places places = find_places(file, contents, warnings);
  std::vector<Extent> extents;
  std::optional<cd::SubchannelForm> subchannel;
  const SourcePtr logical = file.logical();
  for (std::size_t i = 0; i < contents.tracks.size(); ++i) {
    const ChdTrack& from = contents.tracks[i];
    const auto form = form_of(from);
    if (!form)
      throw Error({.code = "unsupported",
                   .what = fmt::format("track {} has subcode behind sectors that are not raw", from.number),
                   .file = file.name()});
    const auto source = std::make_shared<TrackSource>(logical, file.header().hunk_bytes, from, from.has_subcode());
    if (*form == StoredForm::raw_with_pw && !subchannel) subchannel = subchannel_form(*source);
    extents.push_back({.track = places.layout.tracks[i].number,
                       .lba = places.first_lba[i],
                       .sectors = from.frames - from.pad,
                       .form = *form,
                       .source = source,
                       .file = 0,
                       .offset = 0});
  }
  const bool any =
      std::any_of(contents.tracks.begin(), contents.tracks.end(), [](const ChdTrack& t) { return t.has_subcode(); });
  if (any && !subchannel) subchannel = cd::SubchannelForm::interleaved;
  return std::make_shared<CdImage>(std::move(places.layout), std::move(extents), subchannel);
}

/// CHDs that may be the parent: those the user names, then those in the same folder, be it one of an archive.
std::vector<fs::path> parent_candidates(const fs::path& path, const std::vector<fs::path>& named,
                                        const FileSpace& files) {
  constexpr std::size_t kMostFiles = 10'000;
  std::vector<fs::path> beside;
  for (const fs::path& entry : files.entries(path.parent_path()))
    if (beside.size() < kMostFiles && fold_case(entry.extension().string()) == ".chd" && files.is_file(entry) &&
        !files.same_file(entry, path))
      beside.push_back(entry);
  std::vector<fs::path> all = named;
  all.insert(all.end(), beside.begin(), beside.end());
  return all;
}

/// A parent is known by its SHA-1, whatever it is called.
Chd::FindParent parent_finder(const fs::path& path, const std::vector<fs::path>& named, std::vector<fs::path>& found,
                              const FileSpace& files, int depth) {
  return [path, named, &found, &files, depth](const chd::Sha1& wanted) -> std::shared_ptr<const Chd> {
    std::optional<chd::Sha1> other;
    for (const fs::path& candidate : parent_candidates(path, named, files)) {
      const bool by_user = std::find(named.begin(), named.end(), candidate) != named.end();
      try {
        // The SHA-1 stands in the first bytes: only the right file is opened whole.
        const SourcePtr file = by_user ? open_file(candidate) : files.open(candidate);
        const auto identity = chd::peek_identity(*file);
        if (by_user && !other) other = identity.value_or(chd::Sha1{});
        if (identity != wanted) continue;
        auto parent = Chd::open(file, parent_finder(candidate, named, found, files, depth + 1), depth + 1);
        found.push_back(candidate);
        return parent;
      } catch (const Error& e) {
        // A damaged neighbour is not this file's trouble.
        if (by_user || e.details.cause == Cause::parent_chain) throw;
      }
    }
    if (other)
      throw Error({.code = "parent_mismatch",
                   .what = "this is not the parent of this CHD",
                   .file = named.front().string(),
                   .found = hex(*other),
                   .expected = hex(wanted),
                   .hint = "name the CHD with that SHA-1: <job identify> shows it"});
    return nullptr;
  };
}

/// The parent the user names is the one to be used: if it does not fit, that is told, whatever lies beside.
void refuse_other_parent(const fs::path& path, const fs::path& named, const std::vector<fs::path>& used) {
  if (named.empty() || std::find(used.begin(), used.end(), named) != used.end()) return;
  throw Error({.code = "parent_mismatch",
               .what = "this is not the parent of this CHD",
               .file = named.string(),
               .found = fmt::format("{} needs {}", path.string(), used.empty() ? "another" : used.front().string()),
               .hint = "leave <parent> out: the right one lies beside it"});
}

/// Where a parent may be, the user's first.
std::vector<fs::path> possible_parents(const OpenOptions& options) {
  std::vector<fs::path> files = options.needed;
  if (const std::string parent = options.settings.text(kParent); !parent.empty()) files.insert(files.begin(), parent);
  return files;
}

std::shared_ptr<const Chd> open_chd(const fs::path& path, const OpenOptions& options) {
  std::vector<fs::path> parents;
  return Chd::open(open_file(path), parent_finder(path, possible_parents(options), parents, options.space(), 0));
}

Image open(const fs::path& path, const OpenOptions& options) {
  Image image;
  image.format = &kChdFormat;
  image.path = path;
  const SourcePtr source = options.space().open(path);
  const auto file =
      Chd::open(source, parent_finder(path, possible_parents(options), image.also_read, options.space(), 0));
  if (file->header().parent_sha1) refuse_other_parent(path, options.settings.text(kParent), image.also_read);
  image.files.push_back({path, "chd", source->size(), false, source});
  chd::Contents contents = chd::read_contents(*file);
  image.warnings = contents.warnings;
  if (contents.kind == chd::Kind::cd || contents.kind == chd::Kind::gdrom) {
    image.content = CdContent{make_cd(*file, contents, image.warnings)};
  } else {
    const SourcePtr logical = file->logical();
    image.take_blocks(logical);
    if (std::get<BlockContent>(image.content).padding != 0)
      image.warnings.push_back(
          {"partial_block", "the data is no whole number of 2048-byte blocks: the last one is cut"});
    if (contents.kind == chd::Kind::hd || contents.kind == chd::Kind::raw)
      image.warnings.push_back(
          {"not_a_disc",
           fmt::format("this CHD holds {}, not a disc", contents.kind == chd::Kind::hd ? "a hard disk" : "plain data"),
           {},
           Cause::not_a_disc});
  }
  image.container = chd::make_container(file, std::move(contents), image.cd());
  return image;
}

constexpr Setting kCodecs{
    .name = "codecs",
    .type = SettingType::choices,
    .help = "codecs to try on each hunk (default: cdlz,cdzl,cdfl for CDs, lzma,zlib,huff,flac for the rest)",
    .value = "NAME,...",
    .words = [] { return chd::encodable_codecs(); }};
constexpr Setting kHunkSize{.name = "hunk-size",
                            .type = SettingType::size,
                            .help = "bytes of a hunk (default: 19584, 4096)",
                            .value = "SIZE",
                            .range = {1, UINT32_MAX}};
constexpr Setting kStandAlone{.name = "stand-alone",
                              .help = "write a whole one, although a parent was needed to read the input"};
constexpr Setting kEffort{
    .name = "effort",
    .type = SettingType::choice,
    .help = "fast, normal (default) or best: time spent on getting smaller",
    .value = "LEVEL",
    .preset = "normal",
    .words =
        [] {
          return std::vector<std::string>{"fast", "normal", "best"};
        },
    .details =
        "best tries every codec on every hunk; normal leaves out those that cannot win, in about half the "
        "time, for a file at most 0.2 % larger; fast tries one."};
constexpr std::array kReadSettings = {&kParent};
constexpr std::array kSettings = {&kCodecs, &kHunkSize, &kParent, &kStandAlone, &kEffort};

constexpr std::uint32_t kCdHunk = 8 * kFrameBytes, kBlockHunk = 4096, kMostHunk = 1 << 20;

void check_settings(const Settings& settings, bool is_cd, std::uint32_t unit) {
  const auto fail = [](std::string what, std::string hint) {
    throw Error({.fault = Fault::usage, .code = "usage", .what = std::move(what), .hint = std::move(hint)});
  };
  constexpr std::size_t kSlots = 4;
  const std::vector<std::string> codecs = settings.list(kCodecs);
  if (codecs.size() > kSlots) fail("a CHD has room for four codecs", "");
  for (const std::string& c : codecs) {
    if (chd::is_cd_codec(c) && !is_cd)
      fail(fmt::format("{} is a codec for CDs, and this is none", c), "lzma, zlib, huff, flac or zstd");
  }
  const std::uint64_t hunk = settings.bytes(kHunkSize).value_or(0);
  if (hunk % unit != 0 || hunk > kMostHunk)
    fail(fmt::format("hunks of {} bytes cannot be written", hunk),
         fmt::format("a multiple of {}, at most 1 MiB", unit));
}

/// Error if it cannot be the parent of what is to be written.
std::shared_ptr<const Chd> open_parent(const fs::path& path, const chd::WriteRequest& request) {
  auto parent = open_chd(path, {});
  const chd::Header& h = parent->header();
  const auto refuse = [&](std::string what, std::string found, std::string expected) {
    throw Error({.code = "parent_unfit",
                 .what = std::move(what),
                 .file = path.string(),
                 .found = std::move(found),
                 .expected = std::move(expected),
                 .hint = "a parent is a CHD of the same kind of disc"});
  };
  if (h.unit_bytes != request.unit_bytes)
    refuse("this CHD cannot be the parent of such an image", fmt::format("units of {} bytes", h.unit_bytes),
           fmt::format("{}", request.unit_bytes));
  if (!h.identity()) refuse("this CHD cannot be a parent: it has no SHA-1 to be known by", "none", "a SHA-1");
  return parent;
}

/// Metadata of the CHD it comes from that say nothing of tracks (a hard disk's geometry, what others put there): they
/// stay with the data.
void keep_tags(const chd::Origin& origin, std::vector<chd::Tag>& tags) {
  constexpr std::array<std::string_view, 7> kMadeAnew = {"CHT2", "CHTR", "CHCD",        "CHGD",
                                                         "CHGT", "DVD ", chd::kSheetTag};
  if (!origin.file) return;
  for (const chd::Tag& t : origin.file->tags())
    if (std::find(kMadeAnew.begin(), kMadeAnew.end(), t.name) == kMadeAnew.end()) tags.push_back(t);
}

/// True if a sheet tells where every track lies: it knows no place between two tracks of a session, but for the areas
/// of a GD-ROM.
bool sheet_places_all(const cd::Layout& layout) {
  for (std::size_t i = 1; i < layout.tracks.size(); ++i) {
    const cd::Track &before = layout.tracks[i - 1], &t = layout.tracks[i];
    if (before.session == t.session && before.area == t.area && before.end_lba < t.pregap_lba) return false;
  }
  return true;
}

chd::WriteRequest cd_request(const Image& image) {
  chd::WriteRequest request;
  chd::CdFrames frames = chd::make_frames(image.cd());
  request.unit_bytes = static_cast<std::uint32_t>(kFrameBytes);
  request.hunk_bytes = kCdHunk;
  request.logical = frames.logical;
  request.tags = std::move(frames.tags);
  request.runs = std::move(frames.runs);
  if (sheet_places_all(image.cd()->layout())) request.sheet = chd::make_sheet_tag(image);
  request.codecs = {"cdlz", "cdzl", "cdfl"};
  return request;
}

/// A DVD; or what another CHD calls a hard disk or plain data, which stays that.
chd::WriteRequest block_request(const Image& image, const chd::Origin& origin) {
  chd::WriteRequest request;
  request.unit_bytes = static_cast<std::uint32_t>(cd::kUserBytes);
  request.hunk_bytes = kBlockHunk;
  request.logical = image.stored_blocks();
  request.codecs = {"lzma", "zlib", "huff", "flac"};
  if (!origin.file || (origin.kind != chd::Kind::hd && origin.kind != chd::Kind::raw)) {
    request.tags.push_back({"DVD ", 1, 0, Bytes(1)});
    return request;
  }
  const chd::Header& from = origin.file->header();
  request.unit_bytes = from.unit_bytes;
  if (kBlockHunk % from.unit_bytes == 0) return request;
  if (from.hunk_bytes <= kMostHunk)
    request.hunk_bytes = from.hunk_bytes;
  else
    request.unit_bytes = 1;
  return request;
}

WritePlan plan_write(const Image& image, const fs::path& out, const Settings& settings) {
  // An ISO is a disc of blocks, however small; everything else with tracks is a CD.
  const bool is_cd = image.cd() != nullptr && !image.blocks();
  const chd::Origin origin = chd::origin_of(image);
  chd::WriteRequest request = is_cd ? cd_request(image) : block_request(image, origin);
  check_settings(settings, is_cd, request.unit_bytes);
  keep_tags(origin, request.tags);
  request.origin = origin.file;
  if (const auto bytes = settings.bytes(kHunkSize)) request.hunk_bytes = static_cast<std::uint32_t>(*bytes);
  if (auto codecs = settings.list(kCodecs); !codecs.empty()) request.codecs = std::move(codecs);
  request.effort = settings.choice<Effort>(kEffort);
  WritePlan plan;
  if (const fs::path parent = settings.text(kParent); !parent.empty() && !settings.flag(kStandAlone)) {
    request.parent = open_parent(parent, request);
    plan.needed.push_back(parent);
    plan.steps.push_back(
        fmt::format("leave out what {} holds: the output needs it to be read", parent.filename().string()));
  }
  plan.steps.push_back(fmt::format("pack {} into hunks of {} bytes with {}, into {}",
                                   human_size(request.logical->size()), request.hunk_bytes,
                                   fmt::join(request.codecs, ", "), out.filename().string()));
  const PackerPtr packer = chd::make_packer(std::move(request));
  plan.outputs.push_back({out, {packer}, packer->most_bytes()});
  return plan;
}

}  // namespace

extern const Format kChdFormat = {.id = "chd",
                                  .title = "compressed hunks of a disc, with checksums",
                                  .extensions = kExtensions,
                                  .probe = &probe,
                                  .open = &open,
                                  .holds = {.audio = true,
                                            .track_list = true,
                                            .form2 = true,
                                            .raw_headers = true,
                                            .subchannel = true,
                                            .mixed_subchannel = true,
                                            .any_subchannel = true,
                                            .sessions = true,
                                            .areas = true,
                                            .unstored_gaps = true,
                                            .cd_text = true,
                                            .catalogue = true,
                                            .marks = true,
                                            .first_pregap = true,
                                            .blocks = true},
                                  .plan_write = &plan_write,
                                  .settings = kSettings,
                                  .read_settings = kReadSettings};

}  // namespace opifex
