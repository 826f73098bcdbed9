#include "medium.hpp"

#include <algorithm>

#include "opifex/core/convert/plan.hpp"
#include "opifex/core/image/format.hpp"

namespace opifex::dump {
namespace {

using cd::Lba;

/// Sectors made from the seed: as large a disc as wanted without a file.
class GeneratedTrack final : public ByteSource {
 public:
  GeneratedTrack(const SimTrack& track, Lba first, std::uint64_t seed) : track_(track), first_(first), seed_(seed) {}
  std::uint64_t size() const override { return std::uint64_t{track_.sectors} * cd::kRawBytes; }
  std::string name() const override { return fmt::format("track {}", track_.number); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    while (!out.empty()) {
      const auto inside = static_cast<std::size_t>(offset % cd::kRawBytes);
      const ByteView s = sector(static_cast<std::uint32_t>(offset / cd::kRawBytes));
      const std::size_t n = std::min(out.size(), cd::kRawBytes - inside);
      std::copy_n(s.begin() + static_cast<std::ptrdiff_t>(inside), n, out.begin());
      out = out.subspan(n);
      offset += n;
    }
  }

 private:
  /// Those of a short track are made once: drives read them again and again.
  ByteView sector(std::uint32_t index) const {
    constexpr std::uint32_t kShort = 2000;
    const bool kept = track_.sectors <= kShort;
    if (made_.empty()) {
      made_.resize((kept ? track_.sectors : 1) * cd::kRawBytes);
      is_made_.resize(kept ? track_.sectors : 1);
    }
    const std::size_t place = kept ? index : 0;
    const auto target = std::span(made_).subspan(place * cd::kRawBytes, cd::kRawBytes);
    if (!kept || !is_made_[place]) make(first_ + static_cast<Lba>(index), cd::SectorSpan(target));
    is_made_[place] = true;
    return target;
  }
  void make(Lba lba, cd::SectorSpan out) const {
    std::uint64_t x = sim_mix(seed_ ^ static_cast<std::uint32_t>(lba));
    cd::Sector payload;
    for (std::size_t i = 0; i < payload.size(); i += 8, x = sim_mix(x))
      for (std::size_t k = 0; k < 8; ++k) payload[i + k] = static_cast<std::byte>(x >> 8 * k & 255);
    const auto user = std::span<const std::byte, cd::kUserBytes>(payload.data(), cd::kUserBytes);
    if (track_.mode == cd::TrackMode::Kind::mode1)
      cd::make_mode1(out, lba, user);
    else if (track_.mode == cd::TrackMode::Kind::mode2)
      cd::make_form1(out, lba, cd::kForm1Data, user);
    else
      std::copy(payload.begin(), payload.end(), out.begin());
  }

  SimTrack track_;
  Lba first_;
  std::uint64_t seed_;
  mutable Bytes made_ = {};  // the simulated drive is asked by one thread at a time
  mutable std::vector<bool> is_made_ = {};
};

CdImagePtr build_cd(const SimDisc& disc, std::uint64_t seed) {
  cd::Layout layout;
  std::vector<Extent> extents;
  Lba at = 0;
  for (std::size_t s = 0; s < disc.sessions.size(); ++s) {
    cd::Session session{static_cast<int>(s) + 1, disc.sessions[s].front().number, disc.sessions[s].back().number};
    for (const SimTrack& from : disc.sessions[s]) {
      cd::Track track;
      track.number = from.number;
      track.mode = {from.mode, cd::kRawBytes};
      track.session = session.number;
      track.flags.copy_permitted = (from.control & 2) != 0;
      track.flags.pre_emphasis = (from.control & 1) != 0;
      const SourcePtr data =
          from.file.empty() ? std::make_shared<GeneratedTrack>(from, at, seed) : open_file(from.file);
      const auto sectors =
          static_cast<std::uint32_t>(std::min<std::uint64_t>(data->size() / cd::kRawBytes, cd::kMaxDiscSectors));
      track.pregap_lba = at;
      track.start_lba = at + static_cast<Lba>(from.pregap);
      track.end_lba = at + static_cast<Lba>(sectors);
      if (from.pregap >= sectors)
        throw Error({.code = "bad_simulation", .what = "a track is shorter than its pregap", .file = data->name()});
      if (from.pregap > 0) track.indexes[0] = at;
      track.indexes[1] = track.start_lba;
      extents.push_back({.track = from.number, .lba = at, .sectors = sectors, .source = data});
      at = track.end_lba;
      if (at > cd::kMaxDiscSectors)
        throw Error({.code = "bad_simulation", .what = "the tracks are longer than a disc", .file = data->name()});
      layout.tracks.push_back(std::move(track));
    }
    session.lead_out = at;
    session.lead_out_sectors = s == 0 ? cd::kFirstLeadOut : cd::kLaterLeadOut;
    session.lead_in_sectors = cd::kLeadIn;
    session.pregap_sectors = cd::kFirstPregap;
    layout.lead_out = at;
    at += static_cast<Lba>(session.lead_out_sectors + session.lead_in_sectors + session.pregap_sectors);
    layout.sessions.push_back(session);
  }
  return std::make_shared<CdImage>(std::move(layout), std::move(extents));
}

constexpr int kLastCdProfile = 0x0A;

}  // namespace

std::vector<std::filesystem::path> simulation_files(const SimDescription& description) {
  std::vector<std::filesystem::path> files;
  for (const SimDisc& disc : description.discs) {
    if (!disc.image.empty()) files.push_back(disc.image);
    if (!disc.image.empty() && disc.profile <= kLastCdProfile)
      for (const std::filesystem::path& path : input_paths(open_image(disc.image))) files.push_back(path);
    for (const auto& session : disc.sessions)
      for (const SimTrack& track : session)
        if (!track.file.empty()) files.push_back(track.file);
  }
  return files;
}

SimMedium::SimMedium(const SimDisc& disc, std::uint64_t seed) : disc_(disc) {
  for (const auto& session : disc.sessions)
    for (const SimTrack& t : session) {
      isrcs_[t.number] = t.isrc;
      controls_[t.number] = t.control;
    }
  if (disc.profile <= kLastCdProfile) {
    cd_ = disc.image.empty() ? build_cd(disc, seed) : open_image(disc.image).cd();
    if (!cd_)
      throw Error({.code = "bad_simulation",
                   .what = "this image is no CD",
                   .file = disc.image.string(),
                   .hint = "profile = 16 makes a DVD of an image of blocks, 64 a Blu-ray disc"});
    end_ = cd_->layout().lead_out;
    return;
  }
  if (disc.image.empty()) throw Error({.code = "bad_simulation", .what = "a disc of blocks needs an image"});
  blocks_ = open_file(disc.image);
  constexpr std::uint64_t kMostBlocks = 0x7FFFFFFF;
  end_ = static_cast<Lba>(std::min(blocks_->size() / cd::kUserBytes, kMostBlocks));
}

bool SimMedium::in_program(Lba lba) const {
  if (!cd_) return lba >= 0 && lba < end_;
  return lba >= 0 && lba < end_ && cd_->layout().track_at(lba) != nullptr;
}

bool SimMedium::is_audio(Lba lba) const {
  const cd::Track* track = cd_ ? cd_->layout().track_at(lba) : nullptr;
  if (!track || track->mode.is_audio() || lba >= track->start_lba) return track && track->mode.is_audio();
  // The pause of a data track begins as music: the sectors tell.
  cd::Sector s;
  cd_->read_sector(lba, s);
  return !cd::has_sync(s);
}

void SimMedium::read(Lba lba, std::uint32_t count, std::span<std::byte> out) const {
  if (cd_) return cd_->read(SectorForm::raw, lba, count, out);
  blocks_->read_at(static_cast<std::uint64_t>(lba) * cd::kUserBytes, out);
}

void SimMedium::read_shifted(Lba lba, std::int64_t samples, cd::SectorSpan out) const {
  read_stream(lba, samples, false, out);
}
void SimMedium::read_as_audio(Lba lba, std::int64_t samples, cd::SectorSpan out) const {
  read_stream(lba, samples, true, out);
}

void SimMedium::read_stream(Lba lba, std::int64_t samples, bool with_data, cd::SectorSpan out) const {
  constexpr std::int64_t kSampleBytes = 4, kRaw = static_cast<std::int64_t>(cd::kRawBytes);
  std::fill(out.begin(), out.end(), std::byte{0});
  const std::int64_t from = std::int64_t{lba} * kRaw - samples * kSampleBytes;
  for (std::int64_t sector = from / kRaw - 1; sector <= (from + kRaw) / kRaw; ++sector) {
    const std::int64_t begin = std::max(from, sector * kRaw), end = std::min(from + kRaw, (sector + 1) * kRaw);
    const auto at = static_cast<Lba>(sector);
    if (begin >= end || !in_program(at) || (!is_audio(at) && !with_data)) continue;
    cd::Sector s;
    cd_->read_sector(at, s);
    if (!is_audio(at)) cd::scramble(s);
    std::copy(s.begin() + (begin - sector * kRaw), s.begin() + (end - sector * kRaw), out.begin() + (begin - from));
  }
}

cd::QBytes SimMedium::q_at(Lba lba) const {
  // Every 90th frame tells the catalogue number instead, as on pressed discs.
  constexpr Lba kEvery = 90, kPlace = 30;
  if (disc_.mcn.size() == 13 && lba % kEvery == kPlace) {
    cd::QBytes q{};
    q[0] = std::byte{0x02};
    for (std::size_t i = 0; i < 13; ++i) {
      const auto digit = static_cast<unsigned>(disc_.mcn[i] - '0') & 15;
      q[1 + i / 2] |= static_cast<std::byte>(i % 2 == 0 ? digit << 4 : digit);
    }
    q[9] = cd::to_bcd(cd::msf_of_lba(lba).frame);
    const auto crc = static_cast<unsigned>(static_cast<std::uint16_t>(~cd::q_crc(ByteView(q).first(10))));
    q[10] = static_cast<std::byte>(crc >> 8);
    q[11] = static_cast<std::byte>(crc & 255);
    return q;
  }
  auto position = q_position(cd_->layout(), lba);
  if (const cd::Track* track = cd_->layout().track_at(lba)) position.control = control(*track);
  return cd::make_q(position);
}

int SimMedium::control(const cd::Track& track) const {
  const auto at = controls_.find(track.number);
  return at != controls_.end() ? at->second : track.control();
}

std::string SimMedium::isrc(int track) const {
  const auto at = isrcs_.find(track);
  if (at != isrcs_.end()) return at->second;
  const cd::Track* t = cd_->layout().track(track);
  return t ? t->isrc : "";
}

Bytes SimMedium::cd_text() const {
  constexpr std::size_t kMost = 8192;
  return disc_.cdtext.empty() ? Bytes{} : read_up_to(*open_file(disc_.cdtext), 0, kMost);
}

}  // namespace opifex::dump
