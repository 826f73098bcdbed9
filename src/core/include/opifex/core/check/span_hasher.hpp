/// Hashes of many ranges of one stream in one pass.
#pragma once

#include <memory>
#include <vector>

#include "opifex/core/base/hash.hpp"

namespace opifex {

/// A range of the stream, and where its hash goes.
struct HashSpan {
  std::uint64_t begin = 0, end = 0;
  std::string* result = nullptr;
};

/// Ranges that begin together share one running state until the first of them ends (a file and its first track: the
/// work is done once). Ranges that overlap otherwise need a lane each; lanes are independent, so that a pipeline can
/// run them side by side.
class SpanHasher {
 public:
  SpanHasher(std::string algorithm, std::vector<HashSpan> spans);
  std::size_t lanes() const { return lanes_.size(); }
  /// Feeds the bytes at `at`; each lane must see the stream in order, from its start.
  void update(std::size_t lane, std::uint64_t at, ByteView data);

 private:
  struct Group {
    std::uint64_t begin = 0;
    std::vector<HashSpan> spans;  // by end
  };
  struct Lane {
    std::vector<Group> groups;  // by begin, not overlapping
    std::size_t current = 0;    // group
    std::size_t ended = 0;      // spans of the group that are done
    std::unique_ptr<Digest> digest = nullptr;
  };
  void finish_ended(Lane& lane, std::uint64_t position);

  std::string algorithm_;
  std::vector<Lane> lanes_;
};

}  // namespace opifex
