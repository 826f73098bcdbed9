/// Bytes at known places: files, memory, parts seen as one, slices.
#pragma once

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex {

/// Read-only bytes of known size. Implementations are safe to use from many threads at once.
class ByteSource {
 public:
  virtual ~ByteSource() = default;
  virtual std::uint64_t size() const = 0;
  /// Fills all of `out` from byte `offset`. Error (device) if the medium fails, (refused) if the source ends first.
  virtual void read_at(std::uint64_t offset, std::span<std::byte> out) const = 0;
  /// The first byte from `offset` on that may be something else than zero: before it are only holes. At most size().
  virtual std::uint64_t next_data(std::uint64_t offset) const { return offset; }
  /// For messages: the path as the user gave it, or what the bytes are.
  virtual std::string name() const = 0;
};

using SourcePtr = std::shared_ptr<const ByteSource>;

/// Opens a regular file or block device for reading. Error if absent, a folder, or of another kind (pipe, terminal).
SourcePtr open_file(const std::filesystem::path& path);

/// A file that is open only while it is read: a folder may hold more files than a process may have open. Error
/// (device, "file_changed") if it has another size by then.
SourcePtr file_when_read(const std::filesystem::path& path, std::uint64_t size);

/// Owns a copy of the bytes.
SourcePtr memory_source(Bytes bytes, std::string name);

/// Nothing but zeros: one hole.
SourcePtr zero_source(std::uint64_t size);

/// `size` bytes of `whole` from `offset`; Error if they are not inside it.
SourcePtr slice_source(SourcePtr whole, std::uint64_t offset, std::uint64_t size);

/// The parts one after the other.
SourcePtr concat_source(std::vector<SourcePtr> parts, std::string name);

/// `at` to `at + size` of the source, as much as there is of it.
Bytes read_up_to(const ByteSource& source, std::uint64_t at, std::size_t size);

}  // namespace opifex
