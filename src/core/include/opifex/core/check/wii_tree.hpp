/// The hash trees of a Wii disc, verified cluster by cluster in whatever order the clusters come by.
#pragma once

#include <map>
#include <mutex>

#include "opifex/core/check/check.hpp"
#include "opifex/core/volumes/wii/hashes.hpp"

namespace opifex {

class WiiTree {
 public:
  /// Reads headers, H3 tables and tables of files. Error (refused, "wrong_key") if a key that was given does not fit:
  /// everything would look damaged.
  WiiTree(SourcePtr disc, const KeyRing* keys);

  /// Runs of whole clusters of the disc that can be verified, in order.
  std::vector<ByteRange> cluster_runs() const;
  /// Whole clusters of one run, from byte `at` of the disc. From many threads at once, each cluster once.
  void judge(std::uint64_t at, ByteView clusters);
  /// The same for clusters that are blank without looking.
  void judge_hole(std::uint64_t at, std::uint64_t bytes);

  struct Result {
    std::vector<Finding> findings;
    Verdict verdict = Verdict::intact;
    std::uint64_t verified = 0;  ///< clusters
  };
  /// After the last cluster.
  Result result();

 private:
  struct Partition {
    WiiPartition facts;
    Bytes h3 = {};
    std::optional<ConsoleVolume> console = {};  ///< null: its files cannot be listed
    std::map<std::uint64_t, ClusterFault> faults = {};
    std::vector<std::uint64_t> blank = {};
    std::uint64_t verified = 0;
  };
  void open(Partition& p);
  const Partition* at(std::uint64_t offset) const;
  void find(std::string code, Severity severity, std::string message, std::optional<std::uint64_t> offset = {},
            std::uint64_t count = 1, std::vector<std::string> files = {});
  void describe_faults(const Partition& p);
  void describe_blank(const Partition& p);
  void describe_missing(const Partition& p);
  std::vector<std::string> files_in(const Partition& p, std::uint64_t first, std::uint64_t end) const;

  SourcePtr disc_;
  WiiDisc wii_;
  std::vector<Partition> partitions_;  // those with a key, by offset
  std::mutex mutex_;
  Result result_;
};

}  // namespace opifex
