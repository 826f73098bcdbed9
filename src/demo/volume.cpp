#include "volume.hpp"

#include <algorithm>

namespace opifex::demo {
namespace {

constexpr std::size_t kBlock = 2048;
constexpr std::uint32_t kDescriptor = 16, kPathL = 18, kPathM = 19, kRoot = 20, kFirstFile = 21;

void put_text(Bytes& b, std::size_t at, std::size_t size, const std::string& text) {
  std::fill_n(b.begin() + static_cast<std::ptrdiff_t>(at), size, std::byte{' '});
  std::copy_n(as_view(text).begin(), std::min(size, text.size()), b.begin() + static_cast<std::ptrdiff_t>(at));
}

void put_both32(std::span<std::byte> b, std::size_t at, std::uint32_t value) {
  store_le32(b, at, value);
  for (std::size_t i = 0; i < 4; ++i) b[at + 4 + i] = static_cast<std::byte>(value >> (24 - 8 * i));
}

void put_both16(std::span<std::byte> b, std::size_t at, unsigned value) {
  b[at] = b[at + 3] = static_cast<std::byte>(value);
  b[at + 1] = b[at + 2] = static_cast<std::byte>(value >> 8);
}

Bytes directory_record(const std::string& name, std::uint32_t sector, std::uint32_t size, bool folder) {
  Bytes r(33 + name.size() + (name.size() % 2 == 0 ? 1 : 0));
  r[0] = static_cast<std::byte>(r.size());
  put_both32(r, 2, sector);
  put_both32(r, 10, size);
  // 1998-03-14, a date of the scenario
  const std::array<unsigned char, 7> date = {98, 3, 14, 12, 0, 0, 0};
  std::transform(date.begin(), date.end(), r.begin() + 18, [](unsigned char c) { return std::byte{c}; });
  r[25] = std::byte{folder ? std::uint8_t{2} : std::uint8_t{0}};
  put_both16(r, 28, 1);
  r[32] = static_cast<std::byte>(name.size());
  std::copy_n(as_view(name).begin(), name.size(), r.begin() + 33);
  return r;
}

void append(Bytes& to, const Bytes& part) { to.insert(to.end(), part.begin(), part.end()); }

Bytes primary_descriptor(const std::string& volume_id, std::uint32_t total_sectors) {
  Bytes d(kBlock);
  d[0] = std::byte{1};
  put_text(d, 1, 5, "CD001");
  d[6] = std::byte{1};
  put_text(d, 8, 32, "PLAYSTATION");
  put_text(d, 40, 32, volume_id);
  put_both32(d, 80, total_sectors);
  put_both16(d, 120, 1);
  put_both16(d, 124, 1);
  put_both16(d, 128, kBlock);
  put_both32(d, 132, 10);
  store_le32(d, 140, kPathL);
  d[151] = std::byte{kPathM};
  const Bytes root = directory_record(std::string(1, '\0'), kRoot, kBlock, true);
  std::copy(root.begin(), root.end(), d.begin() + 156);
  for (const std::size_t at : {190u, 318u, 446u, 574u}) put_text(d, at, 128, at == 318 ? "PALISADE ROW" : "");
  put_text(d, 702, 111, "");
  for (const std::size_t at : {813u, 830u, 847u, 864u}) put_text(d, at, 16, "1998031412000000");
  d[881] = std::byte{1};
  put_text(d, 1024, 8, "CD-XA001");
  return d;
}

}  // namespace

Volume make_volume(const std::string& volume_id, const std::vector<VolumeFile>& files, std::uint32_t total_sectors) {
  Volume volume;
  std::vector<Bytes> contents;
  std::uint32_t next = kFirstFile;
  Bytes root;
  append(root, directory_record(std::string(1, '\0'), kRoot, kBlock, true));
  append(root, directory_record(std::string(1, '\1'), kRoot, kBlock, true));
  for (const VolumeFile& file : files) {
    volume.file_sectors.push_back(next);
    const auto size =
        file.sectors != 0 ? file.sectors * std::uint32_t{kBlock} : static_cast<std::uint32_t>(file.contents.size());
    append(root, directory_record(file.name + ";1", next, size, false));
    next += (size + std::uint32_t{kBlock} - 1) / std::uint32_t{kBlock};
  }
  root.resize(kBlock);

  volume.blocks.assign(kFirstFile, Bytes(kBlock));
  volume.blocks[kDescriptor] = primary_descriptor(volume_id, total_sectors);
  Bytes& terminator = volume.blocks[kDescriptor + 1];
  terminator[0] = std::byte{255};
  put_text(terminator, 1, 5, "CD001");
  terminator[6] = std::byte{1};
  for (const std::uint32_t table : {kPathL, kPathM}) {
    Bytes& t = volume.blocks[table];
    t[0] = std::byte{1};
    t[table == kPathL ? 2 : 5] = std::byte{kRoot};
    t[table == kPathL ? 6 : 7] = std::byte{1};
  }
  volume.blocks[kRoot] = std::move(root);
  for (const VolumeFile& file : files) {
    if (file.sectors != 0) break;  // streams come last and are made elsewhere
    for (std::size_t at = 0; at < file.contents.size(); at += kBlock) {
      Bytes block(kBlock);
      std::copy_n(file.contents.begin() + static_cast<std::ptrdiff_t>(at), std::min(kBlock, file.contents.size() - at),
                  block.begin());
      volume.blocks.push_back(std::move(block));
    }
  }
  return volume;
}

}  // namespace opifex::demo
