#include "opifex/core/image/cd_image.hpp"

#include <algorithm>
#include <limits>

#include "opifex/core/cd/examine.hpp"

#include "sector_watch.hpp"

namespace opifex {
namespace {

using cd::Lba;
using cd::SectorKind;

constexpr std::size_t kQTailBytes = 16;

cd::SectorSpan sector_at(std::span<std::byte> run, std::size_t i) {
  return cd::SectorSpan(run.subspan(i * cd::kRawBytes, cd::kRawBytes));
}

/// Raises one stored sector to the 2352 bytes it has at `lba`.
void raise(StoredForm form, ByteView stored, Lba lba, cd::SectorSpan out) {
  switch (form) {
    case StoredForm::raw:
    case StoredForm::raw_with_pw:
    case StoredForm::raw_with_q:
      std::copy_n(stored.begin(), cd::kRawBytes, out.begin());
      break;
    case StoredForm::mode2:
      cd::put_header(out, lba, 2);
      std::copy(stored.begin(), stored.end(), out.begin() + cd::kSubheaderAt);
      break;
    case StoredForm::form2_user:
      cd::make_form2(out, lba, cd::kForm2Empty, std::span<const std::byte, cd::kForm2Bytes>(stored));
      break;
    case StoredForm::mode1_user:
      cd::make_mode1(out, lba, std::span<const std::byte, cd::kUserBytes>(stored));
      break;
    case StoredForm::form1_user:
      cd::make_form1(out, lba, cd::kForm1Data, std::span<const std::byte, cd::kUserBytes>(stored));
      break;
  }
}

/// The 2048 bytes a raw sector holds. Without a sync the track's mode says where they are: a sector with a damaged sync
/// still gives its data.
void take_user(cd::SectorView s, bool mode1_track, std::span<std::byte> out) {
  const SectorKind kind = cd::kind_of(s);
  std::size_t at = 0;
  if (kind == SectorKind::mode1 || (kind == SectorKind::audio && mode1_track)) at = cd::kMode1UserAt;
  if (kind == SectorKind::mode2_form1 || (kind == SectorKind::audio && !mode1_track)) at = cd::kMode2UserAt;
  if (at == 0)
    std::fill(out.begin(), out.end(), std::byte{0});
  else
    std::copy_n(s.begin() + static_cast<std::ptrdiff_t>(at), cd::kUserBytes, out.begin());
}

void descramble_data(std::span<std::byte> run) {
  for (std::size_t i = 0; i < run.size() / cd::kRawBytes; ++i)
    if (cd::has_sync(sector_at(run, i))) cd::scramble(sector_at(run, i));
}

class UserData final : public ByteSource {
 public:
  UserData(CdImagePtr image, int track) : image_(std::move(image)), track_(*image_->layout().track(track)) {
    for (const Extent& e : image_->extents())
      if (e.track == track) end_ = std::max(end_, e.end());
    end_ = std::max(end_, track_.start_lba);
  }
  std::uint64_t size() const override { return static_cast<std::uint64_t>(std::max(0, end_)) * cd::kUserBytes; }
  std::string name() const override {
    const Extent* e = image_->extent_at(track_.start_lba);
    return e ? e->source->name() : std::string{};
  }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (offset > size() || out.size() > size() - offset)
      throw Error(
          {.code = "truncated",
           .what = "the data track ends too early",
           .file = name(),
           .found = fmt::format("{} sectors", end_),
           .expected = fmt::format("at least {}", ceil_div<std::uint64_t>(offset + out.size(), cd::kUserBytes))});
    std::array<std::byte, cd::kUserBytes> user{};
    while (!out.empty()) {
      const auto lba = static_cast<Lba>(offset / cd::kUserBytes);
      const std::size_t within = offset % cd::kUserBytes, n = std::min(out.size(), cd::kUserBytes - within);
      if (lba >= track_.pregap_lba)
        image_->read(SectorForm::user, lba, 1, user);
      else
        user.fill(std::byte{0});
      std::copy_n(user.begin() + static_cast<std::ptrdiff_t>(within), n, out.begin());
      out = out.subspan(n);
      offset += n;
    }
  }

 private:
  CdImagePtr image_;
  const cd::Track& track_;
  Lba end_ = 0;
};

}  // namespace

std::size_t stored_bytes(StoredForm form) {
  switch (form) {
    case StoredForm::raw:
      return cd::kRawBytes;
    case StoredForm::raw_with_pw:
      return cd::kRawBytes + cd::kSubchannelBytes;
    case StoredForm::raw_with_q:
      return cd::kRawBytes + kQTailBytes;
    case StoredForm::mode2:
      return cd::kMode2Bytes;
    case StoredForm::form2_user:
      return cd::kForm2Bytes;
    case StoredForm::mode1_user:
    case StoredForm::form1_user:
      return cd::kUserBytes;
  }
  return 0;
}

std::size_t sector_bytes(SectorForm form, const Extent& extent) {
  if (form == SectorForm::stored) return stored_bytes(extent.form);
  return form == SectorForm::raw ? cd::kRawBytes : cd::kUserBytes;
}

CdImage::CdImage(cd::Layout layout, std::vector<Extent> extents, std::optional<cd::SubchannelForm> subchannel)
    : layout_(std::move(layout)), extents_(std::move(extents)), subchannel_(subchannel) {
  Lba reached = std::numeric_limits<Lba>::min();
  for (const Extent& e : extents_) {
    if (!layout_.track(e.track) || e.lba < reached || e.lba < -cd::kFirstPregap || e.sectors > cd::kMaxGdRomSectors)
      throw Error({.code = "bad_layout", .what = "the stored sectors contradict the disc's layout"});
    reached = e.end();
    if (e.offset > e.source->size() || e.size_bytes() > e.source->size() - e.offset)
      throw Error({.code = "truncated",
                   .what = "the file is shorter than its layout says",
                   .file = e.source->name(),
                   .found = fmt::format("{} bytes", e.source->size()),
                   .expected = fmt::format("{}", e.offset + e.size_bytes())});
  }
}

std::uint64_t CdImage::stored_sectors() const {
  std::uint64_t sum = 0;
  for (const Extent& e : extents_) sum += e.sectors;
  return sum;
}

const Extent* CdImage::extent_at(Lba lba) const {
  const auto after =
      std::upper_bound(extents_.begin(), extents_.end(), lba, [](Lba at, const Extent& e) { return at < e.lba; });
  if (after == extents_.begin()) return nullptr;
  const Extent& e = *std::prev(after);
  return lba < e.end() ? &e : nullptr;
}

void CdImage::read(SectorForm form, Lba lba, std::uint32_t count, std::span<std::byte> out) const {
  while (count > 0) {
    const Extent* e = extent_at(lba);
    if (!e && form == SectorForm::stored)
      throw Error({.code = "not_stored", .what = fmt::format("no file holds sector {}", lba)});
    const auto run = e ? std::min(count, static_cast<std::uint32_t>(e->end() - lba)) : 1u;
    const std::size_t bytes = (e                         ? sector_bytes(form, *e)
                               : form == SectorForm::raw ? cd::kRawBytes
                                                         : cd::kUserBytes) *
                              run;
    if (e) {
      read_extent(*e, form, lba, run, out.first(bytes));
      if (watch_ && form != SectorForm::user) look(*e, form, lba, run, out.first(bytes));
    } else {
      make_gap(form, lba, out.first(bytes));
    }
    out = out.subspan(bytes);
    lba += static_cast<Lba>(run);
    count -= run;
  }
}

void CdImage::read_extent(const Extent& e, SectorForm form, Lba lba, std::uint32_t count,
                          std::span<std::byte> out) const {
  const std::size_t size = stored_bytes(e.form);
  const std::uint64_t at = e.offset + static_cast<std::uint64_t>(lba - e.lba) * size;
  const bool as_it_lies = form == SectorForm::stored || (form == SectorForm::raw && e.form == StoredForm::raw) ||
                          (form == SectorForm::user && size == cd::kUserBytes);
  if (as_it_lies) {
    e.source->read_at(at, out);
    if (e.swapped) cd::swap_words(out);
    if (e.scrambled && e.form == StoredForm::raw) descramble_data(out);
    return;
  }
  // Through a small buffer, so that a run of any length costs the same memory.
  constexpr std::uint32_t kBatch = 64;
  Bytes stored(size * std::min(count, kBatch));
  const std::size_t out_size = sector_bytes(form, e);
  const bool mode1 = layout_.track(e.track)->mode.kind == cd::TrackMode::Kind::mode1;
  for (std::uint32_t done = 0; done < count;) {
    const std::uint32_t n = std::min(kBatch, count - done);
    const auto batch = std::span(stored).first(size * n);
    e.source->read_at(at + std::uint64_t{done} * size, batch);
    if (e.swapped) cd::swap_words(batch);
    for (std::uint32_t i = 0; i < n; ++i) {
      const auto target = out.subspan((done + i) * out_size, out_size);
      cd::Sector raised;
      const cd::SectorSpan raw = form == SectorForm::raw ? cd::SectorSpan(target) : cd::SectorSpan(raised);
      raise(e.form, batch.subspan(i * size, size), lba + static_cast<Lba>(done + i), raw);
      if (e.scrambled && cd::has_sync(raw)) cd::scramble(raw);
      if (form == SectorForm::user) take_user(raw, mode1, target);
    }
    done += n;
  }
}

void CdImage::make_gap(SectorForm form, Lba lba, std::span<std::byte> out) const {
  std::fill(out.begin(), out.end(), std::byte{0});
  const cd::Track* track = layout_.track_at(lba);
  if (!track) throw Error({.code = "outside_disc", .what = fmt::format("sector {} is on no track", lba)});
  if (form == SectorForm::user || track->mode.is_audio()) return;
  static constexpr std::array<std::byte, cd::kForm2Bytes> kEmpty{};
  const auto sector = cd::SectorSpan(out);
  if (track->mode.kind == cd::TrackMode::Kind::mode1)
    cd::make_mode1(sector, lba, std::span(kEmpty).first<cd::kUserBytes>());
  else
    cd::make_form2(sector, lba, cd::kForm2Empty, kEmpty);
}

/// Sectors with checksums of their own, of the track itself: its pause may hold those of the track before.
bool CdImage::is_watched(const Extent& e, Lba lba) const {
  const bool raw = e.form == StoredForm::raw || e.form == StoredForm::raw_with_pw || e.form == StoredForm::raw_with_q;
  const cd::Track* track = layout_.track(e.track);
  return raw && !track->mode.is_audio() && lba >= track->start_lba;
}

void CdImage::look(const Extent& e, SectorForm form, Lba lba, std::uint32_t count, ByteView bytes) const {
  const std::size_t each = sector_bytes(form, e);
  for (std::uint32_t i = 0; i < count; ++i) {
    const Lba at = lba + static_cast<Lba>(i);
    if (is_watched(e, at)) watch_->look(at, cd::SectorView(bytes.subspan(i * each, cd::kRawBytes)));
  }
}

void CdImage::watch() const {
  if (!extents_.empty()) watch_ = std::make_shared<SectorWatch>(extents_.front().lba, extents_.back().end());
}

std::vector<Lba> CdImage::watched_damage(JobContext& context) const {
  if (!watch_) return {};
  cd::Sector sector;
  for (const Extent& e : extents_)
    for (Lba lba = e.lba; lba < e.end(); ++lba) {
      if (!is_watched(e, lba) || watch_->seen(lba)) continue;
      context.progress.check_stop();
      read_sector(lba, sector);
    }
  return watch_->bad();
}

std::optional<cd::Subchannel> CdImage::subchannel_at(Lba lba) const {
  const Extent* e = extent_at(lba);
  if (!e || !subchannel_ || e->form != StoredForm::raw_with_pw) return std::nullopt;
  cd::Subchannel block;
  const std::uint64_t sector = static_cast<std::uint64_t>(lba - e->lba);
  e->source->read_at(e->offset + sector * stored_bytes(e->form) + cd::kRawBytes, block);
  return *subchannel_ == cd::SubchannelForm::interleaved ? cd::to_packed(block) : block;
}

bool CdImage::subchannel_is_regenerable() const {
  if (!subchannel_) return false;
  for (const Extent& e : extents_)
    for (Lba lba = e.lba; lba < e.end(); ++lba) {
      const auto block = subchannel_at(lba);
      if (!block || all_zero(*block)) continue;
      const cd::QBytes q = cd::make_q(q_position(layout_, lba));
      const bool q_same = std::equal(q.begin(), q.end(), block->begin() + 12);
      // P is a flag of pauses; R to W are free for other uses.
      const auto p = std::span(*block).first(12);
      const bool p_plain = std::all_of(p.begin(), p.end(), [&](std::byte b) { return b == p[0]; });
      if (!q_same || !p_plain || !all_zero(ByteView(*block).subspan(24))) return false;
    }
  return true;
}

SourcePtr user_data_source(CdImagePtr image, int track) { return std::make_shared<UserData>(std::move(image), track); }

cd::QPosition q_position(const cd::Layout& layout, Lba lba) {
  const cd::Track* track = layout.track_at(lba);
  if (!track) return {0, 0, 0, lba, 0};
  int index = 0;
  for (const auto& [number, at] : track->indexes)
    if (lba >= at) index = number;
  if (lba < track->start_lba) index = 0;
  const std::int32_t time = std::abs(lba - track->start_lba);
  return {track->control(), track->number, index, lba, time};
}

}  // namespace opifex
