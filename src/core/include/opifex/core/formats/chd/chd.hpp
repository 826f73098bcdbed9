/// CHD containers: hunks of compressed data, a map that says how each is stored, and metadata that says what they are.
/// formats/chd/README.md has the layout. Versions 3, 4 and 5 are read.
#pragma once

#include <array>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/formats/chd/hunk_map.hpp"
#include "opifex/core/io/byte_source.hpp"

namespace opifex::chd {

using Sha1 = std::array<std::byte, 20>;

struct Tag {
  std::string name;  ///< four characters
  std::uint8_t flags = 0;
  std::uint64_t offset = 0;
  Bytes data;
  bool hashed() const { return (flags & 1) != 0; }
  /// Without the NUL at the end.
  std::string text() const;
};

struct Header {
  int version = 5;
  std::uint64_t header_bytes = 0, logical_bytes = 0, map_offset = 0, meta_offset = 0;
  std::uint32_t hunk_bytes = 0, unit_bytes = 0, hunk_count = 0;
  std::array<std::string, 4> codecs = {};  ///< "cdlz" ...; empty: slot unused
  bool compressed = true;
  std::optional<Sha1> raw_sha1 = {}, sha1 = {}, parent_sha1 = {};  ///< overall SHA-1 of version 3: none
  std::string md5 = {};                                            ///< version 3: of the logical bytes, hexadecimal
  /// What a child's parent_sha1 must be.
  std::optional<Sha1> identity() const { return sha1 ? sha1 : raw_sha1; }
};

class Decoder;
class SequenceDigest;

/// An opened container. Immutable; safe to read from many threads.
class Chd {
 public:
  /// Finds a parent by its SHA-1; null if there is none.
  using FindParent = std::function<std::shared_ptr<const Chd>(const Sha1& wanted)>;
  /// Error with the code of its reason; nothing larger than the file justifies is allocated.
  static std::shared_ptr<const Chd> open(SourcePtr file, const FindParent& find_parent, int depth = 0);
  ~Chd();

  const Header& header() const { return header_; }
  const HunkMap& hunks() const { return hunks_; }
  const std::vector<Tag>& tags() const { return tags_; }
  const Chd* parent() const { return parent_.get(); }
  std::string name() const { return file_->name(); }
  std::uint64_t file_bytes() const { return file_->size(); }
  const Tag* tag(std::string_view name) const;

  /// The whole hunk, checked by its CRC. `parity_made`, a byte for each frame of 2448 bytes or none at all, is set
  /// where the codec left sync and parity out, so that they were made anew. Error "hunk_data", "hunk_crc",
  /// "parent_range".
  void read_hunk(std::uint64_t number, std::span<std::byte> out, std::span<std::byte> parity_made = {}) const;
  /// The logical bytes, through a cache of decoded hunks.
  SourcePtr logical() const;
  /// From now on what is read through logical() is hashed, too, as long as it is read in order.
  void watch() const;
  /// The SHA-1 of all logical bytes, if they were read since watch(), in hexadecimal; of a file that has no SHA-1 but
  /// an MD5, that.
  std::optional<std::string> watched_hash() const;
  /// Overall SHA-1 as the header should have it for this raw SHA-1.
  Sha1 overall_sha1(const Sha1& raw) const;

  /// "zlib", "none", "self" ... as the map has it.
  std::string kind_name(const Hunk& hunk) const;

 private:
  explicit Chd(SourcePtr file);
  void decode(std::uint64_t number, std::span<std::byte> out, std::span<std::byte> parity_made) const;
  void read_parent(std::uint64_t place, std::uint64_t each, std::span<std::byte> out, std::uint64_t hunk) const;
  void check_crc(std::uint64_t number, ByteView bytes) const;
  class Logical;
  struct Pool;
  struct Shared;
  void watched(std::uint64_t number, ByteView hunk) const;

  SourcePtr file_;
  Header header_;
  HunkMap hunks_;
  std::vector<Tag> tags_;
  std::shared_ptr<const Chd> parent_;
  std::unique_ptr<Pool> pool_;
  std::unique_ptr<Shared> shared_;
  std::unique_ptr<SequenceDigest> watch_;
  std::weak_ptr<const Chd> self_;
};

/// From 40 hexadecimal digits, as Digest gives them.
Sha1 sha1_from_hex(const std::string& text);

/// The overall SHA-1 of data and hashed metadata (README, metadata).
Sha1 overall_sha1_of(const Sha1& raw, const std::vector<Tag>& tags);

/// Reads the track list and makes the disc of it. Error as at opening an image. For tests and fuzzing.
void check_contents(const Chd& chd);

/// What the crc16() of hunks and maps starts with.
inline constexpr std::uint16_t kCrcStart = 0xFFFF;

}  // namespace opifex::chd
