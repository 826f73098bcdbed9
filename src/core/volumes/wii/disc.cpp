#include "opifex/core/volumes/wii/disc.hpp"

#include <algorithm>
#include <cstring>

#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/wii/hashes.hpp"

namespace opifex {
namespace {

constexpr std::uint64_t kTablesAt = 0x40000, kFirstTable = 0x40020, kTablesEnd = 0x50000, kRegionAt = 0x4E000;
constexpr std::size_t kGroups = 4, kMostPartitions = 256;
constexpr std::size_t kPartitionHead = 0x2C0, kLeastTmd = 0x208, kMostTmd = 0x49E4;
constexpr unsigned kShift = 2;

std::uint64_t shifted(ByteView v, std::size_t at) { return std::uint64_t{load_be32(v, at)} << kShift; }

class DiscReader {
 public:
  DiscReader(SourcePtr disc, const KeyRing* keys) : disc_(std::move(disc)), keys_(keys) {}

  std::optional<WiiDisc> read() {
    constexpr std::size_t kHead = 0x80, kTitleAt = 0x20, kTitleBytes = 64, kNoHashesAt = 0x60, kNotEncryptedAt = 0x61;
    const Bytes head = read_up_to(*disc_, 0, kHead);
    if (head.size() < kHead || load_be32(head, kWiiMarkAt) != kWiiMark) return std::nullopt;
    if (load_be32(head, kGameCubeMarkAt) == kGameCubeMark)
      damage("both_marks", "the disc has the marks of both consoles");
    const std::string_view title = as_text(ByteView(head).subspan(kTitleAt, kTitleBytes));
    out_.id = printable(as_text(ByteView(head).first(6)));
    out_.title = decode(title.substr(0, title.find('\0')), "windows-31j").value_or("");
    out_.plain = head[kNoHashesAt] != std::byte{0} || head[kNotEncryptedAt] != std::byte{0};
    if (out_.plain)
      note("development_disc", "a development disc, not encrypted: it is kept whole and its partitions are not read");
    const Bytes region = read_up_to(*disc_, kRegionAt, 4);
    if (region.size() == 4) out_.region = load_be32(region, 0);
    read_tables();
    std::sort(out_.partitions.begin(), out_.partitions.end(),
              [](const WiiPartition& a, const WiiPartition& b) { return a.offset < b.offset; });
    for (WiiPartition& p : out_.partitions) read_partition(p);
    find_overlaps();
    return std::move(out_);
  }

 private:
  void add(const char* code, std::string message, Weight weight) {
    out_.problems.push_back({code, std::move(message), weight});
  }
  void damage(const char* code, std::string message) {
    out_.sound = false;
    add(code, std::move(message), Weight::damage);
  }
  void cut_short(std::string message) {
    out_.sound = false;
    add("cut_short", std::move(message), Weight::cut);
  }
  void note(const char* code, std::string message) { add(code, std::move(message), Weight::note); }

  void read_tables() {
    const Bytes tables = read_up_to(*disc_, kTablesAt, kTablesEnd - kTablesAt);
    if (tables.size() < kFirstTable - kTablesAt) return cut_short("the image ends before the table of partitions");
    std::uint64_t total = 0;
    for (std::size_t g = 0; g < kGroups; ++g) total += load_be32(tables, 8 * g);
    if (total == 0) return damage("no_partition", "the disc lists no partition");
    if (total > kMostPartitions)
      return damage("too_many_partitions",
                    fmt::format("the disc lists {} partitions; there can be {}", grouped(total), kMostPartitions));
    for (std::size_t g = 0; g < kGroups; ++g) {
      const std::uint64_t count = load_be32(tables, 8 * g), at = shifted(tables, 8 * g + 4);
      if (count == 0) continue;
      if (at < kFirstTable || at + 8 * count > kTablesEnd) {
        damage("table_outside", fmt::format("the table of partitions at {:#x} lies where there can be none", at));
        continue;
      }
      if (at + 8 * count - kTablesAt > tables.size()) {
        cut_short("the image ends within a table of partitions");
        continue;
      }
      for (std::uint64_t i = 0; i < count; ++i) {
        const auto entry = static_cast<std::size_t>(at - kTablesAt + 8 * i);
        WiiPartition p;
        p.group = static_cast<unsigned>(g);
        p.offset = shifted(tables, entry);
        p.type = load_be32(tables, entry + 4);
        out_.partitions.push_back(std::move(p));
      }
    }
  }

  void read_partition(WiiPartition& p) {
    const std::string where = fmt::format("{} partition at {:#x}", p.type_name(), p.offset);
    if (p.offset < kWiiFirstPartition || p.offset % kWiiClusterBytes != 0 || p.offset >= kWiiDualLayerBytes)
      return damage("partition_offset", "the " + where + " begins where there can be none");
    const Bytes head = read_up_to(*disc_, p.offset, kPartitionHead);
    if (head.size() < kPartitionHead) return cut_short("the image ends before the " + where);
    if (all_zero(head)) {
      p.blank = true;
      const bool game = p.type == 0;
      if (game) out_.sound = false;
      return add("partition_blank", "somebody removed the " + where, game ? Weight::damage : Weight::warning);
    }
    p.title_id = hex(ByteView(head).subspan(0x1DC, 8));
    p.key_index = std::to_integer<unsigned>(head[0x1F1]);
    p.tmd_bytes = load_be32(head, 0x2A4);
    p.tmd = shifted(head, 0x2A8);
    p.h3 = shifted(head, 0x2B4);
    p.data = shifted(head, 0x2B8);
    p.data_bytes = shifted(head, 0x2BC);
    if (!header_fits(p, where)) return;
    p.tmd += p.offset;
    p.h3 += p.offset;
    p.data += p.offset;
    const Bytes tmd = read_up_to(*disc_, p.tmd, kLeastTmd);
    if (tmd.size() < kLeastTmd || disc_->size() < p.data)
      return cut_short("the image ends within the header of the " + where);
    p.system_version = hex(ByteView(tmd).subspan(0x184, 8));
    p.title_version = load_be16(tmd, 0x1DC);
    std::copy_n(tmd.begin() + 0x1F4, p.h4.size(), p.h4.begin());
    p.listed_only = false;
    if (hex(ByteView(tmd).subspan(0x18C, 8)) != p.title_id)
      note("other_title_id", "the " + where + ": ticket and title metadata name different titles");
    if (p.data_bytes > 0 && blank_data(p)) {
      p.blank = true;
      if (p.type == 0)
        damage("partition_blank", "all data of the " + where + " is blank");
      else
        add("partition_blank", "somebody blanked all data of the " + where, Weight::warning);
    }
    take_key(p, head, where);
  }

  bool header_fits(const WiiPartition& p, const std::string& where) {
    bool fits = true;
    const auto wrong = [&](const char* code, std::string message) {
      fits = false;
      damage(code, "the " + where + ": " + std::move(message));
    };
    if (p.tmd_bytes < kLeastTmd || p.tmd_bytes > kMostTmd)
      wrong("bad_tmd", fmt::format("title metadata of {} bytes", p.tmd_bytes));
    if (p.tmd < kPartitionHead || p.h3 < kPartitionHead || p.data < kPartitionHead)
      wrong("bad_header", "a part of it lies within its ticket");
    if (p.h3 + kWiiH3Bytes > p.data) wrong("h3_overlap", "the hash table reaches into the data");
    if (p.data_bytes % kWiiClusterBytes != 0 || p.clusters() > kWiiMostGroups * kWiiGroupClusters)
      wrong("bad_data_size", fmt::format("{} bytes of data cannot be", grouped(p.data_bytes)));
    if (p.offset + p.data + p.data_bytes > kWiiDualLayerBytes)
      wrong("partition_outside", "it reaches beyond the largest disc");
    return fits;
  }

  /// Looks at the beginnings of a few clusters; a hole is not read.
  bool blank_data(const WiiPartition& p) const {
    const std::uint64_t end = std::min(disc_->size(), p.data + p.data_bytes);
    constexpr std::uint64_t kLooks = 64;
    std::uint64_t looks = 0;
    for (std::uint64_t at = p.data; (at = disc_->next_data(at)) < end && looks < kLooks; ++looks) {
      at = p.data + (at - p.data) / kWiiClusterBytes * kWiiClusterBytes;
      if (!is_blank_cluster(read_up_to(*disc_, at, kWiiHashBytes))) return false;
      at += kWiiClusterBytes;
    }
    // Still only blank ones: the rest is looked at once, whole, but only here, where somebody was at work.
    for (std::uint64_t at = p.data; looks == kLooks && (at = disc_->next_data(at)) < end; at += kWiiClusterBytes)
      if (!is_blank_cluster(read_up_to(*disc_, at, kWiiHashBytes))) return false;
    return p.data < end;
  }

  void take_key(WiiPartition& p, const Bytes& head, const std::string& where) {
    const unsigned index = p.key_index > 1 ? 0 : p.key_index;
    if (index != p.key_index)
      add("odd_key_index",
          fmt::format("the {}: its ticket names common key {}, which nobody knows: 0 is taken", where, p.key_index),
          Weight::warning);
    const auto common = keys_ && !out_.plain ? keys_->common_key(WiiDisc::key_name(index)) : std::nullopt;
    if (!common) return;
    AesIv iv{};
    std::copy_n(head.begin() + 0x1DC, 8, iv.begin());
    AesCbc(*common, AesCbc::Direction::decrypt).run(iv, ByteView(head).subspan(0x1BF, p.title_key.size()), p.title_key);
    p.key = prove(p);
    if (p.key == WiiKey::wrong) p.title_key = {};
  }

  /// A cluster may be damaged: a few are tried before a key is called wrong.
  WiiKey prove(const WiiPartition& p) const {
    constexpr std::uint64_t kTries = 16;
    ClusterReader reader(p);
    std::uint64_t tried = 0;
    for (std::uint64_t c = 0; c < p.clusters() && tried < kTries; ++c) {
      const std::uint64_t at = p.data + c * kWiiClusterBytes;
      // A hole is blank: go on behind it.
      if (const std::uint64_t next = disc_->next_data(at); next >= at + kWiiClusterBytes) {
        if (next >= p.data + p.data_bytes) break;
        c = (next - p.data) / kWiiClusterBytes - 1;
        continue;
      }
      if (is_blank_cluster(read_up_to(*disc_, at, kWiiHashBytes))) continue;
      const Bytes raw = read_up_to(*disc_, at, kWiiClusterBytes);
      if (raw.size() < kWiiClusterBytes) break;
      ++tried;
      if (reader.key_fits(raw, c)) return WiiKey::right;
    }
    return tried == 0 ? WiiKey::unproved : WiiKey::wrong;
  }

  void find_overlaps() {
    for (std::size_t i = 1; i < out_.partitions.size(); ++i) {
      const WiiPartition &before = out_.partitions[i - 1], &p = out_.partitions[i];
      if (p.offset < std::max(before.end(), before.offset + 1))
        damage("partition_overlap", fmt::format("the partitions at {:#x} and {:#x} overlap", before.offset, p.offset));
    }
  }

  SourcePtr disc_;
  const KeyRing* keys_;
  WiiDisc out_;
};

class PartitionSource final : public ByteSource {
 public:
  PartitionSource(SourcePtr disc, const WiiPartition& partition) : disc_(std::move(disc)), partition_(partition) {
    const std::uint64_t there = disc_->size() > partition_.data ? disc_->size() - partition_.data : 0;
    clusters_ = std::min(partition_.clusters(), there / kWiiClusterBytes);
  }
  std::uint64_t size() const override { return clusters_ * kWiiDataBytes; }
  std::string name() const override { return disc_->name(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (offset > size() || out.size() > size() - offset)
      throw Error({.code = "truncated",
                   .what = "the image ends within a partition",
                   .file = disc_->name(),
                   .offset = disc_->size()});
    ClusterReader reader(partition_);
    Bytes raw, plain;
    while (!out.empty()) {
      const std::uint64_t cluster = offset / kWiiDataBytes;
      const auto inside = static_cast<std::size_t>(offset % kWiiDataBytes);
      const std::size_t n = std::min(out.size(), kWiiDataBytes - inside);
      raw.resize(kWiiClusterBytes);
      const std::uint64_t at = partition_.data + cluster * kWiiClusterBytes;
      disc_->read_at(at, raw);
      if (is_blank_cluster(raw))
        throw Error({.code = "blank_cluster",
                     .what = "data of this partition was removed",
                     .file = disc_->name(),
                     .offset = at,
                     .found = "a blank cluster",
                     .expected = "encrypted data",
                     .hint = "dump the disc again: what was here is lost"});
      if (n == kWiiDataBytes) {
        reader.decrypt_data(raw, out.first(n));
      } else {
        plain.resize(kWiiDataBytes);
        reader.decrypt_data(raw, plain);
        std::copy_n(plain.begin() + static_cast<std::ptrdiff_t>(inside), n, out.begin());
      }
      out = out.subspan(n);
      offset += n;
    }
  }

 private:
  SourcePtr disc_;
  WiiPartition partition_;
  std::uint64_t clusters_ = 0;
};

[[noreturn]] void refuse_key(const SourcePtr& disc, const WiiDisc& wii) {
  const auto has = [&](WiiKey key) {
    return std::any_of(wii.partitions.begin(), wii.partitions.end(),
                       [&](const WiiPartition& p) { return !p.listed_only && p.key == key; });
  };
  const auto first =
      std::find_if(wii.partitions.begin(), wii.partitions.end(), [](const WiiPartition& p) { return !p.listed_only; });
  const char* const name = WiiDisc::key_name(first == wii.partitions.end() ? 0 : first->key_index);
  ErrorDetails e;
  e.file = disc->name();
  if (wii.plain) {
    e.code = "development_disc";
    e.what = "this is a development disc: its partitions are not read";
  } else if (first == wii.partitions.end()) {
    e.code = "no_partition";
    e.what = "the disc has no partition that can be read";
    e.hint = "<job identify> says what is wrong with it";
  } else if (has(WiiKey::wrong)) {
    e.code = "wrong_key";
    e.cause = Cause::wrong_key;
    e.what = "the common key does not fit this disc";
    e.found = "data that matches none of its hashes";
    e.hint = fmt::format("check the line {} of your key file", name);
  } else if (has(WiiKey::missing)) {
    e.code = "no_key";
    e.cause = Cause::no_key;
    e.what = "the partitions of this disc are encrypted";
    e.expected = fmt::format("the common key of the console: {} under [common-keys]", name);
    e.hint = "give it with <key-file> FILE";
  } else {
    e.code = "key_unproved";
    e.what = "all data of this disc is blank";
  }
  throw Error(std::move(e));
}

}  // namespace

std::string_view to_string(WiiKey key) {
  return key == WiiKey::missing ? "missing"
         : key == WiiKey::right ? "right"
         : key == WiiKey::wrong ? "wrong"
                                : "unproved";
}

std::string WiiPartition::type_name() const {
  if (type == 0) return "data";
  if (type == 1) return "update";
  if (type == 2) return "channel";
  std::string letters;
  for (unsigned shift = 32; shift > 0; shift -= 8) {
    const auto c = static_cast<char>(type >> (shift - 8) & 0xFF);
    const bool plain = (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z');
    if (!plain) return fmt::format("type-{:x}", type);
    letters += c;
  }
  return letters;
}

std::uint64_t WiiDisc::end() const {
  std::uint64_t end = 0;
  for (const WiiPartition& p : partitions) end = std::max(end, p.end());
  return end;
}

const char* WiiDisc::key_name(unsigned index) { return index == 1 ? "wii-korean" : "wii"; }

bool is_wii_disc(const ByteSource& disc) {
  const Bytes head = read_up_to(disc, 0, kWiiMarkAt + 4);
  return head.size() == kWiiMarkAt + 4 && load_be32(head, kWiiMarkAt) == kWiiMark;
}

std::optional<WiiDisc> read_wii_disc(const SourcePtr& disc, const KeyRing* keys) {
  return DiscReader(disc, keys).read();
}

bool is_blank_cluster(ByteView raw) {
  if (raw.empty() || (raw[0] != std::byte{0} && raw[0] != std::byte{0xFF})) return false;
  return raw.size() == 1 || std::memcmp(raw.data(), raw.data() + 1, raw.size() - 1) == 0;
}

SourcePtr decrypted_partition(SourcePtr disc, const WiiPartition& partition) {
  return std::make_shared<PartitionSource>(std::move(disc), partition);
}

ConsoleVolume read_wii_partition(const SourcePtr& disc, const WiiPartition& partition) {
  const SourcePtr data = decrypted_partition(disc, partition);
  auto console = read_console_volume(data, {kShift, partition.clusters() * kWiiDataBytes});
  if (!console)
    throw Error({.code = "no_file_system",
                 .what = fmt::format("the {} partition holds no file system", partition.type_name()),
                 .file = disc->name(),
                 .offset = partition.data});
  return std::move(*console);
}

Volume read_wii_volume(const SourcePtr& disc, const WiiDisc& wii) {
  Volume all;
  all.system = "wii";
  all.label = wii.title;
  all.disc = disc;
  all.blocks = disc->size() / 2048;
  all.problems = wii.problems;
  bool any = false;
  std::map<std::string, int> seen;
  for (const WiiPartition& p : wii.partitions) {
    std::string folder = p.type_name();
    if (const int n = ++seen[folder]; n > 1) folder += fmt::format("-{}", n);
    if (!p.readable() || p.blank) {
      if (!p.blank)
        all.problems.push_back({"not_readable",
                                fmt::format("the {} partition is not listed: {}", folder,
                                            p.listed_only              ? "its header cannot be used"
                                            : p.key == WiiKey::missing ? "its key was not given"
                                                                       : "its key does not fit"),
                                Weight::warning});
      continue;
    }
    any = true;
    try {
      ConsoleVolume part = read_wii_partition(disc, p);
      VolumeEntry top;
      top.path = folder;
      top.kind = EntryKind::folder;
      all.entries.push_back(std::move(top));
      for (VolumeEntry& e : part.volume.entries) {
        e.path = folder + "/" + e.path;
        all.entries.push_back(std::move(e));
      }
      for (VolumeProblem& problem : part.volume.problems) {
        problem.message = folder + ": " + problem.message;
        all.problems.push_back(std::move(problem));
      }
    } catch (const Error& e) {
      if (e.details.fault != Fault::refused) throw;
      all.problems.push_back({e.details.code, folder + ": " + e.details.what, Weight::damage});
    }
  }
  if (!any) refuse_key(disc, wii);
  return all;
}

}  // namespace opifex
