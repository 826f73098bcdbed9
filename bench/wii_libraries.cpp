// What a cryptographic library alone needs for the bytes of a file: wii_libraries FILE THREADS. AES-128-CBC decryption,
// then SHA-1, of pieces of 32 KiB, without knowing what they mean.
#include <array>
#include <atomic>
#include <charconv>
#include <chrono>
#include <cstdio>
#include <cstring>
#include <memory>
#include <thread>
#include <vector>

#include <openssl/evp.h>

#include "opifex/core/io/byte_source.hpp"

namespace {

using namespace opifex;

constexpr std::size_t kPiece = 0x8000, kPieces = 64;

/// One thread's share: whole groups of pieces, taken as they come.
void run(const ByteSource& file, std::atomic<std::uint64_t>& next) {
  const std::unique_ptr<EVP_CIPHER_CTX, void (*)(EVP_CIPHER_CTX*)> cipher(EVP_CIPHER_CTX_new(), &EVP_CIPHER_CTX_free);
  const std::unique_ptr<EVP_MD_CTX, void (*)(EVP_MD_CTX*)> digest(EVP_MD_CTX_new(), &EVP_MD_CTX_free);
  const std::array<unsigned char, 16> key{}, iv{};
  std::array<unsigned char, 20> value{};
  EVP_DecryptInit_ex(cipher.get(), EVP_aes_128_cbc(), nullptr, key.data(), nullptr);
  EVP_CIPHER_CTX_set_padding(cipher.get(), 0);
  EVP_DigestInit_ex(digest.get(), EVP_sha1(), nullptr);
  for (;;) {
    const std::uint64_t at = next.fetch_add(kPiece * kPieces);
    if (at >= file.size()) return;
    Bytes group = read_up_to(file, at, kPiece * kPieces);
    for (std::size_t done = 0; done + kPiece <= group.size(); done += kPiece) {
      unsigned char* const piece = raw_bytes_mut(std::span(group).subspan(done, kPiece));
      int written = 0;
      EVP_DecryptInit_ex(cipher.get(), nullptr, nullptr, nullptr, iv.data());
      EVP_DecryptUpdate(cipher.get(), piece, &written, piece, static_cast<int>(kPiece));
      EVP_DigestInit_ex(digest.get(), nullptr, nullptr);
      EVP_DigestUpdate(digest.get(), piece, kPiece);
      EVP_DigestFinal_ex(digest.get(), value.data(), nullptr);
    }
  }
}

}  // namespace

int main(int argc, char** argv) {
  unsigned threads = 0;
  if (argc != 3 || std::from_chars(argv[2], argv[2] + std::strlen(argv[2]), threads).ec != std::errc{} ||
      threads == 0) {
    std::fputs("wii_libraries FILE THREADS\n", stderr);
    return 2;
  }
  const SourcePtr file = open_file(argv[1]);
  std::atomic<std::uint64_t> next{0};
  const auto start = std::chrono::steady_clock::now();
  {
    std::vector<std::jthread> workers;
    for (unsigned t = 0; t < threads; ++t) workers.emplace_back([&] { run(*file, next); });
  }
  std::printf("%.3f\n", std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count());
  return 0;
}
