#include "shelf_item.hpp"

#include <algorithm>
#include <set>

#include "opifex/core/base/text.hpp"
#include "opifex/core/check/check.hpp"
#include "opifex/core/check/content_digest.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/platforms/platforms.hpp"
#include "opifex/core/volumes/file_system.hpp"

#include "../stage/disc_sets.hpp"
#include "comparable.hpp"
#include "shelf_files.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

const std::vector<std::string> kHashNames = {"crc32", "md5", "sha1"};

std::string sha1_of(const std::vector<NamedHash>& hashes) {
  for (const NamedHash& h : hashes)
    if (h.name == "sha1") return h.value;
  return {};
}

void set_hashes(ShelfContent& content, const std::vector<NamedHash>& hashes) {
  for (const NamedHash& h : hashes) {
    if (h.name == "crc32") content.crc32 = h.value;
    if (h.name == "md5") content.md5 = h.value;
    if (h.name == "sha1") content.sha1 = h.value;
  }
}

/// Bytes that are compared with other images, under the size of each track's other form: only those are worth a second
/// hash of their own.
std::set<std::uint64_t> other_sizes(const Image& image) {
  std::set<std::uint64_t> sizes;
  if (!image.cd()) return sizes;
  const auto& tracks = image.cd()->layout().tracks;
  for (const cd::Track& t : tracks) {
    if (t.mode.is_audio()) continue;
    std::uint64_t sectors = 0;
    bool cooked = true;
    for (const Extent& e : image.cd()->extents()) {
      if (e.track != t.number) continue;
      sectors += e.sectors;
      cooked = cooked && stored_bytes(e.form) == cd::kUserBytes;
    }
    if (tracks.size() == 1 && !cooked && t.mode.kind == cd::TrackMode::Kind::mode1)
      sizes.insert(sectors * cd::kUserBytes);
    if (tracks.size() > 1 && cooked) sizes.insert(sectors * cd::kRawBytes);
  }
  return sizes;
}

std::string data_key(std::uint64_t size, const std::string& sha1) {
  return sha1.empty() ? "" : fmt::format("data:{}:{}", size, sha1);
}

/// Nothing in its sectors that an ISO would not bring back: no subheaders, no headers or codes of their own.
bool is_plain_mode1(const TrackCheck& track) {
  return track.bad == 0 && track.repairable == 0 && track.authored == 0 && track.kinds.size() == 1 &&
         track.kinds.contains("mode1");
}

/// The same for the same disc, whatever its container and wherever its tracks lie.
std::string disc_key(const Image& image, const CheckResult& result) {
  const TrackCheck& first = result.tracks.front();
  const bool plain =
      result.verdict == Verdict::intact && std::none_of(result.findings.begin(), result.findings.end(),
                                                        [](const Finding& f) { return f.severity != Severity::note; });
  if (result.tracks.size() == 1 && plain && is_plain_mode1(first)) {
    for (const OtherForm& other : result.others)
      if (other.track == first.number && other.file.size_bytes % cd::kUserBytes == 0)
        return data_key(other.file.size_bytes, sha1_of(other.file.hashes));
  }
  if (result.tracks.size() == 1 && !first.mode.is_audio()) {
    const bool cooked = first.size_bytes == std::uint64_t{first.sectors} * cd::kUserBytes;
    if (cooked) return data_key(first.size_bytes, sha1_of(first.hashes));
  }
  std::string lines;
  for (const TrackCheck& t : result.tracks) {
    std::string sha1 = sha1_of(t.hashes);
    for (const OtherForm& other : result.others)
      if (other.track == t.number) sha1 = sha1_of(other.file.hashes);
    if (sha1.empty()) return {};
    lines += fmt::format("{} {} {} {}\n", t.number, t.mode.is_audio() ? "audio" : "data", t.sectors, sha1);
  }
  // A disc of several sessions is not the one of which only the tracks were kept.
  for (const cd::Track& t : image.cd()->layout().tracks)
    if (t.session > 1) lines += fmt::format("{} in session {}\n", t.number, t.session);
  return "disc:" + digest_of("sha1", as_view(lines));
}

std::string rom_key(const CheckResult& result) {
  return fmt::format("rom:{}:{}", result.rom->size_bytes, sha1_of(result.rom->hashes));
}

std::string content_key(const Image& image, const CheckResult& result, JobContext& context) {
  // What is not whole is not the same as anything.
  if (!image.complete || result.verdict == Verdict::incomplete) return {};
  // With what stands around its ROM it is more than the ROM: a header tells of the board.
  if (result.rom && result.files.size() == 1 && result.files.front().size_bytes != result.rom->size_bytes)
    return "file:" + sha1_of(result.files.front().hashes);
  if (result.rom) return rom_key(result);
  if (!result.tracks.empty()) return disc_key(image, result);
  if (result.disc) return data_key(result.disc->size_bytes, sha1_of(result.disc->hashes));
  if (!image.blocks()) {
    // A package: its own bytes.
    return result.files.size() == 1 ? "file:" + sha1_of(result.files.front().hashes) : "";
  }
  if (result.files.size() == 1) return data_key(result.files.front().size_bytes, sha1_of(result.files.front().hashes));
  // Parts of a file: of all of them together nobody has the hash yet.
  const SourcePtr whole = image.stored_blocks();
  return data_key(whole->size(), sha1_of(hash_source(*whole, {"sha1"}, context)));
}

bool may_be_trimmed(const Image& image) {
  const VolumePlace place{image.blocks(), 0, image.keys.get()};
  return std::any_of(file_systems().begin(), file_systems().end(),
                     [&](const FileSystem* system) { return system->often_trimmed && system->read(place); });
}

std::vector<Volume> volumes_of(const Image& image) {
  try {
    if (!may_be_trimmed(image)) return {};
    return read_volumes(image);
  } catch (const Error& e) {
    if (e.details.fault != Fault::refused) throw;
    return {};  // no key, or broken: the check has told it, and nobody can say which files are in it
  }
}

/// Where a disc may be trimmed or laid out anew, the files in it are what two copies have in common.
std::string game_key(const Image& image, const CheckResult& result, JobContext& context) {
  if (!image.complete || result.verdict == Verdict::incomplete) return {};
  if (result.rom) return rom_key(result);
  if (!image.blocks() || result.verdict > Verdict::repairable) return {};
  const std::vector<Volume> volumes = volumes_of(image);
  if (volumes.empty()) return {};
  Digest all("sha1");
  std::uint64_t files = 0;
  for (const Volume& volume : volumes) {
    const FileSystem* system = file_system_of(volume);
    if (!system || !system->often_trimmed || !volume.unlisted.empty() || volume.damaged()) return {};
    std::vector<const VolumeEntry*> entries;
    for (const VolumeEntry& e : volume.entries) {
      if (e.kind != EntryKind::file) continue;
      if (!e.sound) return {};
      entries.push_back(&e);
    }
    std::sort(entries.begin(), entries.end(),
              [](const VolumeEntry* a, const VolumeEntry* b) { return a->path < b->path; });
    for (const VolumeEntry* e : entries) {
      all.update(as_view(fmt::format("{}:{}:{}\n", e->path.size(), e->path, e->size_bytes)));
      const SourcePtr source = volume.open(*e);
      Bytes block(1 << 20);
      for (std::uint64_t at = 0; at < source->size();) {
        context.progress.check_stop();
        const std::size_t n = static_cast<std::size_t>(std::min<std::uint64_t>(block.size(), source->size() - at));
        source->read_at(at, std::span(block).first(n));
        all.update(ByteView(block).first(n));
        at += n;
      }
      ++files;
    }
    all.update(as_view(std::string_view("end\n")));
  }
  return files == 0 ? "" : "files:" + all.finish();
}

void add_contents(ShelfItem& item, const KnownCollector::KeptImage& kept) {
  for (std::uint32_t f = 0; f < kept.files.size(); ++f) {
    const CollectedFile& file = kept.files[f];
    ShelfContent content{.path = file.path, .sheet = file.path == kept.sheet};
    for (std::size_t v = 0; v < file.views.size(); ++v) {
      const ListedView& view = file.views[v];
      if (v > 0)
        content = {.kind = ShelfContent::Kind::view,
                   .through = view.through,
                   .of = {f},
                   .disk = view.kind == ListedKind::disk};
      content.size_bytes = view.size_bytes;
      set_hashes(content, view.hashes);
      item.contents.push_back(content);
    }
  }
  for (const CollectedPiece& piece : kept.pieces) {
    ShelfContent content{.kind = ShelfContent::Kind::piece, .path = piece.path, .merged = piece.merged};
    for (const std::size_t f : piece.files) content.of.push_back(static_cast<std::uint32_t>(f));
    content.size_bytes = piece.view.size_bytes;
    set_hashes(content, piece.view.hashes);
    item.contents.push_back(std::move(content));
  }
}

void add_identity(ShelfItem& item, const Identity& id, const std::string& stem) {
  item.platform = id.platform;
  item.title = id.title;
  item.serial = id.serial.empty() ? id.title_id : id.serial;
  item.region = id.region;
  unsigned disc = 0, discs = 0;
  if (std::sscanf(id.disc.c_str(), "%u of %u", &disc, &discs) < 1) disc = discs = 0;
  constexpr unsigned kMost = 99;
  const auto name = disc_in(stem);
  if (name) {
    item.disc = name->number;
    item.set = name->rest;
  } else if (disc > 0 && disc <= kMost && discs > 1) {
    item.disc = static_cast<int>(disc);
    item.set = fold_case(id.title.empty() ? stem : id.title);
  }
  if (!item.set.empty() && discs > 1 && discs <= kMost) item.discs = static_cast<int>(discs);
}

/// What dump programs and archives have put around a name.
std::string stem_of(const ShelfItem& item) {
  const std::string& name = item.inside.empty() || item.archive.empty() ? item.path : item.inside;
  return fs::path(name).stem().string();
}

std::string first_trouble(const CheckResult& result, Verdict verdict) {
  // What verifies nothing has its warnings; only an error is trouble.
  const Severity least = verdict == Verdict::unsupported ? Severity::error : Severity::warning;
  const Finding* worst = nullptr;
  for (const Finding& f : result.findings)
    if (f.severity >= least && (!worst || f.severity > worst->severity)) worst = &f;
  return worst ? worst->message : "";
}

std::vector<fs::path> files_behind(const Source& source, const Image& image) {
  std::vector<fs::path> files;
  const auto add = [&](const fs::path& path) {
    if (std::find(files.begin(), files.end(), path) == files.end()) files.push_back(path);
  };
  if (!source.volumes.empty()) {
    for (const fs::path& volume : source.volumes) add(volume);
    return files;
  }
  add(image.path);
  if (!image.parts.empty()) {
    for (const fs::path& part : image.parts) add(part);
  } else {
    for (const ImageFile& f : image.files)
      if (!f.missing) add(f.path);
  }
  for (const fs::path& other : image.also_read) add(other);
  return files;
}

/// Absolute, as a scan has it.
std::string absolute_text(const fs::path& path) { return fs::absolute(path).lexically_normal().string(); }

std::vector<ShelfFile> look_at_all(const std::vector<fs::path>& paths) {
  std::vector<ShelfFile> files;
  for (const fs::path& path : paths)
    if (auto file = look_at(absolute_text(path))) files.push_back(std::move(*file));
  return files;
}

/// After reading: whatever is not as it was before is read again the next time.
bool settle(ShelfItem& item, std::int64_t began_ns) {
  bool changed = false;
  for (ShelfFile& file : item.files) {
    const auto now = look_at(file.path);
    const bool same = now && file.same_state(*now);
    changed = changed || !same;
    if (!same || is_too_young(file, began_ns)) file.modified_ns = ShelfFile::kUnsettled;
  }
  return changed;
}

std::uint64_t total_of(const std::vector<ShelfFile>& files) {
  std::uint64_t sum = 0;
  for (const ShelfFile& f : files) sum += f.size_bytes;
  return sum;
}

void fail(ShelfReading& reading, const Error& e) {
  if (e.details.fault == Fault::interrupted) throw Error(e);
  ShelfItem& item = reading.item;
  item.verdict = "unread";
  item.remark = e.details.found.empty() ? e.details.what : e.details.what + ": " + e.details.found;
  item.complete = false;
  item.contents.clear();
  item.content_key.clear();
  item.game_key.clear();
  // A drive that failed may answer the next time, and a key may be there; what is no image stays none.
  const bool may_succeed =
      e.details.fault == Fault::device || e.details.cause == Cause::no_key || e.details.cause == Cause::wrong_key;
  if (may_succeed)
    for (ShelfFile& f : item.files) f.modified_ns = ShelfFile::kUnsettled;
  reading.error = e;
}

void check_into(ShelfReading& reading, const Source& source, const Image& image, JobContext& context) {
  ShelfItem& item = reading.item;
  item.format = image.format->id;
  item.complete = image.complete;
  CheckOptions options;
  options.hashes = kHashNames;
  const std::set<std::uint64_t> sizes = other_sizes(image);
  if (!sizes.empty()) options.wants_whole = [&](std::uint64_t size) { return sizes.contains(size); };
  const CheckResult result = check_image(image, options, context);
  reading.bytes_read = result.bytes_read;
  const Identity id = identify_platform(image);
  add_identity(item, id, stem_of(item));
  item.verdict = to_string(result.verdict);
  if (result.verdict != Verdict::intact) item.remark = first_trouble(result, result.verdict);
  const Lists none;
  KnownCollector collector(none, kHashNames);
  collector.add_image(source, image, result, &id);
  const KnownCollector::KeptImage kept = collector.kept();
  add_contents(item, kept);
  item.state = kept.incomparable.substr(0, kept.incomparable.find(':'));
  if (result.disc)
    item.content_bytes = result.disc->size_bytes;
  else if (result.rom)
    item.content_bytes = result.rom->size_bytes;
  else if (!result.tracks.empty())
    for (const TrackCheck& t : result.tracks) item.content_bytes += t.size_bytes;
  else
    item.content_bytes = image.size_bytes();
  const bool packs = image.container && !image.container->shares().empty() && item.stored_bytes < item.content_bytes;
  item.compressed = packs || !item.archive.empty();
  item.content_key = content_key(image, result, context);
  item.game_key = game_key(image, result, context);
}

}  // namespace

std::pair<std::string, std::string> place_in_shelf(const Source& source) {
  const fs::path& archive = source.input.options.archive;
  if (!archive.empty()) {
    const fs::path lead = source.volumes.empty() ? archive : source.volumes.front();
    return {absolute_text(lead), source.input.path.lexically_relative(archive).generic_string()};
  }
  return {absolute_text(source.input.path), source.input.options.pick};
}

ShelfReading read_for_shelf(const Source& source, JobContext& context) {
  ShelfReading reading;
  ShelfItem& item = reading.item;
  std::tie(item.path, item.inside) = place_in_shelf(source);
  item.kind = to_string(SurveyKind::image);
  item.archive = source.archive_kind;
  const std::int64_t began = nanoseconds_now();
  try {
    const std::vector<fs::path> lead =
        source.volumes.empty() ? std::vector<fs::path>{source.input.path} : source.volumes;
    item.files = look_at_all(lead);
    const Image image = open_source(source.input);
    item.files = look_at_all(files_behind(source, image));
    item.stored_bytes = total_of(item.files);
    check_into(reading, source, image, context);
  } catch (const Error& e) {
    fail(reading, e);
  }
  reading.changed_meanwhile = settle(item, began);
  item.checked_at = began / 1'000'000'000;
  return reading;
}

namespace {

ShelfItem item_of(const SurveyItem& found) {
  ShelfItem item{.host = "", .path = absolute_text(found.path)};
  item.kind = to_string(found.kind);
  item.format = found.format;
  item.complete = found.complete;
  add_identity(item, found.id, stem_of(item));
  if (!found.warnings.empty()) item.remark = found.warnings.front().message;
  return item;
}

std::vector<fs::path> files_of(const SurveyItem& found) {
  if (found.kind != SurveyKind::game_folder) return found.files;
  std::vector<fs::path> files;
  for (const auto& entry : fs::recursive_directory_iterator(found.path)) {
    std::error_code ignored;
    if (!entry.is_symlink(ignored) && entry.is_regular_file(ignored)) files.push_back(entry.path());
  }
  std::sort(files.begin(), files.end());
  return files;
}

}  // namespace

ShelfReading read_for_shelf(const SurveyItem& found, JobContext& context) {
  ShelfReading reading;
  ShelfItem& item = reading.item;
  item = item_of(found);
  const std::int64_t began = nanoseconds_now();
  try {
    item.files = look_at_all(files_of(found));
    item.stored_bytes = item.content_bytes = total_of(item.files);
    Digest all("sha1");
    for (const ShelfFile& file : item.files) {
      ShelfContent content{.path = file.path, .size_bytes = file.size_bytes};
      set_hashes(content, hash_file(file.path, kHashNames, context));
      reading.bytes_read += file.size_bytes;
      const std::string name = fs::path(file.path).lexically_relative(item.path).generic_string();
      all.update(as_view(fmt::format("{}:{} {}\n", name.size(), name, content.sha1)));
      item.contents.push_back(std::move(content));
    }
    // Nothing in it verifies its bytes: they are only known from now on.
    item.verdict = to_string(found.complete ? Verdict::unsupported : Verdict::incomplete);
    if (found.complete) item.remark.clear();  // what the survey warns of is no damage
    if (found.complete && !item.contents.empty())
      item.content_key = found.kind == SurveyKind::game_folder ? "folder:" + all.finish()
                         : item.contents.size() == 1           ? "file:" + item.contents.front().sha1
                                                               : "";
  } catch (const Error& e) {
    fail(reading, e);
  } catch (const fs::filesystem_error& e) {
    fail(reading,
         Error({.fault = Fault::device, .code = "unreadable_folder", .what = e.code().message(), .file = item.path}));
  }
  reading.changed_meanwhile = settle(item, began);
  item.checked_at = began / 1'000'000'000;
  return reading;
}

ShelfItem unread_item(const SurveyItem& found) {
  ShelfItem item = item_of(found);
  item.files = look_at_all(found.files);
  const std::int64_t now = nanoseconds_now();
  settle(item, now);
  item.stored_bytes = total_of(item.files);
  item.verdict = "unread";
  item.complete = false;
  if (!found.warnings.empty() && found.warnings.front().fault == Fault::device)
    for (ShelfFile& f : item.files) f.modified_ns = ShelfFile::kUnsettled;
  item.checked_at = now / 1'000'000'000;
  return item;
}

KnownCollector::KeptImage kept_image(const ShelfItem& item, const std::vector<ShelfContent>& contents) {
  KnownCollector::KeptImage kept{
      .name = place_of(item), .files = {}, .pieces = {}, .sheet = {}, .incomparable = item.state};
  std::vector<std::size_t> numbers;  // of the item's files among those that are kept
  const auto view_of = [](const ShelfContent& c) {
    ListedView view{
        .kind = c.disk ? ListedKind::disk : ListedKind::rom, .through = c.through, .size_bytes = c.size_bytes};
    for (const auto& [name, value] :
         {std::pair{"crc32", &c.crc32}, std::pair{"md5", &c.md5}, std::pair{"sha1", &c.sha1}})
      if (!value->empty()) view.hashes.push_back({name, *value});
    return view;
  };
  for (const ShelfContent& c : contents) {
    const bool fits = std::all_of(c.of.begin(), c.of.end(), [&](std::uint32_t f) { return f < kept.files.size(); });
    if (!fits) continue;  // of a shelf that somebody wrote by hand
    switch (c.kind) {
      case ShelfContent::Kind::file: {
        CollectedFile file{.path = c.path, .base = c.path.substr(c.path.find_last_of("/!") + 1), .archive = {}};
        if (!item.archive.empty()) file.archive = item.path;
        file.views.push_back(view_of(c));
        file.not_comparable = item.state;
        if (c.sheet) kept.sheet = c.path;
        kept.files.push_back(std::move(file));
        break;
      }
      case ShelfContent::Kind::view:
        if (!c.of.empty()) kept.files[c.of.front()].views.push_back(view_of(c));
        break;
      case ShelfContent::Kind::piece: {
        CollectedPiece piece{
            .path = c.path, .files = {c.of.begin(), c.of.end()}, .view = view_of(c), .merged = c.merged};
        kept.pieces.push_back(std::move(piece));
        break;
      }
    }
  }
  return kept;
}

}  // namespace opifex::jobs
