#include "opifex/core/volumes/volume.hpp"

#include <algorithm>
#include <set>
#include <unordered_set>

#include "opifex/core/base/read_budget.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/volumes/file_system.hpp"

namespace opifex {
namespace {

constexpr std::uint64_t kBlock = 2048;

/// Bytes of a file put together from its extents.
class FileSource final : public ByteSource {
 public:
  FileSource(const Volume& volume, const VolumeEntry& entry)
      : disc_(volume.disc), name_(entry.path), size_(entry.size_bytes) {
    std::uint64_t at = 0;
    for (const VolumeExtent& e : entry.extents) {
      if (e.size_bytes == 0) continue;
      const auto first = static_cast<std::uint64_t>(static_cast<std::int64_t>(e.sector) + volume.shift);
      pieces_.push_back({at, first, e});
      at += e.size_bytes;
    }
    size_ = std::min(size_, at);
  }
  std::uint64_t size() const override { return size_; }
  std::string name() const override { return name_; }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (offset > size_ || out.size() > size_ - offset)
      throw Error({.code = "truncated", .what = "the file ends too early", .file = name_, .offset = offset});
    if (out.empty()) return;  // an empty file has no piece to look for
    auto piece = std::prev(std::upper_bound(pieces_.begin(), pieces_.end(), offset,
                                            [](std::uint64_t o, const Piece& p) { return o < p.at; }));
    for (; !out.empty(); ++piece) {
      const std::uint64_t inside = offset - piece->at;
      const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), piece->extent.size_bytes - inside));
      read_piece(*piece, inside, out.first(n));
      out = out.subspan(n);
      offset += n;
    }
  }

 private:
  struct Piece {
    std::uint64_t at = 0, first = 0;  // in the file; sector of the disc
    VolumeExtent extent;
  };
  void read_piece(const Piece& p, std::uint64_t inside, std::span<std::byte> out) const {
    const VolumeExtent& e = p.extent;
    if (!e.recorded) return static_cast<void>(std::fill(out.begin(), out.end(), std::byte{0}));
    if (e.unit == 0) return disc_->read_at(p.first * kBlock + inside, out);
    const std::uint64_t run = e.unit * kBlock;
    while (!out.empty()) {
      const std::uint64_t number = inside / run, within = inside % run;
      const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), run - within));
      disc_->read_at((p.first + number * (e.unit + e.gap)) * kBlock + within, out.first(n));
      out = out.subspan(n);
      inside += n;
    }
  }

  SourcePtr disc_;
  std::string name_;
  std::uint64_t size_;
  std::vector<Piece> pieces_;
};

/// Streamed files of discs whose directories do not say so: their sectors do. A few of each file are looked at, the
/// first ones together, for streams and data take turns within a dozen sectors.
void find_form2(const CdImage& disc, const cd::Track& track, Volume& volume) {
  if (track.mode.kind == cd::TrackMode::Kind::mode1 || track.mode.sector_bytes < cd::kForm2Bytes) return;
  constexpr std::uint64_t kTogether = 16, kSpread = 16;
  constexpr unsigned kForm2 = 0x20;
  cd::Sector sector;
  for (VolumeEntry& e : volume.entries) {
    if (e.kind != EntryKind::file || e.form2 || !e.sound || e.extents.empty()) continue;
    const VolumeExtent& x = e.extents.front();
    const std::uint64_t count = x.sectors();
    std::uint64_t streamed = 0, looked = 0;
    for (std::uint64_t i = 0; i < count; i += i < kTogether ? 1 : std::max<std::uint64_t>(1, count / kSpread)) {
      const auto lba = static_cast<cd::Lba>(static_cast<std::int64_t>(x.sector + i) + volume.shift);
      if (lba < track.start_lba || lba >= track.end_lba) break;
      disc.read_sector(lba, sector);
      ++looked;
      if ((std::to_integer<unsigned>(sector[cd::kSubheaderAt + 2]) & kForm2) != 0) ++streamed;
    }
    if (streamed == 0) continue;
    e.form2 = true;
    e.attributes += std::string(e.attributes.empty() ? "" : ",") + (streamed == looked ? "form2" : "interleaved");
  }
}

/// Every file of `a` is one of `b` by its path.
bool same_names(const Volume& a, const Volume& b) {
  std::unordered_set<std::string> names;
  for (const VolumeEntry& e : b.entries) names.insert(fold_case(e.path));
  return std::all_of(a.entries.begin(), a.entries.end(), [&](const VolumeEntry& e) {
    return e.kind != EntryKind::file || e.size_bytes == 0 || names.contains(fold_case(e.path));
  });
}

/// Every file of `a` is one of `b` by its sectors, whatever it is called there.
bool all_in(const Volume& a, const Volume& b) {
  const auto place = [](const Volume& v, const VolumeEntry& e) {
    return std::pair(static_cast<std::int64_t>(e.extents.front().sector) + v.shift, e.size_bytes);
  };
  std::set<std::pair<std::int64_t, std::uint64_t>> places;
  for (const VolumeEntry& e : b.entries)
    if (e.kind == EntryKind::file && !e.extents.empty()) places.insert(place(b, e));
  return std::all_of(a.entries.begin(), a.entries.end(), [&](const VolumeEntry& e) {
    return e.kind != EntryKind::file || e.size_bytes == 0 || e.extents.empty() || places.contains(place(a, e));
  });
}

/// Of two file systems for one disc only one is shown: what is wrong with the other must not go with it.
void tell_beside(const Volume& hidden, const std::string& which, Volume& shown) {
  std::vector<VolumeProblem> problems;
  for (const VolumeProblem& p : hidden.problems)
    if (is_damage(p.weight)) problems.push_back({p.code, which + p.message, p.weight});
  shown.problems.insert(shown.problems.end(), problems.begin(), problems.end());
}

/// One of several file systems of a place: what is broken beyond listing must not hide a sound one beside it.
template <typename Read>
std::optional<Volume> read_beside(const Read& read, std::optional<Error>& broken) {
  try {
    return read();
  } catch (const Error& e) {
    if (e.details.fault != Fault::refused) throw;
    if (!broken) broken = e;
    return std::nullopt;
  }
}

/// The file systems of one place: a data track, or the image itself.
class PlaceReader {
 public:
  PlaceReader(VolumePlace place, std::vector<Volume>& volumes)
      : place_(std::move(place)), volumes_(volumes), before_(volumes.size()) {}

  void read() {
    if (read_alone()) return;
    read_company();
    choose_between();
    if (found_.empty()) read_last();
    const bool first = volumes_.empty();
    for (Found& f : found_) volumes_.push_back(std::move(f.volume));
    tell_broken("another file system beside it: ");
    if (first) read_next();
  }

 private:
  struct Found {
    const FileSystem* system;
    Volume volume;
  };

  bool fits(const FileSystem& system) const { return system.of_disc() && (system.anywhere || place_.start == 0); }

  /// A console's own: nothing else is asked after it.
  bool read_alone() {
    for (const FileSystem* system : file_systems()) {
      if (system->company != Company::none || !fits(*system)) continue;
      if (auto volume = system->read(place_)) {
        volumes_.push_back(std::move(*volume));
        return true;
      }
    }
    return false;
  }

  void read_company() {
    for (const FileSystem* system : file_systems()) {
      if (system->company != Company::others || !fits(*system)) continue;
      if (auto volume = read_beside([&] { return system->read(place_); }, broken_))
        found_.push_back({system, std::move(*volume)});
      else if (system->lost_mark && !broken_ && !found_.empty())
        if (auto problem = system->lost_mark(*place_.disc))
          found_.front().volume.problems.push_back(std::move(*problem));
    }
    for (const Found& f : found_)
      if (f.system->next) ends_.push_back({f.system, f.system->next(*place_.disc, f.volume)});
  }

  /// Of two that name the same files one is shown: the first, unless it tells less.
  void choose_between() {
    if (found_.size() != 2) return;
    Found &first = found_[0], &second = found_[1];
    const std::string beside = fmt::format("{}_beside", second.system->short_id);
    const auto article = [](const FileSystem& s) { return s.title.starts_with("I") ? "an" : "a"; };
    const std::string one = fmt::format("{} {} file system beside it ", article(*second.system), second.system->title);
    if (same_names(second.volume, first.volume)) {
      tell_beside(second.volume, fmt::format("the {} file system beside it: ", second.system->title), first.volume);
      first.volume.problems.push_back({beside, one + "names the same files", Weight::note});
      found_.pop_back();
    } else if (all_in(first.volume, second.volume)) {
      tell_beside(first.volume, fmt::format("the {} file system beside it: ", first.system->title), second.volume);
      second.volume.problems.push_back({fmt::format("{}_beside", first.system->short_id),
                                        fmt::format("{} {} file system beside it names the same files, shorter",
                                                    article(*first.system), first.system->title),
                                        Weight::note});
      found_.erase(found_.begin());
    } else {
      first.volume.problems.push_back({beside, one + "has files of its own: it is listed, too", Weight::note});
    }
  }

  void read_last() {
    for (const FileSystem* system : file_systems()) {
      if (system->company != Company::last || !fits(*system)) continue;
      if (auto volume = system->read(place_)) return volumes_.push_back(std::move(*volume));
    }
  }

  /// What could not be listed is a problem of the sound one beside it, or the answer for this place.
  void tell_broken(const std::string& which) {
    if (!broken_) return;
    if (volumes_.size() == before_) throw Error(*broken_);
    volumes_[before_].problems.push_back({broken_->details.code, which + broken_->details.what, Weight::damage});
    broken_.reset();
  }

  /// Behind the first one (a second layer).
  void read_next() {
    for (const auto& [system, start] : ends_) {
      if (!start) continue;
      const VolumePlace next{place_.disc, *start, place_.keys};
      if (auto volume = read_beside([&, s = system] { return s->read(next); }, broken_))
        volumes_.push_back(std::move(*volume));
      tell_broken("a second file system: ");
    }
  }

  VolumePlace place_;
  std::vector<Volume>& volumes_;
  std::size_t before_;
  std::vector<Found> found_;
  std::vector<std::pair<const FileSystem*, std::optional<std::uint64_t>>> ends_;
  std::optional<Error> broken_;
};

VolumeHost host_of(const BlockContent& blocks) {
  return blocks.medium == BlockMedium::floppy ? VolumeHost::floppy : VolumeHost::memory_card;
}

/// Floppies and memory cards: the first system that knows the image, and what it has behind it.
void read_small(const BlockContent& blocks, std::vector<Volume>& volumes) {
  for (const FileSystem* system : file_systems()) {
    if (system->host != host_of(blocks)) continue;
    std::optional<std::uint64_t> start = 0;
    while (start) {
      auto volume = system->read({blocks.bytes, *start, nullptr});
      if (!volume) break;
      start = system->next ? system->next(*blocks.bytes, *volume) : std::nullopt;
      volumes.push_back(std::move(*volume));
    }
    if (!volumes.empty()) return;
  }
}

void read_at_place(VolumePlace place, std::vector<Volume>& volumes) { PlaceReader(std::move(place), volumes).read(); }

}  // namespace

std::string_view to_string(EntryKind kind) {
  return kind == EntryKind::file     ? "file"
         : kind == EntryKind::folder ? "folder"
         : kind == EntryKind::link   ? "link"
                                     : "audio";
}

std::string_view to_string(Weight weight) {
  return weight == Weight::note ? "note" : is_damage(weight) ? "damage" : "warning";
}

std::uint64_t VolumeExtent::sectors() const {
  // Not size + 2047: a size near 2^64 must not come round.
  const std::uint64_t n = size_bytes / kBlock + (size_bytes % kBlock != 0 ? 1 : 0);
  return unit == 0 || n == 0 ? n : n + (n - 1) / unit * gap;
}

void Volume::tell(const char* code, Weight weight, std::string message, std::optional<std::uint64_t> place) {
  // Each weight has room of its own: however many warnings there are, the first damage is told.
  const auto told = static_cast<std::size_t>(
      std::count_if(problems.begin(), problems.end(), [&](const VolumeProblem& p) { return p.weight == weight; }));
  if (told < ReadBudget::kMostProblems) problems.push_back({code, std::move(message), weight, place});
}

bool Volume::damaged() const {
  return std::any_of(problems.begin(), problems.end(), [](const VolumeProblem& p) { return is_damage(p.weight); });
}

std::uint64_t Volume::total_bytes() const {
  std::uint64_t sum = 0;
  for (const VolumeEntry& e : entries)
    if (e.kind == EntryKind::file) sum += e.size_bytes;
  return sum;
}

const VolumeEntry* Volume::find(std::string_view path) const {
  const std::string wanted = fold_case(path);
  const auto at =
      std::find_if(entries.begin(), entries.end(), [&](const VolumeEntry& e) { return fold_case(e.path) == wanted; });
  return at == entries.end() ? nullptr : &*at;
}

SourcePtr Volume::open(const VolumeEntry& entry) const {
  if (entry.inside) return memory_source(*entry.inside, entry.path);
  if (!entry.sound && !entry.flaw.empty())
    throw Error({.code = "not_readable",
                 .what = "a file cannot be read whole",
                 .file = disc->name(),
                 .found = printable(entry.path) + ": " + entry.flaw,
                 .hint = "<damaged> writes what is left of it"});
  if (!entry.sound)
    throw Error({.code = "extent_outside",
                 .what = "a file lies outside the image",
                 .file = disc->name(),
                 .found = printable(entry.path),
                 .expected = fmt::format("inside {} sectors", disc->size() / kBlock),
                 .hint = "the image is cut short: dump the disc again"});
  if (entry.source) return entry.source;
  return std::make_shared<FileSource>(*this, entry);
}

std::vector<Volume> read_volumes(const Image& image) {
  std::vector<Volume> volumes;
  if (std::holds_alternative<FileContent>(image.content)) {
    for (const FileSystem* system : file_systems())
      if (system->host == VolumeHost::package && system->id == image.format->id)
        if (auto volume = system->read({image.files.front().source, 0, nullptr})) volumes.push_back(std::move(*volume));
    return volumes;
  }
  const auto* blocks = std::get_if<BlockContent>(&image.content);
  if (blocks && !blocks->is_disc()) {
    read_small(*blocks, volumes);
  } else if (image.blocks()) {
    read_at_place({image.stored_blocks(), 0, image.keys.get()}, volumes);
  } else if (image.cd()) {
    for (const cd::Track& t : image.cd()->layout().tracks) {
      if (t.mode.is_audio() || t.incomplete) continue;
      const std::size_t before = volumes.size();
      read_at_place({user_data_source(image.cd(), t.number), static_cast<std::uint64_t>(std::max(0, t.start_lba)),
                     image.keys.get()},
                    volumes);
      for (std::size_t v = before; v < volumes.size(); ++v) find_form2(*image.cd(), t, volumes[v]);
    }
  }
  return volumes;
}

}  // namespace opifex
