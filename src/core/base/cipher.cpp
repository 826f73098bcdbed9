#include "opifex/core/base/cipher.hpp"

#include <openssl/evp.h>

namespace opifex {
namespace {

struct ContextDeleter {
  void operator()(EVP_CIPHER_CTX* c) const { EVP_CIPHER_CTX_free(c); }
};

void check(int result) {
  if (result != 1)
    throw Error({.fault = Fault::device, .code = "cipher_failed", .what = "the cipher library refused to work"});
}

}  // namespace

struct AesCbc::State {
  std::unique_ptr<EVP_CIPHER_CTX, ContextDeleter> context{EVP_CIPHER_CTX_new()};
};

AesCbc::AesCbc(const AesKey& key, Direction direction) : state_(std::make_unique<State>()) {
  EVP_CIPHER_CTX* const context = state_->context.get();
  const int encrypt = direction == Direction::encrypt ? 1 : 0;
  check(context ? EVP_CipherInit_ex(context, EVP_aes_128_cbc(), nullptr, raw_bytes(key), nullptr, encrypt) : 0);
  check(EVP_CIPHER_CTX_set_padding(context, 0));
}

AesCbc::AesCbc(AesCbc&&) noexcept = default;
AesCbc& AesCbc::operator=(AesCbc&&) noexcept = default;
AesCbc::~AesCbc() = default;

void AesCbc::run(const AesIv& iv, ByteView in, std::span<std::byte> out) {
  constexpr int kSameDirection = -1;
  EVP_CIPHER_CTX* const context = state_->context.get();
  check(EVP_CipherInit_ex(context, nullptr, nullptr, nullptr, raw_bytes(iv), kSameDirection));
  int written = 0;
  check(EVP_CipherUpdate(context, raw_bytes_mut(out), &written, raw_bytes(in), static_cast<int>(in.size())));
}

}  // namespace opifex
