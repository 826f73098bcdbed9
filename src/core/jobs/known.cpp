#include <algorithm>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/stage/renames.hpp"

#include "comparable.hpp"
#include "known_collector.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

std::string place_of(const fs::path& path) {
  std::error_code ignored;
  const fs::path place = fs::weakly_canonical(path, ignored);
  return (ignored ? path.lexically_normal() : place).string();
}

std::vector<std::uint64_t> sizes_of(const std::vector<KnownListPtr>& lists) {
  std::vector<std::uint64_t> sizes;
  for (const KnownListPtr& list : lists)
    for (const ListedEntry& e : list->entries)
      if (e.size_bytes != kUnknownSize) sizes.push_back(e.size_bytes);
  std::sort(sizes.begin(), sizes.end());
  sizes.erase(std::unique(sizes.begin(), sizes.end()), sizes.end());
  return sizes;
}

/// Without what archives are called by: "Game.zip", "Game.part1.rar", "Game.7z.001", "Game.tar.gz".
std::string archive_stem(const fs::path& archive) {
  fs::path name = archive.filename();
  for (int i = 0; i < 2 && name.has_extension(); ++i) {
    const std::string ending = fold_case(name.extension().string());
    const bool first = i == 0, digits = ending.find_first_not_of(".0123456789") == std::string::npos;
    const bool more = ending == ".tar" || ending == ".zip" || ending == ".7z" || ending == ".rar" ||
                      ending.starts_with(".part") || digits;
    if (!first && !more) break;
    name = name.stem();
  }
  return name.string();
}

/// Small enough that a thread may have it for itself.
bool is_small(const fs::path& file) {
  constexpr std::uint64_t kMost = 64 << 20;
  std::error_code error;
  const std::uintmax_t size = fs::file_size(file, error);
  return !error && size <= kMost;
}

bool has_hashes(const FileCheck& file) {
  return !file.hashes.empty() &&
         std::all_of(file.hashes.begin(), file.hashes.end(), [](const NamedHash& h) { return !h.value.empty(); });
}

bool same_bytes(const ListedView& a, const ListedView& b) {
  const auto equal = [](const NamedHash& x, const NamedHash& y) { return x.name == y.name && x.value == y.value; };
  return a.size_bytes == b.size_bytes && !a.hashes.empty() &&
         std::equal(a.hashes.begin(), a.hashes.end(), b.hashes.begin(), b.hashes.end(), equal);
}

}  // namespace

std::string_view to_string(KnownVerdict verdict) {
  constexpr std::array<std::string_view, 9> kWords{
      "known", "renamed", "extra", "duplicate", "known_bad", "part_missing", "differs", "not_comparable", "not_known"};
  return kWords[static_cast<std::size_t>(verdict)];
}

bool is_known(KnownVerdict verdict) { return verdict <= KnownVerdict::duplicate; }

KnownCollector::KnownCollector(const Lists& lists) : lists_(lists), sizes_(sizes_of(lists.lists)) {
  unsigned used = 0;
  for (const KnownListPtr& list : lists.lists) {
    used |= list->algorithms;
    any_size_ = any_size_ || !list->sizes_everywhere;
  }
  for (const ListHash h : kListHashes)
    if ((used & bit(h)) != 0) algorithms_.emplace_back(to_string(h));
}

void KnownCollector::prepare(CheckOptions& options, bool hashes_chosen) const {
  if (!hashes_chosen) options.hashes.clear();
  for (const std::string& name : algorithms_)
    if (std::find(options.hashes.begin(), options.hashes.end(), name) == options.hashes.end())
      options.hashes.push_back(name);
  options.wants_whole = [this](std::uint64_t size) { return is_wanted(size); };
}

bool KnownCollector::is_wanted(std::uint64_t size) const {
  return any_size_ || std::binary_search(sizes_.begin(), sizes_.end(), size);
}

std::size_t KnownCollector::unit_of(const fs::path& folder, const std::string& name) {
  const auto [at, is_new] = units_.try_emplace(folder.string(), known_.collection.units.size());
  if (is_new) known_.collection.units.push_back(name);
  return at->second;
}

std::size_t KnownCollector::unit_of_archive(const fs::path& archive) {
  return unit_of(place_of(archive) + "!", archive_stem(archive));
}

CollectedFile KnownCollector::new_file(const fs::path& path, const fs::path& archive) {
  CollectedFile file;
  file.base = path.filename().string();
  if (archive.empty()) {
    file.path = path.string();
    const fs::path folder = fs::path(place_of(path)).parent_path();
    file.unit = unit_of(folder, folder.filename().string());
  } else {
    file.archive = archive.string();
    file.path = archive.string() + "!" + path.lexically_relative(archive).generic_string();
    file.unit = unit_of_archive(archive);
  }
  return file;
}

std::size_t KnownCollector::add(CollectedFile file, const fs::path& path) {
  covered_.insert(place_of(path));
  known_.collection.files.push_back(std::move(file));
  return known_.collection.files.size() - 1;
}

void KnownCollector::add_sheet(ImageParts& parts, const Source& source, const Image& image) {
  const Format& format = *image.format;
  if (!format.read_sheet) return;
  const SourcePtr sheet = source.input.options.space().open(image.path);
  constexpr std::size_t kLargest = 1 << 20;
  if (sheet->size() > kLargest) return;
  const std::string text(as_text(read_up_to(*sheet, 0, kLargest)));
  CollectedFile file = new_file(image.path, image.archive);
  ListedView view{.size_bytes = text.size()};
  for (const std::string& name : algorithms_) view.hashes.push_back({name, digest_of(name, as_view(text))});
  file.views.push_back(std::move(view));
  if (format.usual_sheet)
    file.sheet = [text, usual = format.usual_sheet](const std::vector<std::string>& names,
                                                    bool crlf) -> std::optional<std::string> {
      try {
        return usual(text, names, crlf ? LineEnd::crlf : LineEnd::lf);
      } catch (const Error&) {
        return std::nullopt;
      }
    };
  parts.sheet = file.path;
  parts.files.push_back(add(std::move(file), image.path));
}

/// What a file holds beside its own bytes: the disc of a container, the ROM without what dump programs put around it.
void KnownCollector::add_views(ImageParts& parts, const Image& image, const CheckResult& result, const Identity* id) {
  const auto first = std::find_if(parts.files.begin(), parts.files.end(),
                                  [&](std::size_t f) { return known_.collection.files[f].path != parts.sheet; });
  if (first == parts.files.end()) return;
  parts.incomparable = why_not_comparable(image, id);
  known_.collection.files[*first].not_comparable = parts.incomparable;
  std::vector<ListedView>& views = known_.collection.files[*first].views;
  const auto add_view = [&](std::string through, const FileCheck& found) {
    if (!has_hashes(found)) return;
    ListedView view{.through = std::move(through), .size_bytes = found.size_bytes, .hashes = found.hashes};
    if (views.empty() || !same_bytes(views.front(), view)) views.push_back(std::move(view));
  };
  if (result.disc) add_view("the disc inside", *result.disc);
  if (result.rom) add_view("the ROM alone", *result.rom);
  for (const OtherForm& other : result.others)
    if (other.track == 0 || result.tracks.size() == 1) add_view(other.through, other.file);
  if (result.whole && image.files.size() == 1) add_view("the tracks inside, as one bin", *result.whole);
  if (!image.container || result.verdict == Verdict::damaged) return;
  for (const ContainerFact& fact : image.container->facts())
    if (fact.key == "sha1") {
      ListedView view{
          .kind = ListedKind::disk, .through = "the header's SHA-1", .size_bytes = image.files.front().size_bytes};
      view.hashes = {{"sha1", fact.value}};
      views.push_back(std::move(view));
    }
}

namespace {

/// Of the files of an image, by number in the collection, those that the track lies in.
std::vector<std::size_t> files_of(const Image& image, int track, const std::vector<std::size_t>& files) {
  if (!image.cd() || image.container || files.size() != image.files.size()) return files;
  std::vector<std::size_t> its;
  for (const Extent& e : image.cd()->extents())
    if (e.track == track && (its.empty() || its.back() != files[e.file])) its.push_back(files[e.file]);
  return its;
}

}  // namespace

void KnownCollector::add_tracks(ImageParts& parts, const Image& image, const CheckResult& result) {
  std::vector<std::size_t> data;
  for (const std::size_t f : parts.files)
    if (known_.collection.files[f].path != parts.sheet) data.push_back(f);
  if (data.empty()) return;
  CollectedFile& lead = known_.collection.files[data.front()];
  const auto is_file = [&](const ListedView& view) {
    return std::any_of(data.begin(), data.end(), [&](std::size_t f) {
      const auto& views = known_.collection.files[f].views;
      return std::any_of(views.begin(), views.end(), [&](const ListedView& v) { return same_bytes(v, view); });
    });
  };
  for (const TrackCheck& track : result.tracks) {
    ListedView view{.size_bytes = track.size_bytes, .hashes = track.hashes};
    const FileCheck as_file{{}, track.size_bytes, track.hashes};
    if (!has_hashes(as_file) || is_file(view)) continue;
    if (result.tracks.size() == 1) {
      view.through = "the track inside";
      lead.views.push_back(std::move(view));
      continue;
    }
    CollectedPiece piece{.path = fmt::format("{}#track{:02}", lead.path, track.number),
                         .files = files_of(image, track.number, data),
                         .unit = lead.unit};
    if (data.size() > 1) piece.path = fmt::format("{}#track{:02}", parts.sheet, track.number);
    piece.view = std::move(view);
    parts.pieces.push_back(known_.collection.pieces.size());
    known_.collection.pieces.push_back(std::move(piece));
  }
  for (const OtherForm& other : result.others) {
    if (other.track == 0 || result.tracks.size() == 1 || !has_hashes(other.file)) continue;
    CollectedPiece piece{.path = fmt::format("{}#track{:02}-whole", lead.path, other.track),
                         .files = files_of(image, other.track, data),
                         .unit = lead.unit,
                         .view = {.size_bytes = other.file.size_bytes, .hashes = other.file.hashes}};
    parts.pieces.push_back(known_.collection.pieces.size());
    known_.collection.pieces.push_back(std::move(piece));
  }
  if (result.whole && image.files.size() > 1 && has_hashes(*result.whole)) {
    CollectedPiece piece{.path = parts.sheet + "#merged", .files = data, .unit = lead.unit, .merged = true};
    piece.view = {.size_bytes = result.whole->size_bytes, .hashes = result.whole->hashes};
    parts.pieces.push_back(known_.collection.pieces.size());
    known_.collection.pieces.push_back(std::move(piece));
  }
}

namespace {

std::vector<TrackFacts> track_facts(const Image& image, const CheckResult& result) {
  std::vector<TrackFacts> tracks;
  for (const TrackCheck& t : result.tracks) {
    TrackFacts track{.number = t.number, .audio = t.mode.is_audio()};
    for (const Extent& e : image.cd()->extents())
      if (e.track == t.number) {
        track.first = e.lba;
        break;
      }
    for (const DamagedRange& range : t.ranges)
      if (range.damage != cd::Damage::none && !track.damaged) track.damaged = range.first;
    track.view = {.size_bytes = t.size_bytes, .hashes = t.hashes};
    tracks.push_back(std::move(track));
  }
  return tracks;
}

}  // namespace

void KnownCollector::add_image(const Source& source, const Image& image, const CheckResult& result,
                               const Identity* id) {
  ImageParts parts{.name = source.name, .files = {}, .pieces = {}, .sheet = {}};
  if (!image.archive.empty()) archives_.insert(image.archive.string());
  add_sheet(parts, source, image);
  for (const FileCheck& found : result.files) {
    if (!has_hashes(found)) continue;
    CollectedFile file = new_file(found.path, image.archive);
    file.views.push_back({.size_bytes = found.size_bytes, .hashes = found.hashes});
    parts.files.push_back(add(std::move(file), found.path));
  }
  for (const fs::path& part : image.parts) covered_.insert(place_of(part));
  parts.source = source;
  parts.tracks = track_facts(image, result);
  for (const std::size_t f : parts.files) known_.collection.files[f].of_image = true;
  if (image.format->read_sheet)
    for (const std::size_t f : parts.files) known_.collection.files[f].image = images_.size();
  add_views(parts, image, result, id);
  add_tracks(parts, image, result);
  images_.push_back(std::move(parts));
}

void KnownCollector::add_kept(KeptImage image, const fs::path& folder) {
  explains_ = false;
  ImageParts parts{.name = image.name, .files = {}, .pieces = {}, .sheet = image.sheet};
  parts.incomparable = image.incomparable;
  const std::size_t unit = unit_of(folder, folder.filename().string());
  for (CollectedFile& file : image.files) {
    file.unit = unit;
    file.of_image = true;
    if (!image.sheet.empty()) file.image = images_.size();
    parts.files.push_back(known_.collection.files.size());
    known_.collection.files.push_back(std::move(file));
  }
  for (CollectedPiece& piece : image.pieces) {
    for (std::size_t& f : piece.files) f = parts.files[f];
    piece.unit = unit;
    parts.pieces.push_back(known_.collection.pieces.size());
    known_.collection.pieces.push_back(std::move(piece));
  }
  images_.push_back(std::move(parts));
}

KnownCollector::KeptImage KnownCollector::kept() const {
  const ImageParts& parts = images_.back();
  return {parts.name, known_.collection.files, known_.collection.pieces, parts.sheet, parts.incomparable};
}

ListedView KnownCollector::hash_bytes(const ByteSource& source, JobContext& context) const {
  ListedView view{.size_bytes = source.size()};
  // A size that no list has needs no hash.
  if (!is_wanted(source.size())) return view;
  view.hashes = hash_source(source, algorithms_, context);
  return view;
}

KnownCollector::Hashed KnownCollector::try_hash(const SourcePtr& source, JobContext& context) const {
  Hashed hashed;
  try {
    hashed.view = hash_bytes(*source, context);
  } catch (const Error& e) {
    if (ends_all(e)) throw;
    hashed.error = e;
  }
  return hashed;
}

void KnownCollector::add_hashed(const fs::path& path, const fs::path& archive, Hashed hashed) {
  CollectedFile file = new_file(path, archive);
  if (hashed.view) file.views.push_back(std::move(*hashed.view));
  if (hashed.error) {
    file.unreadable = hashed.error->details.what;
    failures_.push_back(*hashed.error);
  }
  add(std::move(file), path);
}

void KnownCollector::add_plain(const fs::path& path, const fs::path& archive, const SourcePtr& source,
                               JobContext& context) {
  add_hashed(path, archive, try_hash(source, context));
}

/// Many files side by side: each is one thread's work, while of a large one each digest is.
void KnownCollector::add_plain_files(std::span<const fs::path> files, JobContext& context) {
  FlowOf<Hashed> flow;
  using Block = FlowOf<Hashed>::Block;
  flow.next = [&](Block& block) { return block.index < files.size(); };
  flow.work = [&](Block& block) {
    Progress quiet;
    quiet.stop = context.progress.stop;
    JobContext alone{quiet, 1};
    try {
      block.carried = try_hash(open_file(files[block.index]), alone);
    } catch (const Error& e) {
      if (ends_all(e)) throw;
      block.carried = {{}, e};
    }
  };
  flow.consume.emplace_back([&](Block& block) { add_hashed(files[block.index], {}, std::move(block.carried)); });
  run_flow(flow, context, 2 * kBlocksInFlight);
}

void KnownCollector::add_file(const std::string& path, JobContext& context) {
  add_plain(path, {}, open_file(path), context);
  images_.push_back(
      {.name = path, .files = {known_.collection.files.size() - 1}, .pieces = {}, .sheet = {}, .checked = false});
}

void KnownCollector::add_unreadable(const std::string& name, const std::string& why) {
  if (covered_.contains(place_of(name))) return;
  CollectedFile file = new_file(name, {});
  file.unreadable = why;
  add(std::move(file), name);
}

void KnownCollector::add_archive(const std::string& path) { archives_.insert(path); }

void KnownCollector::add_folder(const std::string& folder, JobContext& context) {
  std::vector<fs::path> files;
  std::error_code error;
  fs::recursive_directory_iterator at(folder, fs::directory_options::skip_permission_denied, error);
  for (; !error && at != fs::recursive_directory_iterator(); at.increment(error)) {
    std::error_code ignored;
    // What a renaming has left is nobody's file.
    if (is_undo_name(at->path().filename().string())) continue;
    if (!at->is_symlink(ignored) && at->is_regular_file(ignored) && !covered_.contains(place_of(at->path())) &&
        !archives_.contains(at->path().string()))
      files.push_back(at->path());
  }
  if (error)
    failures_.push_back(Error({.fault = Fault::device,
                               .code = "unreadable_folder",
                               .what = "a folder cannot be looked through: " + error.message(),
                               .file = folder}));
  std::sort(files.begin(), files.end());
  context.progress.begin("hashing what else is there", 0);
  const auto end = std::remove_if(files.begin(), files.end(), [&](const fs::path& file) { return take_archive(file); });
  files.erase(end, files.end());
  for (std::size_t i = 0; i < files.size();) {
    std::size_t small = i;
    while (small < files.size() && is_small(files[small])) ++small;
    if (small > i) {
      add_plain_files(std::span(files).subspan(i, small - i), context);
      i = small;
    } else {
      try_large(files[i++], context);
    }
  }
}

/// True of what is no file of its own: an archive, or one that cannot be looked at.
bool KnownCollector::take_archive(const fs::path& file) {
  try {
    if (!open_archive(file, {})) return false;
    archives_.insert(file.string());
  } catch (const Error& e) {
    if (ends_all(e)) throw;
    failures_.push_back(e);
    add_unreadable(file.string(), e.details.what);
  }
  return true;
}

void KnownCollector::try_large(const fs::path& file, JobContext& context) {
  try {
    add_plain(file, {}, open_file(file), context);
  } catch (const Error& e) {
    if (ends_all(e)) throw;
    failures_.push_back(e);
    add_unreadable(file.string(), e.details.what);
  }
}

void KnownCollector::add_members(JobContext& context) {
  std::set<std::string> seen;  // of several volumes each opens the whole
  for (const std::string& path : archives_) {
    const ArchivePtr archive = open_archive(path, {});
    if (!archive || !seen.insert(place_of(archive->volumes().front())).second) continue;
    for (const fs::path& volume : archive->volumes()) covered_.insert(place_of(volume));
    for (std::size_t i = 0; i < archive->members().size(); ++i) {
      const ArchiveMember& member = archive->members()[i];
      const fs::path inside = fs::path(path) / member.name;
      if (member.folder || !member.refused.empty() || covered_.contains(place_of(inside))) continue;
      add_plain(inside, path, archive->open_member(i), context);
    }
  }
}

}  // namespace opifex::jobs
