/// Why a list does not know something that is near to what it has: shifted music, sectors too many, a header in front.
/// What is found here is an explanation and never a verdict.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "opifex/core/base/progress.hpp"
#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/lists/known_list.hpp"

namespace opifex {

/// Music is compared at shifts of up to so many samples each way; a sample is four bytes, left and right.
inline constexpr std::int64_t kMostShift = 5'000;

enum class NearKind {
  audio_offset,  ///< the same music, some samples later (positive) or earlier
  too_long,      ///< bytes follow the end
  too_short,     ///< the filler at the end is missing
  leading,       ///< bytes stand in front: a container's or a copier's header, a pregap that the list does not have
  pregap,        ///< sectors of its pregap are missing, or lie in the file before
  byte_order     ///< the same bytes, in another order within each word
};
/// "audio_offset", "too_long" ...
std::string_view to_string(NearKind kind);

/// What one track or file is, but for something.
struct NearMiss {
  NearKind kind = NearKind::too_long;
  std::uint32_t entry = 0;  ///< of the list
  std::int64_t amount = 0;  ///< samples of an offset, bytes in a word, else bytes
  std::string filler = {};  ///< what the bytes too many or too few are: "zeros", "FF", "data"
  std::string proof = {};   ///< the strongest hash that is equal then
};

struct CloseLook {
  std::vector<NearMiss> found = {};     ///< at most one for each kind
  std::vector<std::string> tried = {};  ///< for people: what was compared
};

/// A stretch that no list knows as it is.
struct LookAt {
  SourcePtr all = {};  ///< the file, or all tracks of the disc one behind the other
  std::uint64_t begin = 0, end = 0;
  std::uint32_t unit_bytes = 1;  ///< 2352 of tracks: what is too much or too little is counted in these
  bool audio = false;
  std::uint64_t music_begin = 0, music_end = 0;  ///< music without a break around it; beyond lies silence
};

/// The entries of a list by size; made once for many looks.
class EntriesBySize {
 public:
  explicit EntriesBySize(const KnownList& list);
  /// Entries that something can be held against: those of `sets`, and others of nearly this size.
  std::vector<std::uint32_t> near(std::uint64_t size, std::span<const std::uint32_t> sets) const;
  bool has(std::uint64_t size) const;
  const KnownList& list() const { return list_; }

 private:
  const KnownList& list_;
  std::vector<std::uint32_t> order_;
};

/// `sets`: those that the stretch may belong to, by name or serial. Reads it twice at most, and what is close to an
/// entry once more.
CloseLook look_closer(const EntriesBySize& entries, std::span<const std::uint32_t> sets, const LookAt& at,
                      JobContext& context);

}  // namespace opifex
