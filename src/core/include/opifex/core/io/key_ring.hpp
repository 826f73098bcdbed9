/// The user's keys. They are never printed, logged or stored.
#pragma once

#include <filesystem>
#include <map>
#include <memory>
#include <optional>
#include <string>

#include "opifex/core/base/cipher.hpp"

namespace opifex {

/// What the user's key file holds. TOML: `disc-keys`, one a disc by its title id, and `common-keys`, one a console
/// ("wii", "wii-korean"); each is 32 hexadecimal digits.
class KeyRing {
 public:
  /// Error "bad_key_file", which never shows the file's contents.
  static std::shared_ptr<const KeyRing> read(const std::filesystem::path& file);

  /// Nothing if the file has no such key. Error "bad_key_file" if it has something else in its place.
  std::optional<AesKey> disc_key(const std::string& title_id) const;
  std::optional<AesKey> common_key(const std::string& console) const;
  const std::filesystem::path& file() const { return file_; }

 private:
  struct Entry {
    std::string text;
    std::uint32_t line = 0;
  };
  std::optional<AesKey> find(const std::map<std::string, Entry>& table, const std::string& name) const;

  std::filesystem::path file_;
  std::map<std::string, Entry> discs_, consoles_;  // by name in upper case
};
using KeyRingPtr = std::shared_ptr<const KeyRing>;

}  // namespace opifex
