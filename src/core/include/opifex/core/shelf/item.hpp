/// What a shelf keeps of a collection: items, the files they lie in, and the hashes of what they hold.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace opifex {

/// A file of the user's as it was when it was read.
struct ShelfFile {
  /// Never the time of a file: it changed while it was read, or so shortly before that nobody could tell.
  static constexpr std::int64_t kUnsettled = INT64_MIN;

  std::string path;  ///< absolute; bytes, as the drive has them
  std::uint64_t size_bytes = 0;
  std::int64_t modified_ns = kUnsettled;  ///< since 1970
  std::uint64_t inode = 0, device = 0;
  bool other = false;  ///< it is no game and no part of one

  bool same_state(const ShelfFile& now) const {
    return modified_ns != kUnsettled && size_bytes == now.size_bytes && modified_ns == now.modified_ns &&
           inode == now.inode;
  }
};

/// Bytes under hashes: a file of an item, what it decodes to, or a piece of it (lists/match.hpp has them in this form).
struct ShelfContent {
  enum class Kind { file, view, piece };
  Kind kind = Kind::file;
  std::string path = {};               ///< of files and pieces: "disc.bin", "box.zip!disc.bin", "disc.cue#track02"
  std::string through = {};            ///< of a view: "the disc inside"
  std::vector<std::uint32_t> of = {};  ///< the item's files, by number, that it is seen through or consists of
  bool disk = false;                   ///< a view that lists know as a disk
  bool merged = false;                 ///< a piece: all tracks as one bin
  bool sheet = false;                  ///< a file: the sheet
  std::uint64_t size_bytes = 0;
  std::string crc32 = {}, md5 = {}, sha1 = {};  ///< empty: it could not be read

  friend bool operator==(const ShelfContent&, const ShelfContent&) = default;
};

/// One game, or what stands for one.
struct ShelfItem {
  std::int64_t id = 0;       ///< of this shelf; 0: it is not on it yet
  std::string host;          ///< the computer whose path it is
  std::string path;          ///< of the leading file, the archive or the folder; absolute, bytes
  std::string inside = {};   ///< the member of an archive, or the id in a file of several; empty: the file itself
  std::string kind = {};     ///< as in a survey: "image", "game folder", "package" ...
  std::string format = {};   ///< id of a format; empty: none
  std::string archive = {};  ///< kind of the archive around it: "zip"; empty: none
  std::string platform = {}, title = {}, serial = {}, region = {};
  int disc = 0, discs = 0;   ///< of a set; 0: alone, or nobody knows how many
  std::string set = {};      ///< what the discs of one game have in common; empty: it stands alone
  std::string verdict = {};  ///< of the check ("intact" ...), or "unread": it could not be opened
  std::string remark = {};   ///< the first thing that is wrong with it; empty: nothing is
  std::string state = {};    ///< "trimmed", "scrubbed"; empty: as the disc was
  bool complete = true;
  bool compressed = false;  ///< a container that packs, or an archive
  bool rotten = false;      ///< read again, it was no longer what is recorded here
  std::uint64_t stored_bytes = 0, content_bytes = 0;
  /// One for all items that hold the same; empty: nobody can say. `game_key` is of the files in it, where a disc may be
  /// trimmed or laid out anew.
  std::string content_key = {}, game_key = {};
  std::string known = {};  ///< to_string(KnownVerdict); empty: nobody asked
  std::string known_list = {}, known_set = {};
  std::int64_t added_at = 0, checked_at = 0, gone_at = 0;  ///< seconds since 1970; 0: never
  std::vector<ShelfFile> files = {};
  std::vector<ShelfContent> contents = {};

  bool is_gone() const { return gone_at != 0; }
  /// Nothing speaks against it: intact, or of a kind that verifies nothing, and nothing wrong was seen.
  bool is_sound() const { return verdict == "intact" || (verdict == "unsupported" && remark.empty()); }
};

/// "box.zip!disc.bin", "drive.wbfs (ABCD)": where it lies, for people.
std::string place_of(const ShelfItem& item);

}  // namespace opifex
