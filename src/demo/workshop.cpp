#include "opifex/demo/workshop.hpp"

#include <algorithm>

#include "opifex/core/cd/sector.hpp"

#include "volume.hpp"

namespace opifex::demo {
namespace {

using cd::Lba;

constexpr std::uint32_t kLicenceSector = 4;

std::uint64_t mix(std::uint64_t z) {  // splitmix64
  z += 0x9E3779B97F4A7C15u;
  z = (z ^ z >> 30) * 0xBF58476D1CE4E5B9u;
  z = (z ^ z >> 27) * 0x94D049BB133111EBu;
  return z ^ z >> 31;
}

/// Half text, half numbers: compresses about as well as game data does.
Bytes game_data(std::size_t size, std::uint64_t seed) {
  constexpr std::string_view kText = "The lantern keeper counts nine bells over the harbour. ";
  Bytes b(size);
  for (std::size_t i = 0; i < size; ++i)
    b[i] = i / 512 % 2 == 0 ? static_cast<std::byte>(kText[i % kText.size()])
                            : static_cast<std::byte>(mix(seed * size + i / 3) & 0x7F);
  return b;
}

Bytes executable(std::uint64_t seed) {
  Bytes b = game_data(4 * cd::kUserBytes, seed);
  std::fill_n(b.begin(), cd::kUserBytes, std::byte{0});
  const std::string_view magic = "PS-X EXE";
  std::copy_n(as_view(magic).begin(), magic.size(), b.begin());
  return b;
}

/// A sine by parabolas, phase 0..65535: the same on every machine.
int sine(std::uint32_t phase) {
  const auto x = static_cast<std::int32_t>(phase & 0x7FFF) - 0x4000;
  const std::int32_t y = 0x4000 - (x * x >> 14);
  return (phase & 0x8000) != 0 ? -y : y;
}

/// Three notes over a slow bass, different in each track.
void make_audio(cd::SectorSpan s, std::uint32_t sector, std::uint64_t track) {
  constexpr std::array<std::uint32_t, 8> kNotes = {262, 294, 330, 392, 440, 523, 587, 659};
  constexpr std::uint32_t kRate = 44100, kFrames = 588;
  for (std::uint32_t i = 0; i < kFrames; ++i) {
    const std::uint64_t t = std::uint64_t{sector} * kFrames + i;
    const std::uint64_t beat = t / (kRate / 3);
    const std::uint32_t note = kNotes[mix(track * 977 + beat) % kNotes.size()];
    const auto phase = [&](std::uint64_t hertz) { return static_cast<std::uint32_t>(t * hertz * 65536 / kRate); };
    const auto fade = static_cast<int>(256 - t % (kRate / 3) * 256 / (kRate / 3));
    const int left = sine(phase(note)) * fade / 512 + sine(phase(note / 4)) / 4;
    const int right = sine(phase(note * 3 / 2)) * fade / 640 + sine(phase(note / 4)) / 4;
    const auto put = [&](std::size_t at, int v) {
      s[at] = static_cast<std::byte>(v & 255);
      s[at + 1] = static_cast<std::byte>(v >> 8 & 255);
    };
    put(i * 4, left);
    put(i * 4 + 2, right);
  }
}

class DataTrack {
 public:
  explicit DataTrack(const Recipe& recipe) : recipe_(recipe) {
    const std::string settings =
        "BOOT = cdrom:\\" + recipe.boot_file + ";1\r\nTCB = 4\r\nEVENT = 10\r\nSTACK = 801FFF00\r\n";
    const std::string read_me = "Made-up demo data of the Lantern Street Arcade Museum.\r\n";
    std::vector<VolumeFile> files = {{"SYSTEM.CNF", to_bytes(settings)},
                                     {recipe.boot_file, executable(recipe.seed)},
                                     {"README.TXT", to_bytes(read_me)}};
    if (recipe.streamed_sectors > 0) files.push_back({"WAVES.XA", {}, recipe.streamed_sectors});
    volume_ = make_volume(recipe.volume, files, recipe.data_sectors);
    stream_from_ = recipe.streamed_sectors > 0 ? volume_.file_sectors.back() : recipe.data_sectors;
    stream_to_ = stream_from_ + recipe.streamed_sectors;
    if (!recipe.region.empty()) {
      const std::string licence = std::string(10, ' ') + "Licensed  by          Palisade Row " + recipe.region;
      std::copy_n(as_view(licence).begin(), licence.size(), volume_.blocks[kLicenceSector].begin());
    }
  }

  void make(cd::SectorSpan s, std::uint32_t sector) const {
    const auto lba = static_cast<Lba>(sector);
    if (sector >= stream_from_ && sector < stream_to_) {
      Bytes samples = game_data(cd::kForm2Bytes, recipe_.seed + sector);
      cd::make_form2(s, lba, {1, 0, 0x64, 1}, std::span<const std::byte, cd::kForm2Bytes>(samples));
      return;
    }
    const bool last = sector + 1 == recipe_.data_sectors;
    const cd::Subheader h{0, 0, static_cast<std::uint8_t>(last ? 0x89 : 0x08), 0};
    const Bytes data =
        sector < volume_.blocks.size() ? volume_.blocks[sector] : game_data(cd::kUserBytes, recipe_.seed + sector);
    cd::make_form1(s, lba, h, std::span<const std::byte, cd::kUserBytes>(data));
  }

 private:
  const Recipe& recipe_;
  Volume volume_;
  std::uint32_t stream_from_ = 0, stream_to_ = 0;
};

std::string time(std::uint32_t frames) { return cd::to_string(cd::msf_of_frames(frames)); }

class DiscWriter {
 public:
  DiscWriter(const Recipe& recipe, const std::filesystem::path& folder, Files files, Existing existing)
      : recipe_(recipe), folder_(folder), files_(files), set_(existing) {}

  std::filesystem::path write() {
    const DataTrack data(recipe_);
    open_track(1, "MODE2/2352");
    sheet_ += "    INDEX 01 " + time(0) + "\r\n";
    fill(recipe_.data_sectors, [&](cd::SectorSpan s, std::uint32_t i) { data.make(s, i); });
    for (std::size_t a = 0; a < recipe_.audio_sectors.size(); ++a) {
      open_track(static_cast<int>(a) + 2, "AUDIO");
      const std::uint32_t gap = a == 0 ? recipe_.pregap_sectors : 0;
      if (gap > 0) sheet_ += "    INDEX 00 " + time(frames_) + "\r\n";
      sheet_ += "    INDEX 01 " + time(frames_ + gap) + "\r\n";
      fill(gap, [](cd::SectorSpan s, std::uint32_t) { std::fill(s.begin(), s.end(), std::byte{0}); });
      fill(recipe_.audio_sectors[a], [&](cd::SectorSpan s, std::uint32_t i) { make_audio(s, i, recipe_.seed + a); });
    }
    const auto lead = folder_ / (recipe_.stem + (files_ == Files::lone_bin ? ".bin" : ".cue"));
    if (files_ != Files::lone_bin) set_.add(lead).write(as_view(sheet_));
    set_.commit();
    return lead;
  }

 private:
  void open_track(int number, const char* mode) {
    if (number == 1 || files_ == Files::bin_per_track) {
      const bool several = files_ == Files::bin_per_track && !recipe_.audio_sectors.empty();
      const std::string name = several ? fmt::format("{} (Track {}).bin", recipe_.stem, number) : recipe_.stem + ".bin";
      sheet_ += fmt::format("FILE \"{}\" BINARY\r\n", name);
      file_ = &set_.add(folder_ / name);
      frames_ = 0;
    }
    sheet_ += fmt::format("  TRACK {:02} {}\r\n", number, mode);
  }

  template <typename Make>
  void fill(std::uint32_t sectors, Make make) {
    constexpr std::uint32_t kBatch = 256;
    Bytes batch;
    for (std::uint32_t first = 0; first < sectors; first += kBatch) {
      const std::uint32_t n = std::min(kBatch, sectors - first);
      batch.resize(n * cd::kRawBytes);
      for (std::uint32_t i = 0; i < n; ++i)
        make(cd::SectorSpan(std::span(batch).subspan(i * cd::kRawBytes, cd::kRawBytes)), first + i);
      file_->write(batch);
    }
    frames_ += sectors;
  }

  const Recipe& recipe_;
  const std::filesystem::path& folder_;
  Files files_;
  OutputSet set_;
  OutputFile* file_ = nullptr;
  std::string sheet_;
  std::uint32_t frames_ = 0;  // written to the current file
};

}  // namespace

std::filesystem::path write_disc(const Recipe& recipe, const std::filesystem::path& folder, Files files,
                                 Existing existing) {
  return DiscWriter(recipe, folder, files, existing).write();
}

std::vector<Recipe> workshop_recipes() {
  return {{.stem = "Moth & Lantern",
           .volume = "MOTH_LANTERN",
           .boot_file = "PRXS_001.01",
           .data_sectors = 300,
           .streamed_sectors = 24,
           .audio_sectors = {450, 375, 300},
           .seed = 11},
          {.stem = "Kestrel Circuit (Disc 1)",
           .volume = "KESTREL_CIRCUIT_1",
           .boot_file = "PRXS_003.01",
           .region = "Euro pe",
           .data_sectors = 420,
           .seed = 31},
          {.stem = "Kestrel Circuit (Disc 2)",
           .volume = "KESTREL_CIRCUIT_2",
           .boot_file = "PRXS_003.02",
           .region = "Euro pe",
           .data_sectors = 380,
           .seed = 32}};
}

void build_workshop(const std::filesystem::path& folder, Existing existing) {
  const auto recipes = workshop_recipes();
  write_disc(recipes[0], folder, Files::bin_per_track, existing);
  write_disc(recipes[1], folder, Files::one_bin, existing);
  write_disc(recipes[2], folder, Files::lone_bin, existing);
}

}  // namespace opifex::demo
