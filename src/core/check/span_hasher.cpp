#include "opifex/core/check/span_hasher.hpp"

#include <algorithm>

namespace opifex {

SpanHasher::SpanHasher(std::string algorithm, std::vector<HashSpan> spans) : algorithm_(std::move(algorithm)) {
  std::sort(spans.begin(), spans.end(), [](const HashSpan& a, const HashSpan& b) {
    return a.begin != b.begin ? a.begin < b.begin : a.end < b.end;
  });
  std::vector<Group> groups;
  for (const HashSpan& span : spans) {
    if (groups.empty() || groups.back().begin != span.begin) groups.push_back({span.begin, {}});
    groups.back().spans.push_back(span);
  }
  for (Group& group : groups) {
    const auto free_lane = std::find_if(lanes_.begin(), lanes_.end(), [&](const Lane& lane) {
      return lane.groups.back().spans.back().end <= group.begin;
    });
    if (free_lane != lanes_.end()) {
      free_lane->groups.push_back(std::move(group));
    } else {
      lanes_.emplace_back();
      lanes_.back().groups.push_back(std::move(group));
    }
  }
  for (Lane& lane : lanes_) finish_ended(lane, 0);
}

void SpanHasher::finish_ended(Lane& lane, std::uint64_t position) {
  while (lane.current < lane.groups.size()) {
    Group& group = lane.groups[lane.current];
    if (position < group.begin) return;
    if (!lane.digest) lane.digest = std::make_unique<Digest>(algorithm_);
    while (lane.ended < group.spans.size() && group.spans[lane.ended].end <= position) {
      const bool last = lane.ended + 1 == group.spans.size();
      Digest fork = last ? std::move(*lane.digest) : Digest(*lane.digest);
      *group.spans[lane.ended++].result = fork.finish();
    }
    if (lane.ended < group.spans.size()) return;
    lane.digest.reset();
    lane.ended = 0;
    ++lane.current;
  }
}

void SpanHasher::update(std::size_t index, std::uint64_t at, ByteView data) {
  Lane& lane = lanes_[index];
  while (!data.empty() && lane.current < lane.groups.size()) {
    const Group& group = lane.groups[lane.current];
    // Up to the next border: the group's begin, or the end of its next span.
    const std::uint64_t border = at < group.begin ? group.begin : group.spans[lane.ended].end;
    const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(data.size(), border - at));
    if (at >= group.begin) {
      if (!lane.digest) lane.digest = std::make_unique<Digest>(algorithm_);
      lane.digest->update(data.first(n));
    }
    at += n;
    data = data.subspan(n);
    finish_ended(lane, at);
  }
}

}  // namespace opifex
