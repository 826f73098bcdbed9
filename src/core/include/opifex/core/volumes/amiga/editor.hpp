/// Changes of an AmigaDOS volume, on a copy of it in memory.
#pragma once

#include "opifex/core/volumes/amiga/disk.hpp"
#include "opifex/core/volumes/file_system.hpp"

namespace opifex::amiga {

/// The boot code that starts the system from a disk, of our own: it finds dos.library and gives its start to whoever
/// reads boot blocks.
ByteView usual_boot_code();

/// Room that all files and folders to be put will take, in blocks, without the caches of directories.
std::uint64_t blocks_needed(std::span<const VolumeEdit> edits, Kind kind);

class Editor {
 public:
  /// Error (refused, "damaged") unless the image is a volume without an error. `now`: seconds since 1970.
  Editor(Bytes image, std::int64_t now);
  /// Of a volume that is being mended: its directories are right by now, its bitmap is.
  Editor(Bytes image, const Disk& mended);

  /// All of them or, with an Error, none: then the editor is of no more use.
  std::vector<EditStep> apply(std::span<const VolumeEdit> edits);
  /// The caches of these folders made anew. Their chains of names and of caches come to an end, and the bitmap is
  /// right.
  void rebuild_caches_of(std::vector<std::uint32_t> folders);
  const Bytes& image() const { return image_; }
  std::uint32_t free_blocks() const;

 private:
  /// An entry by its place in the chain of its folder.
  struct Place {
    std::uint32_t folder = 0, block = 0;
    std::uint32_t before = 0;  // in the chain; 0: it is the first
    unsigned slot = 0;
  };
  std::span<std::byte> at_block(std::uint32_t b);
  ByteView at_block(std::uint32_t b) const;
  std::uint32_t field(std::uint32_t b, std::size_t at) const;
  void store(std::uint32_t b, std::size_t at, std::uint32_t value);
  EntryType type_of(std::uint32_t b) const;
  bool is_folder(std::uint32_t b) const;
  std::string name_of(std::uint32_t b) const;

  std::optional<Place> find_in(std::uint32_t folder, std::string_view name) const;
  std::optional<Place> find(const std::string& path) const;
  Place require(const std::string& path) const;
  /// The folder a path lies in, and its last part as a name that may be.
  std::pair<std::uint32_t, std::string> split(const std::string& path) const;

  std::uint32_t take_block();
  void give_back(std::uint32_t b);
  void mark(std::uint32_t b, bool free);
  void require_room(std::span<const VolumeEdit> edits) const;

  EditStep apply_one(const VolumeEdit& edit);
  void put(const VolumeEdit& edit);
  void make_folder(const VolumeEdit& edit);
  std::uint32_t new_header(std::uint32_t folder, const std::string& name, EntryType type, const KeptFacts& kept);
  void write_contents(std::uint32_t header, const ByteSource& contents);
  void drop(const VolumeEdit& edit);
  void drop_link(std::uint32_t link);
  void collect(std::uint32_t folder, std::vector<std::uint32_t>& all) const;
  void refuse_linked(std::uint32_t b, const std::string& path) const;
  void free_entry(std::uint32_t b);
  void move(const VolumeEdit& edit);
  void relabel(const std::string& label);
  void set_comment(std::uint32_t b, const std::string& comment, const std::string& path);
  void protect(const VolumeEdit& edit);
  void install_boot(const VolumeEdit& edit);

  void link_in(std::uint32_t folder, std::uint32_t b);
  void unlink(const Place& place);
  void touch(std::uint32_t folder);
  void rebuild_caches();
  void rebuild_cache(std::uint32_t folder);
  Entry head_of(std::uint32_t b) const;
  std::vector<std::uint32_t> caches_of(std::uint32_t folder) const;
  Entry entry_of(std::uint32_t b) const;
  std::vector<std::uint32_t> entries_of(std::uint32_t folder) const;
  void seal_all();

  Bytes image_;
  Kind kind_;
  std::uint32_t root_ = 0, blocks_ = 0, bitmap_ = 0;
  std::uint32_t maybe_free_ = 0;  // none between the root and it
  Date now_;
  std::vector<std::uint32_t> touched_ = {};  // folders whose entries changed
  std::vector<bool> changed_ = {};           // blocks with a checksum to be made anew
};

}  // namespace opifex::amiga
