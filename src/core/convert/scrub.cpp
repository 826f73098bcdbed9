#include "opifex/core/convert/scrub.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

/// Zeros everywhere but in the ranges that are kept.
class KeptSource final : public ByteSource {
 public:
  KeptSource(SourcePtr whole, std::vector<ByteRange> kept) : whole_(std::move(whole)), kept_(std::move(kept)) {}
  std::uint64_t size() const override { return whole_->size(); }
  std::string name() const override { return whole_->name(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    const std::uint64_t end = offset + out.size();
    std::fill(out.begin(), out.end(), std::byte{0});
    for (auto r = first_behind(offset); r != kept_.end() && r->first < end; ++r) {
      const std::uint64_t from = std::max(offset, r->first), to = std::min(end, r->end);
      whole_->read_at(from, out.subspan(static_cast<std::size_t>(from - offset), static_cast<std::size_t>(to - from)));
    }
  }
  std::uint64_t next_data(std::uint64_t offset) const override {
    for (auto r = first_behind(offset); r != kept_.end(); ++r) {
      const std::uint64_t data = whole_->next_data(std::max(offset, r->first));
      if (data < r->end) return data;
    }
    return size();
  }

 private:
  std::vector<ByteRange>::const_iterator first_behind(std::uint64_t offset) const {
    return std::upper_bound(kept_.begin(), kept_.end(), offset,
                            [](std::uint64_t at, const ByteRange& r) { return at < r.end; });
  }

  SourcePtr whole_;
  std::vector<ByteRange> kept_;
};

/// Whole units, no further than the disc.
std::vector<ByteRange> rounded(std::vector<ByteRange> ranges, std::uint64_t unit, std::uint64_t size) {
  for (ByteRange& r : ranges) {
    r.first = std::min(round_down(r.first, unit), size);
    r.end = std::min(round_up(r.end, unit), size);
  }
  return joined(std::move(ranges));
}

std::vector<ByteRange> without(const std::vector<ByteRange>& ranges, const ByteRange& hole) {
  std::vector<ByteRange> out;
  for (const ByteRange& r : ranges) {
    out.push_back({r.first, std::min(r.end, std::max(r.first, hole.first))});
    out.push_back({std::max(r.first, std::min(r.end, hole.end)), r.end});
  }
  return joined(std::move(out));
}

Loss accepted(std::string kind, std::string where, std::string detail) {
  return {std::move(kind), std::move(where), std::move(detail), true};
}

[[noreturn]] void cannot_tell(const Image& image, const char* why) {
  throw Error({.code = "bad_tables",
               .what = "nobody can tell what of this disc is used",
               .file = image.path.string(),
               .found = why,
               .hint = "leave <scrub> out: everything is kept"});
}

class Scrubber {
 public:
  Scrubber(const Image& image, const ScrubRequest& request) : image_(image), request_(request) { out_.image = image; }

  Scrubbed run() {
    const auto wii = image_.blocks() ? read_wii_disc(image_.stored_blocks(), image_.keys.get()) : std::nullopt;
    const auto console = image_.blocks() && !wii ? read_console_volume(image_.stored_blocks()) : std::nullopt;
    if (!wii && !(console && request_.keep == WiiKeep::all))
      throw Error({.code = "no_console_disc",
                   .what = "this is left out only of Wii discs, and unused data of GameCube discs, too",
                   .file = image_.path.string(),
                   .hint = "leave <scrub> and <keep> out"});
    if (wii) kept_ = {{0, image_.blocks()->size()}};
    if (request_.unused) wii ? leave_unused(*wii) : leave_unused(*console);
    if (wii && request_.keep == WiiKeep::game) leave_partitions(*wii);
    out_.image.content = BlockContent{.bytes = std::make_shared<KeptSource>(image_.blocks(), std::move(kept_))};
    return std::move(out_);
  }

 private:
  void keep(const DiscUse& use) {
    const std::uint64_t size = image_.blocks()->size();
    kept_ = rounded(use.ranges, request_.unit_bytes, size);
    std::uint64_t bytes = 0;
    for (const ByteRange& r : kept_) bytes += r.end - r.first;
    out_.losses.push_back(accepted("scrubbed", human_size(size - bytes),
                                   "what no file uses is zeros: hashes of the whole disc will not match any list's"));
  }

  void leave_unused(const ConsoleVolume& console) {
    const DiscUse use = use_of_gamecube(console);
    if (!use.known || console.volume.damaged()) cannot_tell(image_, "a broken table of files");
    keep(use);
  }

  void leave_unused(const WiiDisc& wii) {
    // A table that cannot be read completely may name more than it shows.
    if (!wii.sound) cannot_tell(image_, "a broken table of partitions");
    for (const WiiPartition& p : wii.partitions) {
      if (p.blank || !p.readable()) continue;
      const ConsoleVolume console = read_wii_partition(image_.stored_blocks(), p);
      if (!console.listed || console.volume.damaged()) cannot_tell(image_, "a broken table of files");
    }
    for (const WiiPartition& p : wii.partitions)
      if (request_.keep == WiiKeep::all || p.type == 0)
        if (!p.blank) locked_ = locked_ || p.listed_only || !p.readable();
    if (locked_) read_wii_volume(image_.blocks(), wii);  // says which key is missing, if none fits
    if (locked_)
      out_.image.warnings.push_back(
          {"kept_whole", "partitions whose key is not there, or that are damaged, are kept whole"});
    keep(use_of_wii(image_.blocks(), wii, request_.keep));
  }

  void leave_partitions(const WiiDisc& wii) {
    std::vector<std::string> names;
    for (const WiiPartition& p : wii.partitions) {
      if (p.type == 0 || p.end() <= p.offset) continue;
      kept_ = without(kept_, {p.offset, p.end()});
      names.push_back(fmt::format("{} at {:#x}", p.type_name(), p.offset));
    }
    if (names.empty()) return;
    out_.losses.push_back(accepted("partitions", fmt::format("{}", fmt::join(names, ", ")),
                                   "still listed, but blank: the console cannot use them"));
  }

  const Image& image_;
  const ScrubRequest& request_;
  Scrubbed out_;
  std::vector<ByteRange> kept_;
  bool locked_ = false;
};

}  // namespace

Scrubbed scrub(const Image& image, const ScrubRequest& request) { return Scrubber(image, request).run(); }

}  // namespace opifex
