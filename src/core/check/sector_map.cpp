#include "opifex/core/check/sector_map.hpp"

#include <algorithm>
#include <array>
#include <charconv>

#include <fmt/format.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/io/byte_source.hpp"

namespace opifex {
namespace {

using cd::Lba;

constexpr std::array<std::string_view, 12> kStateNames = {
    "outside",         "untried",      "good",    "retried",    "repaired", "combined",
    "audio-confirmed", "audio-unsure", "bad-edc", "unreadable", "hang",     "runout"};
constexpr std::string_view kTitle = "opifex sector map 1";

}  // namespace

std::string_view to_string(SectorState state) { return kStateNames[static_cast<std::size_t>(state)]; }

std::optional<SectorState> parse_sector_state(std::string_view word) {
  const auto at = std::find(kStateNames.begin(), kStateNames.end(), word);
  if (at == kStateNames.end()) return std::nullopt;
  return static_cast<SectorState>(at - kStateNames.begin());
}

bool is_lost(SectorState state) {
  return state == SectorState::bad_edc || state == SectorState::unreadable || state == SectorState::hang ||
         state == SectorState::untried;
}

bool is_settled(SectorState state) { return !is_lost(state) && state != SectorState::audio_unsure; }

SectorMap::SectorMap(Lba first, Lba end) : first_(first), end_(std::max(first, end)) {
  if (first_ < end_) from_[first_] = SectorState::untried;
}

SectorState SectorMap::at(Lba lba) const {
  if (lba < first_ || lba >= end_) return SectorState::outside;
  return std::prev(from_.upper_bound(lba))->second;
}

void SectorMap::set(Lba first, Lba end, SectorState state) {
  first = std::max(first, first_);
  end = std::min(end, end_);
  if (first >= end) return;
  const SectorState behind = at(end);
  from_.erase(from_.lower_bound(first), from_.lower_bound(end));
  from_[first] = state;
  if (end < end_) from_[end] = behind;
  // Neighbours of one state are one range.
  const auto merge = [&](Lba border) {
    const auto here = from_.find(border);
    if (here != from_.end() && here != from_.begin() && std::prev(here)->second == here->second) from_.erase(here);
  };
  merge(end);
  merge(first);
}

std::vector<StateRange> SectorMap::ranges() const {
  std::vector<StateRange> ranges;
  for (auto i = from_.begin(); i != from_.end(); ++i) {
    const auto next = std::next(i);
    ranges.push_back({i->first, next == from_.end() ? end_ : next->first, i->second});
  }
  return ranges;
}

std::uint64_t SectorMap::count(SectorState state) const {
  return count_if([&](SectorState s) { return s == state; });
}

std::string SectorMapFile::fact(std::string_view name) const {
  for (const auto& [key, value] : facts)
    if (key == name) return value;
  return {};
}

std::string print(const SectorMapFile& file) {
  std::string text = std::string(kTitle) + "\n";
  for (const auto& [name, value] : file.facts) {
    std::string line = value;
    std::replace(line.begin(), line.end(), '\n', ' ');
    text += fmt::format("{}: {}\n", name, line);
  }
  text += fmt::format("sectors {} {}\n", file.map.first(), file.map.end());
  for (const StateRange& r : file.map.ranges())
    text += fmt::format("{} {} {}\n", to_string(r.state), r.first, r.end - r.first);
  for (const auto& [lba, bytes] : file.suspect_bytes) {
    text += fmt::format("suspect {}", lba);
    for (const cd::Erasure& e : bytes) text += fmt::format(" {}-{}", e.first, e.last);
    text += "\n";
  }
  return text + fmt::format("crc32 {}\n", digest_of("crc32", as_view(text)));
}

namespace {

/// Line by line; every number is held against what the map can have.
class MapParser {
 public:
  MapParser(std::string_view text, const std::string& name) : rest_(text), whole_(text), name_(name) {}

  SectorMapFile parse() {
    if (whole_.size() > kMaxSectorMapBytes) fail("more than 64 MiB", "a sector map");
    if (next() != kTitle) fail(printable(line_.substr(0, 40)), std::string(kTitle));
    SectorMapFile file;
    while (next().find(": ") != std::string_view::npos) {
      const std::size_t colon = line_.find(": ");
      file.facts.emplace_back(line_.substr(0, colon), line_.substr(colon + 2));
    }
    read_bounds(file);
    Lba reached = file.map.first();
    while (next().substr(0, 6) != "crc32 ") {
      if (line_.starts_with("suspect "))
        read_suspect(file);
      else
        reached = read_range(file, reached);
    }
    if (reached != file.map.end()) fail("states end at " + std::to_string(reached), std::to_string(file.map.end()));
    check_crc();
    return file;
  }

 private:
  [[noreturn]] void fail(std::string found, std::string expected) const {
    throw Error({.code = "bad_sector_map",
                 .what = "the map of sectors cannot be used",
                 .file = name_,
                 .line = number_,
                 .found = std::move(found),
                 .expected = std::move(expected),
                 .hint = "<job dump> <restart> begins anew without it"});
  }
  std::string_view next() {
    if (rest_.empty()) {
      ++number_;
      fail("the end of the file", "a line with crc32");
    }
    at_ = whole_.size() - rest_.size();
    const std::size_t end = std::min(rest_.find('\n'), rest_.size());
    line_ = rest_.substr(0, end);
    rest_.remove_prefix(std::min(end + 1, rest_.size()));
    ++number_;
    return line_;
  }
  template <typename T>
  T number(std::string_view word, std::int64_t low, std::int64_t high) const {
    std::int64_t value = 0;
    const auto [end, error] = std::from_chars(word.data(), word.data() + word.size(), value);
    if (error != std::errc() || end != word.data() + word.size() || value < low || value > high)
      fail(printable(word), fmt::format("a number from {} to {}", low, high));
    return static_cast<T>(value);
  }
  void read_bounds(SectorMapFile& file) {
    const auto words = split_words(line_);
    if (words.size() != 3 || words[0] != "sectors") fail(printable(line_.substr(0, 40)), "sectors FIRST END");
    constexpr std::int64_t kMost = 1 << 30;  // ten times the largest disc; differences stay in 32 bits
    const auto first = number<Lba>(words[1], -150, kMost);
    file.map = SectorMap(first, number<Lba>(words[2], first, kMost));
  }
  Lba read_range(SectorMapFile& file, Lba reached) const {
    const auto words = split_words(line_);
    const auto state = words.size() == 3 ? parse_sector_state(words[0]) : std::nullopt;
    if (!state) fail(printable(line_.substr(0, 40)), "STATE FIRST COUNT");
    if (number<Lba>(words[1], file.map.first(), file.map.end()) != reached)
      fail(printable(words[1]), std::to_string(reached));
    const auto count = number<Lba>(words[2], 1, file.map.end() - reached);
    file.map.set(reached, reached + count, *state);
    return reached + count;
  }
  void read_suspect(SectorMapFile& file) const {
    const auto words = split_words(line_);
    if (words.size() < 2) fail(printable(line_.substr(0, 40)), "suspect LBA FIRST-LAST");
    auto& bytes = file.suspect_bytes[number<Lba>(words[1], file.map.first(), file.map.end())];
    for (std::size_t i = 2; i < words.size(); ++i) {
      const std::size_t dash = std::min(words[i].find('-'), words[i].size() - 1);
      const auto first = number<std::size_t>(words[i].substr(0, dash), 0, cd::kRawBytes - 1);
      const auto last = number<std::size_t>(words[i].substr(dash + 1), static_cast<std::int64_t>(first),
                                            static_cast<std::int64_t>(cd::kRawBytes) - 1);
      bytes.push_back({first, last});
    }
  }
  void check_crc() const {
    const std::string expected = digest_of("crc32", as_view(whole_.substr(0, at_)));
    if (line_.substr(6) != expected) fail(printable(line_.substr(0, 40)), "crc32 " + expected);
  }

  std::string_view rest_, whole_, line_ = {};
  std::string name_;
  std::size_t at_ = 0;  // where line_ begins
  std::uint32_t number_ = 0;
};

}  // namespace

SectorMapFile parse_sector_map(std::string_view text, const std::string& name) { return MapParser(text, name).parse(); }

void remove_old_map(const std::filesystem::path& path) {
  std::error_code ignored;
  if (!std::filesystem::is_regular_file(path, ignored)) return;
  const Bytes head = read_up_to(*open_file(path), 0, kTitle.size());
  if (as_text(head) == kTitle) std::filesystem::remove(path, ignored);
}

}  // namespace opifex
