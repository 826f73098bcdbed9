/// Save memory of the 3DO: 32 768 bytes, a circular list of blocks, files and free ones alike, that tile all behind the
/// label. Numbers are big-endian.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/volumes/file_system.hpp"

namespace opifex::nvram {

inline constexpr std::size_t kImageBytes = 0x8000, kLongestName = 31;

struct Finding {
  const char* code;
  std::optional<std::uint32_t> offset;
  bool error = true;  ///< false: a warning
  std::string message = {};
};

struct Block {
  std::uint32_t offset = 0, size_bytes = 0;  ///< with its header
  bool is_file = false;
  bool good_size = true;
  // Of a file:
  std::string name = {};
  std::uint32_t byte_count = 0, id = 0, type = 0;
  std::string flaw = {};  ///< why it is not readable; empty: it is
};

struct Memory {
  std::string label = {};
  std::vector<Block> blocks = {};  ///< in list order
  std::vector<Finding> findings = {};
  std::uint32_t total_free = 0, largest_file = 0;  ///< bytes
  bool recognised = true;                          ///< false: of the right size, and nothing else
  bool damaged() const;
};

/// Bytes without a meaning in a path as \xNN.
std::string shown_name(std::string_view name);

/// 32 768 bytes. Never throws: what is wrong is a finding.
Memory read_memory(ByteView image);
Bytes make_memory();

/// The changes, in a copy. Error as FileSystem::edit.
class Editor {
 public:
  explicit Editor(ByteView image);
  EditStep apply(const VolumeEdit& edit);
  const Bytes& image() const { return image_; }

 private:
  void put(const VolumeEdit& edit, EditStep& step);
  std::uint64_t drop(const std::string& name);
  void rename(const std::string& name, const std::string& to);
  const Block* find(const std::string& name) const;
  std::uint32_t field(std::size_t at) const { return load_be32(image_, at); }
  void store(std::size_t at, std::uint32_t value) { store_be32(image_, at, value); }
  void reread();

  Bytes image_;
  Memory memory_;
};

/// Room for all files to be put, before anything is done. Error (needs_word, "full").
void require_room(ByteView image, std::span<const VolumeEdit> edits);

}  // namespace opifex::nvram
