#include "opifex/core/volumes/volume.hpp"

#include <algorithm>
#include <set>
#include <unordered_set>

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/volumes/gamecube_volume.hpp"
#include "opifex/core/volumes/iso9660_volume.hpp"
#include "opifex/core/volumes/opera_volume.hpp"
#include "opifex/core/volumes/stfs_volume.hpp"
#include "opifex/core/volumes/udf_volume.hpp"
#include "opifex/core/volumes/wii_disc.hpp"
#include "opifex/core/volumes/xdvdfs_volume.hpp"

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
    if (p.weight == Weight::damage) problems.push_back({p.code, which + p.message, p.weight});
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

/// One place a volume may begin at: a data track, or the image itself.
void read_at_place(const SourcePtr& disc, std::uint64_t start, const KeyRing* keys, std::vector<Volume>& volumes) {
  // The disc of these consoles begins with a small one for video players: it is not what the user asks for.
  if (start == 0)
    if (auto game = read_xdvdfs(disc)) {
      volumes.push_back(std::move(*game));
      return;
    }
  if (start == 0)
    if (auto game = read_gamecube(disc)) {
      volumes.push_back(std::move(*game));
      return;
    }
  if (start == 0)
    if (const auto wii = read_wii_disc(disc, keys)) {
      volumes.push_back(read_wii_volume(disc, *wii));
      return;
    }
  std::optional<Error> broken;
  const std::size_t before = volumes.size();
  auto iso = read_beside([&] { return read_iso9660(disc, start); }, broken);
  auto udf = start == 0 ? read_beside([&] { return read_udf(disc); }, broken) : std::nullopt;
  if (iso && !udf && !broken && start == 0 && has_udf_anchor(*disc))
    iso->problems.push_back(
        {"udf_unmarked", "a UDF file system beside it lost its mark: players will not find it", Weight::damage});
  const std::uint64_t iso_blocks = iso ? iso->blocks : 0;
  if (iso && udf) {
    if (same_names(*udf, *iso)) {
      tell_beside(*udf, "the UDF file system beside it: ", *iso);
      iso->problems.push_back({"udf_beside", "a UDF file system beside it names the same files", Weight::note});
      udf.reset();
    } else if (all_in(*iso, *udf)) {
      tell_beside(*iso, "the ISO 9660 file system beside it: ", *udf);
      udf->problems.push_back(
          {"iso_beside", "an ISO 9660 file system beside it names the same files, shorter", Weight::note});
      iso.reset();
    } else {
      iso->problems.push_back(
          {"udf_beside", "a UDF file system beside it has files of its own: it is listed, too", Weight::note});
    }
  }
  if (start == 0 && !iso && !udf)
    if (auto opera = read_opera(disc)) volumes.push_back(std::move(*opera));
  const bool first = volumes.empty();
  if (iso) volumes.push_back(std::move(*iso));
  if (udf) volumes.push_back(std::move(*udf));
  if (broken) {
    if (volumes.size() == before) throw *broken;
    volumes[before].problems.push_back(
        {broken->details.code, "another file system beside it: " + broken->details.what, Weight::damage});
    broken.reset();
  }
  // A second layer begins where the volume ends, with a descriptor in its first sector.
  constexpr std::uint64_t kDescriptors = 16;
  if (!first || iso_blocks <= kDescriptors) return;
  const Bytes head = read_up_to(*disc, iso_blocks * kBlock, 6);
  if (head.size() == 6 && head[0] == std::byte{1} && as_text(head).substr(1) == "CD001") {
    auto second = read_beside([&] { return read_iso9660(disc, iso_blocks - kDescriptors); }, broken);
    if (second) volumes.push_back(std::move(*second));
    if (broken)
      volumes[before].problems.push_back(
          {broken->details.code, "a second file system: " + broken->details.what, Weight::damage});
  }
}

}  // namespace

std::string_view to_string(EntryKind kind) {
  return kind == EntryKind::file     ? "file"
         : kind == EntryKind::folder ? "folder"
         : kind == EntryKind::link   ? "link"
                                     : "audio";
}

std::string_view to_string(Weight weight) {
  return weight == Weight::note ? "note" : weight == Weight::warning ? "warning" : "damage";
}

std::uint64_t VolumeExtent::sectors() const {
  // Not size + 2047: a size near 2^64 must not come round.
  const std::uint64_t n = size_bytes / kBlock + (size_bytes % kBlock != 0 ? 1 : 0);
  return unit == 0 || n == 0 ? n : n + (n - 1) / unit * gap;
}

bool Volume::damaged() const {
  return std::any_of(problems.begin(), problems.end(),
                     [](const VolumeProblem& p) { return p.weight == Weight::damage; });
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
  if (entry.source) return entry.source;
  if (!entry.sound)
    throw Error({.code = "extent_outside",
                 .what = "a file lies outside the image",
                 .file = disc->name(),
                 .found = printable(entry.path),
                 .expected = fmt::format("inside {} sectors", disc->size() / kBlock),
                 .hint = "the image is cut short: dump the disc again"});
  return std::make_shared<FileSource>(*this, entry);
}

bool is_safe_name(std::string_view name) {
  if (name.empty() || name == "." || name == ".." || !is_utf8(name)) return false;
  return std::none_of(name.begin(), name.end(), [](char c) {
    return c == '/' || c == '\\' || static_cast<unsigned char>(c) < 0x20 || c == 0x7F;
  });
}

std::vector<Volume> read_volumes(const Image& image) {
  std::vector<Volume> volumes;
  if (std::holds_alternative<FileContent>(image.content)) {
    volumes.push_back(read_stfs(image.files.front().source).volume);
    return volumes;
  }
  if (image.blocks()) {
    read_at_place(image.stored_blocks(), 0, image.keys.get(), volumes);
  } else if (image.cd()) {
    for (const cd::Track& t : image.cd()->layout().tracks) {
      if (t.mode.is_audio() || t.incomplete) continue;
      const std::size_t before = volumes.size();
      read_at_place(user_data_source(image.cd(), t.number), static_cast<std::uint64_t>(std::max(0, t.start_lba)),
                    image.keys.get(), volumes);
      for (std::size_t v = before; v < volumes.size(); ++v) find_form2(*image.cd(), t, volumes[v]);
    }
  }
  return volumes;
}

}  // namespace opifex
