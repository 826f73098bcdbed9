#include "opifex/demo/wii_disc.hpp"

#include <algorithm>
#include <cstring>
#include <map>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/volumes/wii/disc.hpp"

namespace opifex::demo {
namespace {

constexpr std::size_t kHash = 20, kHashed = 0x400, kBlocks = 31, kH1At = 0x280, kH2At = 0x340, kUpper = 8 * kHash;
constexpr std::uint64_t kTmdAt = 0x2C0, kTmdBytes = 0x208, kH3At = 0x8000, kDataAt = 0x20000;
constexpr std::size_t kTableAt = 0x2900, kEntry = 12;
void put_text(std::span<std::byte> v, std::size_t at, std::string_view text) {
  std::copy(as_view(text).begin(), as_view(text).end(), v.begin() + static_cast<std::ptrdiff_t>(at));
}

void put_header(std::span<std::byte> head, const WiiRecipe& recipe, const std::string& title) {
  put_text(head, 0, recipe.id);
  store_be32(head, kWiiMarkAt, kWiiMark);
  put_text(head, 0x20, title);
}

/// The table of files, folders made of the paths.
Bytes make_table(const std::vector<WiiPartitionRecipe::File>& files) {
  struct Entry {
    std::string name;
    bool folder;
    std::uint64_t first, second;
  };
  std::vector<Entry> entries = {{"", true, 0, 0}};
  std::vector<std::pair<std::string, std::size_t>> open = {{"", 0}};
  const auto close_to = [&](std::size_t depth) {
    for (; open.size() > depth; open.pop_back()) entries[open.back().second].second = entries.size();
  };
  for (const auto& file : files) {
    std::vector<std::string> parts;
    for (std::size_t at = 0; at <= file.path.size();) {
      const std::size_t end = std::min(file.path.find('/', at), file.path.size());
      parts.push_back(file.path.substr(at, end - at));
      at = end + 1;
    }
    std::size_t same = 1;
    while (same < open.size() && same < parts.size() && open[same].first == parts[same - 1]) ++same;
    close_to(same);
    for (std::size_t depth = same; depth < parts.size(); ++depth) {
      entries.push_back({parts[depth - 1], true, open.back().second, 0});
      open.emplace_back(parts[depth - 1], entries.size() - 1);
    }
    entries.push_back({parts.back(), false, file.offset >> 2, file.size_bytes});
  }
  close_to(0);
  Bytes table(entries.size() * kEntry);
  std::string names;
  for (std::size_t i = 0; i < entries.size(); ++i) {
    const Entry& e = entries[i];
    store_be32(table, i * kEntry, (e.folder ? 0x100'0000u : 0u) | (i == 0 ? 0 : names.size()));
    store_be32(table, i * kEntry + 4, e.first);
    store_be32(table, i * kEntry + 8, e.second);
    if (i > 0) names += e.name + '\0';
  }
  table.insert(table.end(), as_view(names).begin(), as_view(names).end());
  return table;
}

/// What the console reads first: header, loader, an executable of nothing, the table of files.
Bytes make_boot_area(const WiiRecipe& recipe, const WiiPartitionRecipe& p) {
  constexpr std::size_t kLoaderAt = 0x2440, kProgramAt = 0x2600;
  const Bytes table = make_table(p.files);
  Bytes area(kTableAt + table.size());
  put_header(area, recipe, p.title);
  store_be32(area, 0x420, kProgramAt >> 2);
  store_be32(area, 0x424, kTableAt >> 2);
  for (const std::size_t at : {0x428u, 0x42Cu}) store_be32(area, at, (table.size() + 3) >> 2);
  store_be32(area, 0x458, 1);
  put_text(area, kLoaderAt, "2031/05/17");
  store_be32(area, kLoaderAt + 0x14, 0x40);
  store_be32(area, kProgramAt, 0x100);  // one section of code
  store_be32(area, kProgramAt + 0x90, 0x80);
  std::copy(table.begin(), table.end(), area.begin() + kTableAt);
  area.resize((area.size() + 3) / 4 * 4);
  return area;
}

/// Noise that follows from seed and place.
void fill_noise(std::uint64_t seed, std::uint64_t at, std::span<std::byte> out) {
  constexpr std::uint64_t kStep = 0x9E37'79B9'7F4A'7C15;
  for (std::size_t i = 0; i + 8 <= out.size(); i += 8) {
    std::uint64_t x = seed + (at + i) / 8 * kStep;
    x = (x ^ x >> 30) * 0xBF58'476D'1CE4'E5B9;
    x = (x ^ x >> 27) * 0x94D0'49BB'1331'11EB;
    std::memcpy(out.data() + i, &x, sizeof x);
  }
}

class Writer {
 public:
  Writer(const WiiRecipe& recipe, OutputFile& file) : recipe_(recipe), file_(file) {}

  void write() {
    Bytes front(kWiiFirstPartition);
    put_header(front, recipe_, recipe_.title);
    store_be32(front, 0x40000, recipe_.partitions.size());
    store_be32(front, 0x40004, 0x40020 >> 2);
    for (std::size_t i = 0; i < recipe_.partitions.size(); ++i) {
      store_be32(front, 0x40020 + 8 * i, recipe_.partitions[i].offset >> 2);
      store_be32(front, 0x40024 + 8 * i, recipe_.partitions[i].type);
    }
    store_be32(front, 0x4E000, 1);
    store_be32(front, 0x4FFFC, 0xC3F8'1A8E);
    file_.write(front);
    for (const WiiPartitionRecipe& p : recipe_.partitions) write_partition(p);
    if (recipe_.disc_bytes > file_.size()) file_.skip(recipe_.disc_bytes - file_.size());
  }

 private:
  void write_partition(const WiiPartitionRecipe& p) {
    file_.skip(p.offset - file_.size());
    file_.skip(kDataAt);
    AesKey title_key{};
    fill_noise(recipe_.seed + p.offset, 0, title_key);
    Bytes h3(kWiiH3Bytes);
    boot_ = make_boot_area(recipe_, p);
    AesCbc cipher(title_key, AesCbc::Direction::encrypt);
    for (std::uint64_t first = 0; first < p.clusters; first += kWiiGroupClusters) {
      const Bytes group =
          make_group(p, first, std::min<std::uint64_t>(kWiiGroupClusters, p.clusters - first), cipher,
                     std::span(h3).subspan(static_cast<std::size_t>(first / kWiiGroupClusters) * kHash));
      file_.write(group);
    }
    file_.rewrite(p.offset, make_head(p, title_key, h3));
    file_.rewrite(p.offset + kH3At, h3);
  }

  Bytes make_head(const WiiPartitionRecipe& p, const AesKey& title_key, const Bytes& h3) const {
    Bytes head(kTmdAt + kTmdBytes);
    store_be32(head, 0, 0x0001'0001);
    store_be32(head, 0x1DC, 0x0001'0000);
    put_text(head, 0x1E0, recipe_.id.substr(0, 4));
    AesIv iv{};
    std::copy_n(head.begin() + 0x1DC, 8, iv.begin());
    AesCbc(demo_common_key(), AesCbc::Direction::encrypt).run(iv, title_key, std::span(head).subspan(0x1BF, 16));
    store_be32(head, 0x2A4, kTmdBytes);
    store_be32(head, 0x2A8, kTmdAt >> 2);
    store_be32(head, 0x2B4, kH3At >> 2);
    store_be32(head, 0x2B8, kDataAt >> 2);
    store_be32(head, 0x2BC, p.clusters * kWiiClusterBytes >> 2);
    std::copy_n(head.begin() + 0x1DC, 8, head.begin() + kTmdAt + 0x18C);
    const auto h4 = short_sha1(h3);
    std::copy(h4.begin(), h4.end(), head.begin() + kTmdAt + 0x1F4);
    return head;
  }

  /// The group's hashes need all its data first. `h3`: where its own goes.
  Bytes make_group(const WiiPartitionRecipe& p, std::uint64_t first, std::uint64_t clusters, AesCbc& cipher,
                   std::span<std::byte> h3) {
    Bytes data(static_cast<std::size_t>(clusters) * kWiiDataBytes);
    const std::uint64_t start = first * kWiiDataBytes;
    fill_noise(recipe_.seed ^ p.offset, start, data);
    if (start < boot_.size()) {
      const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(boot_.size() - start, data.size()));
      std::copy_n(boot_.begin() + static_cast<std::ptrdiff_t>(start), n, data.begin());
    }
    const auto hash_to = [&](ByteView of, std::span<std::byte> to) {
      const auto value = short_sha1(of);
      std::copy(value.begin(), value.end(), to.begin());
    };
    Bytes h0(kWiiGroupClusters * kBlocks * kHash), h1(8 * kUpper), h2(kUpper);
    for (std::size_t c = 0; c < clusters; ++c)
      for (std::size_t b = 0; b < kBlocks; ++b)
        hash_to(ByteView(data).subspan(c * kWiiDataBytes + b * kHashed, kHashed),
                std::span(h0).subspan((c * kBlocks + b) * kHash));
    for (std::size_t c = 0; c < kWiiGroupClusters; ++c)
      hash_to(ByteView(h0).subspan(c * kBlocks * kHash, kBlocks * kHash), std::span(h1).subspan(c * kHash));
    for (std::size_t s = 0; s < 8; ++s)
      hash_to(ByteView(h1).subspan(s * kUpper, kUpper), std::span(h2).subspan(s * kHash));
    hash_to(h2, h3);
    Bytes group;
    group.reserve(static_cast<std::size_t>(clusters) * kWiiClusterBytes);
    for (std::size_t c = 0; c < clusters; ++c) {
      Bytes raw(kWiiClusterBytes);
      std::copy_n(h0.begin() + static_cast<std::ptrdiff_t>(c * kBlocks * kHash), kBlocks * kHash, raw.begin());
      std::copy_n(h1.begin() + static_cast<std::ptrdiff_t>(c / 8 * kUpper), kUpper, raw.begin() + kH1At);
      std::copy_n(h2.begin(), kUpper, raw.begin() + kH2At);
      cipher.run(AesIv{}, std::span(raw).first(kWiiHashBytes), std::span(raw).first(kWiiHashBytes));
      AesIv iv;
      std::copy_n(raw.begin() + 0x3D0, iv.size(), iv.begin());
      cipher.run(iv, ByteView(data).subspan(c * kWiiDataBytes, kWiiDataBytes), std::span(raw).subspan(kWiiHashBytes));
      group.insert(group.end(), raw.begin(), raw.end());
    }
    return group;
  }

  const WiiRecipe& recipe_;
  OutputFile& file_;
  Bytes boot_;
};

}  // namespace

AesKey demo_common_key() {
  AesKey key;
  constexpr std::string_view kText = "LanternStreetKey";
  std::copy(as_view(kText).begin(), as_view(kText).end(), key.begin());
  return key;
}

std::string demo_key_file() {
  return "# Made up, like the discs it opens.\n[common-keys]\nwii = \"" + hex(demo_common_key()) + "\"\n";
}

void write_wii_disc(const WiiRecipe& recipe, const std::filesystem::path& path, Existing existing) {
  OutputSet set(existing);
  Writer(recipe, set.add(path)).write();
  set.commit();
}

}  // namespace opifex::demo
