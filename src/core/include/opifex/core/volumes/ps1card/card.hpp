/// PS1 memory cards: 16 blocks of 8192 bytes, each of 64 frames of 128; the first block is the directory. Numbers are
/// little-endian. Single saves (a directory frame and their blocks) and bare blocks are read alike.
#pragma once

#include <array>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/volumes/file_system.hpp"

namespace opifex::ps1card {

inline constexpr std::size_t kFrameBytes = 128, kCardBytes = 131'072, kSaveBlockBytes = 8192;
inline constexpr unsigned kSaveBlocks = 15, kMostCards = 16;
inline constexpr std::size_t kLongestName = 20;

struct Finding {
  const char* code;
  std::optional<unsigned> frame;
  bool error = true;  ///< false: a warning
  std::string message = {};
};

struct Save {
  unsigned first = 0;                        ///< its first frame of the directory, 1 to 15
  std::string name = {};                     ///< the bytes before the NUL
  std::uint32_t size_field = 0;              ///< bytes, as the directory says
  std::vector<unsigned> chain = {};          ///< its blocks, as far as they could be followed
  std::string title = {}, plain_title = {};  ///< UTF-8; with full-width letters as usual ones
  std::vector<Bytes> icons = {};             ///< 16 x 16 pixels of red, green, blue and opacity
  std::string flaw = {};                     ///< why it is not readable, or cannot come back; empty: it can
  Bytes frame = {};                          ///< of the directory, as it is
  std::string region() const;                ///< "BE"
  std::string code() const;                  ///< "PRXS-00101"
};

struct Card {
  std::vector<Save> saves = {}, deleted = {};
  std::vector<Finding> findings = {};
  unsigned free_blocks = 0;    ///< never used, or of deleted saves
  unsigned usable_blocks = 0;  ///< those of them without a broken frame
  unsigned never_used = 0;
  bool recognised = true;  ///< false: of the right size, and nothing else
  bool damaged() const;
};

enum class Kind { cards, single, bare, none };
/// By size and first bytes.
Kind kind_of(ByteView image);

/// 131 072 bytes. Never throws: what is wrong is a finding.
Card read_card(ByteView card);
/// A single save: its frame is "1".
Card read_single(ByteView image);
/// Bare blocks: a save without a name.
Card read_bare(ByteView image);
/// A save's blocks in order, broken frames read from their replacements.
Bytes contents_of(ByteView card, const Save& save);
/// As contents of a single save before its blocks: state 51, its size, no next.
Bytes header_for_single(const Save& save, std::size_t blocks);

/// A card without a save.
Bytes make_card();

/// Bytes outside 20 to 7E, the backslash and what parts folders as \xNN.
std::string shown_name(std::string_view name);

/// The changes, in a copy of one card. Error as FileSystem::edit.
class Editor {
 public:
  explicit Editor(ByteView card);
  EditStep apply(const VolumeEdit& edit);
  const Bytes& image() const { return image_; }

 private:
  void put(const VolumeEdit& edit, EditStep& step);
  void drop(const std::string& name, EditStep& step);
  void undelete(const std::string& which, EditStep& step);
  void rename(const std::string& name, const std::string& to);
  std::vector<unsigned> choose_blocks(std::size_t count) const;
  const Save& require(const std::string& name) const;
  std::span<std::byte> frame(unsigned number);
  void write_free(unsigned number);
  void reread();

  Bytes image_;
  Card card_;
};

/// Room for all saves to be put, before anything is done. Error (needs_word, "full").
void require_room(ByteView card, std::span<const VolumeEdit> edits);

}  // namespace opifex::ps1card
