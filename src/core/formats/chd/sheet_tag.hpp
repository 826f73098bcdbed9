/// The cue sheet of a disc, kept in a tag of our own: what sheets know and the track list has no place for. The tag is
/// not hashed, so that the overall SHA-1 stays the customary one, and never needed to read the data (README, OPcs).
#pragma once

#include <optional>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/image/image.hpp"

#include "frames.hpp"
#include "tracks.hpp"

namespace opifex::chd {

inline constexpr const char* kSheetTag = "OPcs";

struct SheetTag {
  struct File {
    std::string name, sha1;
    std::uint64_t size_bytes = 0;
  };
  std::vector<File> files;
  std::string sheet;  ///< UTF-8, lines end with LF
};

/// The sheet our own writer makes for the disc; hashes are not known yet.
SheetTag make_sheet_tag(const Image& image);
Bytes print_sheet_tag(const SheetTag& tag);
/// Nothing if the version is unknown or a line is not as it should be.
std::optional<SheetTag> parse_sheet_tag(ByteView data);

/// Hashes the files of a sheet while the frames go by in order.
class SheetHasher {
 public:
  SheetHasher(const SheetTag& tag, std::vector<FrameRun> runs);
  /// Whole frames of the logical bytes, from frame `first` on.
  void update(std::uint64_t first, ByteView frames);
  /// One a file; empty if the frames did not make up the files exactly.
  std::vector<std::string> finish();

 private:
  void add(ByteView bytes);
  std::vector<FrameRun> runs_;
  std::vector<std::uint64_t> left_;  // bytes of each file still to come
  std::vector<std::string> sums_;
  Digest digest_{"sha1"};
  bool too_many_ = false;
};

/// A disc by a kept sheet: its layout, and where the sectors of each track of the list begin.
struct SheetLayout {
  cd::Layout layout;
  std::vector<cd::Lba> first_lba;
};
/// `bytes_of(track, with_subcode)` gives the sectors of the track with that place in the list. Nothing if the sheet is
/// not one of exactly these tracks.
std::optional<SheetLayout> layout_by_sheet(const SheetTag& tag, const Contents& contents,
                                           const std::function<SourcePtr(std::size_t, bool)>& bytes_of);

}  // namespace opifex::chd
