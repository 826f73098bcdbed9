/// The members of an archive one behind the other, as bytes that can be read at any place.
#pragma once

#include <deque>
#include <map>
#include <memory>
#include <mutex>
#include <optional>

#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/file_descriptor.hpp"

#include "archive_reader.hpp"

namespace opifex {

/// A member whose bytes are wanted.
struct StreamMember {
  std::size_t entry = 0;  ///< which one in the archive
  std::string name;
  std::uint64_t start = 0, size_bytes = 0;  ///< in the stream
  std::optional<std::uint32_t> crc = {};    ///< where the library checks none
};

/// Reading forward decodes each member once and keeps the last bytes. Going back starts the pass again; after a few
/// times all members that were asked for are copied to a file without a name in the spool folder.
class ArchiveStream final : public ByteSource, public std::enable_shared_from_this<ArchiveStream> {
 public:
  ArchiveStream(std::vector<std::filesystem::path> volumes, std::string kind, std::vector<StreamMember> members,
                std::filesystem::path spool_folder);
  ~ArchiveStream() override;

  std::uint64_t size() const override;
  std::string name() const override;
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override;
  /// The bytes of the n-th member of `members`.
  SourcePtr open(std::size_t n, const std::string& name) const;

 private:
  class Member;
  /// Of a member; as ByteSource has it, as far as it is known.
  std::uint64_t data_behind(std::uint64_t offset, std::size_t number) const;
  void read_piece(std::uint64_t offset, std::span<std::byte> out) const;
  void restart() const;
  void move_to(std::uint64_t offset) const;
  bool begin_member_at(std::uint64_t offset) const;
  /// Bytes that were read, behind a hole that may be longer than what is kept.
  struct Pending {
    Bytes bytes;
    std::uint64_t place = 0;
    bool last = false;  // nothing comes behind them
  };
  void fetch(const StreamMember& m, std::uint64_t end) const;
  void finish_member(bool ended) const;
  /// Up to where nothing but zeros follows.
  std::uint64_t hole_end() const;
  void take_block() const;
  void end_member() const;
  void keep(Bytes bytes) const;
  void copy_kept(std::uint64_t offset, std::span<std::byte> out) const;
  void load_small() const;
  void spool() const;
  const StreamMember& current() const { return members_[member_]; }

  const std::vector<std::filesystem::path> volumes_;
  const std::string kind_;
  const std::vector<StreamMember> members_;
  const std::filesystem::path spool_folder_;

  mutable std::mutex mutex_;
  mutable std::unique_ptr<ArchiveReader> reader_;
  mutable std::size_t next_entry_ = 0, member_ = 0;  // of the archive; of members_
  mutable std::optional<Pending> pending_;
  mutable bool inside_ = false;         // a member is open
  mutable std::uint64_t position_ = 0;  // of the next byte that will be decoded
  mutable std::uint32_t crc_ = 0;
  mutable std::deque<Bytes> kept_;
  mutable std::uint64_t kept_from_ = 0, kept_bytes_ = 0;
  mutable unsigned restarts_ = 0;
  mutable std::vector<bool> wanted_;
  mutable std::map<std::size_t, Bytes> small_;  // whole members
  mutable bool small_loaded_ = false;
  mutable std::map<std::pair<std::uint64_t, std::size_t>, Bytes> looks_;  // short reads, by place and size
  mutable FileDescriptor spool_;
  mutable std::vector<bool> spooled_;
};

}  // namespace opifex
