/// One packed file from its first byte to its verified end: gzip (RFC 1952) and LZ4 frames. The archive library unpacks
/// both, but looks at none of their checksums.
#pragma once

#include <memory>
#include <string>

#include "opifex/core/io/byte_source.hpp"

namespace opifex {

class PackedStream {
 public:
  virtual ~PackedStream() = default;
  /// The next bytes, as many as there is room for; 0 once the end is reached and every checksum fits. Error
  /// (archive_damaged) if one does not, or if the file ends too early.
  virtual std::size_t read(std::span<std::byte> out) = 0;
};

/// `kind` "gz" or "lz4"; null for others.
std::unique_ptr<PackedStream> unpack(SourcePtr packed, const std::string& kind);

}  // namespace opifex
