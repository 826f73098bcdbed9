#include "opifex/core/check/wii_tree.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/check/file_map.hpp"

namespace opifex {
namespace {

constexpr std::size_t kHashedBytes = 0x400;  // of data, with a hash of its own

bool same_kind(const ClusterFault& a, const ClusterFault& b) {
  return a.blocks.size() == b.blocks.size() && a.h1 == b.h1 && a.h2 == b.h2 && a.h3 == b.h3;
}

std::string levels_of(const ClusterFault& f) {
  std::vector<std::string> levels;
  if (!f.blocks.empty()) levels.push_back(fmt::format("{} of 31 blocks of data (H0)", f.blocks.size()));
  if (f.h1) levels.emplace_back("the table of blocks (H1)");
  if (f.h2) levels.emplace_back("the table of the subgroup (H2)");
  if (f.h3) levels.emplace_back("the table of the group (H3)");
  return fmt::format("{}", fmt::join(levels, ", "));
}

std::string clusters_text(std::uint64_t first, std::uint64_t count) {
  return count == 1 ? fmt::format("cluster {}", first) : fmt::format("clusters {} to {}", first, first + count - 1);
}

}  // namespace

WiiTree::WiiTree(SourcePtr disc, const KeyRing* keys) : disc_(std::move(disc)) {
  auto wii = read_wii_disc(disc_, keys);
  if (!wii) return;
  wii_ = std::move(*wii);
  for (const WiiPartition& p : wii_.partitions) {
    if (p.key == WiiKey::wrong) {
      WiiDisc alone;
      alone.partitions = {p};
      read_wii_volume(disc_, alone);  // says so
    }
    if (p.listed_only) continue;
    Partition mine{.facts = p};
    open(mine);
    partitions_.push_back(std::move(mine));
  }
  for (const VolumeProblem& p : wii_.problems) {
    find(p.code, is_damage(p.weight) ? Severity::error : Severity::warning, p.message);
    if (!is_damage(p.weight)) continue;
    result_.verdict = std::max(result_.verdict, p.weight == Weight::cut ? Verdict::incomplete : Verdict::damaged);
  }
}

/// What needs no cluster: the H3 table and the files.
void WiiTree::open(Partition& p) {
  const std::string name = p.facts.type_name();
  p.h3 = read_h3(*disc_, p.facts);
  if (!h3_fits(p.h3, p.facts)) {
    find("hash_h4", Severity::error,
         fmt::format("{} partition: its table of group hashes does not match the title metadata (H4)", name),
         p.facts.h3);
    result_.verdict = std::max(result_.verdict, Verdict::damaged);
  }
  if (p.facts.key == WiiKey::missing && !wii_.plain)
    find("no_key", Severity::note,
         fmt::format("{} partition: without its key only its table of group hashes could be verified", name));
  if (!p.facts.readable() || p.facts.blank) return;
  try {
    p.console = read_wii_partition(disc_, p.facts);
    for (const VolumeProblem& problem : p.console->volume.problems) {
      const bool cut = problem.weight == Weight::cut;
      const Severity severity = is_damage(problem.weight)           ? Severity::error
                                : problem.weight == Weight::warning ? Severity::warning
                                                                    : Severity::note;
      find(problem.code, severity, name + " partition: " + problem.message);
      if (severity == Severity::error)
        result_.verdict = std::max(result_.verdict, cut ? Verdict::incomplete : Verdict::damaged);
    }
  } catch (const Error& e) {
    if (e.details.fault != Fault::refused) throw;
    find(e.details.code, Severity::error, name + " partition: " + e.details.what, e.details.offset);
    result_.verdict = std::max(result_.verdict, Verdict::damaged);
  }
}

std::vector<ByteRange> WiiTree::cluster_runs() const {
  std::vector<ByteRange> runs;
  for (const Partition& p : partitions_) {
    if (!p.facts.readable()) continue;
    const std::uint64_t there = disc_->size() > p.facts.data ? disc_->size() - p.facts.data : 0;
    const std::uint64_t clusters = std::min(p.facts.clusters(), there / kWiiClusterBytes);
    runs.push_back({p.facts.data, p.facts.data + clusters * kWiiClusterBytes});
  }
  return runs;
}

const WiiTree::Partition* WiiTree::at(std::uint64_t offset) const {
  for (const Partition& p : partitions_)
    if (p.facts.readable() && offset >= p.facts.data && offset < p.facts.end()) return &p;
  return nullptr;
}

void WiiTree::judge(std::uint64_t at, ByteView clusters) {
  const Partition* const found = this->at(at);
  if (!found) return;
  ClusterReader reader(found->facts);
  std::map<std::uint64_t, ClusterFault> faults;
  std::vector<std::uint64_t> blank;
  std::uint64_t verified = 0;
  for (std::size_t done = 0; done + kWiiClusterBytes <= clusters.size(); done += kWiiClusterBytes) {
    const std::uint64_t cluster = (at + done - found->facts.data) / kWiiClusterBytes;
    const ByteView raw = clusters.subspan(done, kWiiClusterBytes);
    if (is_blank_cluster(raw)) {
      blank.push_back(cluster);
      continue;
    }
    ++verified;
    if (ClusterFault fault = reader.verify(raw, cluster, found->h3); fault.any()) faults[cluster] = std::move(fault);
  }
  const std::lock_guard lock(mutex_);
  Partition& p = partitions_[static_cast<std::size_t>(found - partitions_.data())];
  p.faults.merge(faults);
  p.blank.insert(p.blank.end(), blank.begin(), blank.end());
  p.verified += verified;
}

void WiiTree::judge_hole(std::uint64_t at, std::uint64_t bytes) {
  const Partition* const found = this->at(at);
  if (!found) return;
  const std::lock_guard lock(mutex_);
  Partition& p = partitions_[static_cast<std::size_t>(found - partitions_.data())];
  for (std::uint64_t done = 0; done < bytes; done += kWiiClusterBytes)
    p.blank.push_back((at + done - found->facts.data) / kWiiClusterBytes);
}

void WiiTree::find(std::string code, Severity severity, std::string message, std::optional<std::uint64_t> offset,
                   std::uint64_t count, std::vector<std::string> files) {
  if (severity == Severity::error && !files.empty()) message += "; it hits " + files_text(files);
  result_.findings.push_back({.code = std::move(code),
                              .severity = severity,
                              .message = std::move(message),
                              .file = disc_->name(),
                              .offset = offset,
                              .count = count,
                              .files = std::move(files)});
}

/// Files with bytes in [first, end) of the partition's data.
std::vector<std::string> WiiTree::files_in(const Partition& p, std::uint64_t first, std::uint64_t end) const {
  std::vector<std::string> paths;
  if (!p.console) return paths;
  for (const VolumeEntry& e : p.console->volume.entries)
    if (e.offset && e.size_bytes > 0 && *e.offset<end&& * e.offset + e.size_bytes> first)
      paths.push_back(p.facts.type_name() + "/" + e.path);
  return paths;
}

/// Neighbours with the same fault are told together.
void WiiTree::describe_faults(const Partition& p) {
  for (auto i = p.faults.begin(); i != p.faults.end();) {
    auto end = std::next(i);
    std::uint64_t count = 1;
    while (end != p.faults.end() && end->first == i->first + count && same_kind(i->second, end->second)) {
      ++end;
      ++count;
    }
    // Which bytes are in doubt: of a single cluster the blocks that fail, else whole clusters.
    const auto& blocks = i->second.blocks;
    const bool only_data = count == 1 && !blocks.empty();
    const std::uint64_t base = i->first * kWiiDataBytes;
    const std::uint64_t first = only_data ? base + blocks.front() * kHashedBytes : base;
    const std::uint64_t last = only_data ? base + (blocks.back() + 1) * kHashedBytes : base + count * kWiiDataBytes;
    const std::uint64_t offset = p.facts.data + i->first * kWiiClusterBytes;
    auto files = files_in(p, first, last);
    const bool free = files.empty() && p.console && p.console->listed;
    const char* const code = !blocks.empty() ? "hash_h0"
                             : i->second.h1  ? "hash_h1"
                             : i->second.h2  ? "hash_h2"
                                             : "hash_h3";
    find(code, Severity::error,
         fmt::format("{} partition: {} at {:#x}: wrong hash of {}{}", p.facts.type_name(),
                     clusters_text(i->first, count), offset, levels_of(i->second), free ? "; no file is hit" : ""),
         offset, count, std::move(files));
    i = end;
  }
  if (!p.faults.empty()) result_.verdict = std::max(result_.verdict, Verdict::damaged);
}

/// Blank clusters that nothing uses are what scrubbing leaves; one in a file is a loss.
void WiiTree::describe_blank(const Partition& p) {
  std::uint64_t unused = 0;
  std::vector<std::uint64_t> blank = p.blank;
  std::sort(blank.begin(), blank.end());
  for (const std::uint64_t cluster : blank) {
    const std::uint64_t first = cluster * kWiiDataBytes, end = first + kWiiDataBytes;
    const bool used = p.console && std::any_of(p.console->used.begin(), p.console->used.end(),
                                               [&](const ByteRange& r) { return r.first < end && r.end > first; });
    if (!used) {
      ++unused;
      continue;
    }
    const std::uint64_t offset = p.facts.data + cluster * kWiiClusterBytes;
    find("used_cluster_blank", Severity::error,
         fmt::format("{} partition: cluster {} at {:#x} is blank, but in use", p.facts.type_name(), cluster, offset),
         offset, 1, files_in(p, first, end));
    result_.verdict = std::max(result_.verdict, Verdict::damaged);
  }
  if (unused > 0 && !p.facts.blank)
    find("scrubbed", Severity::note,
         fmt::format("{} partition: {} of {} clusters are blank{}", p.facts.type_name(), grouped(unused),
                     grouped(p.facts.clusters()),
                     p.console && p.console->listed ? ": no file uses them" : ", used or not"),
         {}, unused);
}

void WiiTree::describe_missing(const Partition& p) {
  if (disc_->size() >= p.facts.end()) return;
  const std::uint64_t there =
      disc_->size() > p.facts.data ? (disc_->size() - p.facts.data) / kWiiClusterBytes * kWiiDataBytes : 0;
  const std::uint64_t used = p.console ? p.console->end() : 0;
  const std::string name = p.facts.type_name();
  if (p.console && p.console->listed && used <= there)
    return find("cut_in_partition", Severity::note,
                fmt::format("the image ends within the {} partition, behind its last file: no file is lost", name));
  if (!p.console) {
    result_.verdict = std::max(result_.verdict, Verdict::incomplete);
    return find(
        "short_unknown", Severity::error,
        fmt::format("the image ends within the {} partition: without its key nobody can tell what is lost", name));
  }
  find("truncated", Severity::error, fmt::format("the image ends within the {} partition", name), disc_->size(), 1,
       files_in(p, there, UINT64_MAX));
  result_.verdict = std::max(result_.verdict, Verdict::incomplete);
}

WiiTree::Result WiiTree::result() {
  for (const Partition& p : partitions_) {
    describe_faults(p);
    describe_blank(p);
    describe_missing(p);
    result_.verified += p.verified;
  }
  return std::move(result_);
}

}  // namespace opifex
