/// Message digests by OpenSSL, CRC-32 by libdeflate, behind one small type.
#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "opifex/core/base/bytes.hpp"

namespace opifex {

/// A running hash. Not safe from several threads at once; moving is cheap, copying forks the state: the copy goes on
/// from the same bytes, which lets a file and its first track share the work.
class Digest {
 public:
  /// `name` is one of digest_names(); Error (usage) otherwise.
  explicit Digest(std::string_view name);
  Digest(const Digest& other);
  Digest& operator=(const Digest& other) = delete;
  Digest(Digest&&) noexcept;
  Digest& operator=(Digest&&) noexcept;
  ~Digest();

  void update(ByteView data);
  /// As update() with so many zeros.
  void update_zeros(std::uint64_t bytes);
  /// Lower-case hexadecimal. The digest must not be used afterwards.
  std::string finish();

 private:
  struct State;
  std::unique_ptr<State> state_;
};

/// crc32, md5, sha1, sha224, sha256, sha384, sha512, sha3-256, blake2b512
const std::vector<std::string>& digest_names();

/// Hash of bytes in memory.
std::string digest_of(std::string_view name, ByteView data);

/// SHA-1 of a short run of bytes, for those who need very many.
std::array<std::byte, 20> short_sha1(ByteView data);

/// A name with its value, in the order asked for.
struct NamedHash {
  std::string name;
  std::string value;
};

}  // namespace opifex
