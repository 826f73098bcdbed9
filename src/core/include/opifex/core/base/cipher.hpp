/// AES-128 in CBC mode by OpenSSL: whole blocks of 16 bytes, no padding.
#pragma once

#include <array>
#include <memory>
#include <span>

#include "opifex/core/base/bytes.hpp"

namespace opifex {

using AesKey = std::array<std::byte, 16>;
using AesIv = std::array<std::byte, 16>;

/// Keeps the expanded key between calls. Not safe from several threads at once.
class AesCbc {
 public:
  enum class Direction { decrypt, encrypt };
  AesCbc(const AesKey& key, Direction direction);
  AesCbc(AesCbc&&) noexcept;
  AesCbc& operator=(AesCbc&&) noexcept;
  ~AesCbc();

  /// A chain of its own. `in` and `out` have the same size, a multiple of 16; they may be the same bytes.
  void run(const AesIv& iv, ByteView in, std::span<std::byte> out);

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace opifex
