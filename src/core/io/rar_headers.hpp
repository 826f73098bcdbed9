/// The headers of RAR archives, for what the unpacking library does not say: checksums of stored files, encryption, and
/// whether a volume is the last. RAR 4 and 5.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "opifex/core/io/byte_source.hpp"

namespace opifex {

struct RarFile {
  std::uint64_t size_bytes = 0;
  std::optional<std::uint32_t> crc = {};  ///< CRC-32 of the contents
  bool encrypted = false, from_before = false, goes_on = false;
};

struct RarHeaders {
  int version = 0;  ///< 4 or 5; 0: no RAR
  bool headers_encrypted = false;
  bool volume = false, more_follow = false;
  std::optional<std::uint64_t> number = {};  ///< of the volume, from 0, if it says
  bool sound = true;                         ///< walked to the end
  std::vector<RarFile> files = {};           ///< folders too
};

/// Walks the headers of one volume. Never throws for what stands in it; `sound` is false where they end too early.
RarHeaders read_rar_headers(const ByteSource& source);

}  // namespace opifex
