/// The user's keys. They are never printed, logged or stored.
#pragma once

#include <filesystem>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/base/cipher.hpp"

namespace opifex {

/// A key, and the file it stood in.
struct FoundKey {
  AesKey key;
  std::filesystem::path file;
};

/// The user's keys, as people have them: a TOML file with `disc-keys`, one a disc by its title id, and `common-keys`,
/// one a console ("wii", "wii-korean"), each 32 hexadecimal digits; a file of 16 bytes, or one of 32 hexadecimal
/// digits; a folder of such files, named after what they open.
class KeyRing {
 public:
  /// Error "bad_key_file", which never shows the file's contents.
  static std::shared_ptr<const KeyRing> read(const std::filesystem::path& place);

  /// Keys that may be the disc's, the likeliest first: of a folder those whose names hold one of `names` (title id,
  /// serial, the image's own name), letters and digits compared. Which one fits is the caller's to prove.
  std::vector<FoundKey> disc_keys(const std::vector<std::string>& names) const;
  /// Nothing if there is no such key. Error "bad_key_file" if something else stands in its place.
  std::optional<AesKey> common_key(const std::string& console) const;
  /// Where the keys are looked for.
  const std::filesystem::path& file() const { return file_; }
  /// What was looked at and what would fit, for messages: "a folder of 12 key files".
  std::string described() const;

 private:
  struct Entry {
    std::string text;
    std::uint32_t line = 0;
  };
  void read_toml(ByteView text);
  std::optional<AesKey> find(const std::map<std::string, Entry>& table, const std::string& name) const;
  std::vector<FoundKey> named(const std::vector<std::string>& names) const;

  std::filesystem::path file_;
  std::map<std::string, Entry> discs_, consoles_;  // by name in upper case
  std::optional<AesKey> bare_;                     // the file is a key
  std::vector<std::filesystem::path> files_;       // of a folder
  bool folder_ = false;
};
using KeyRingPtr = std::shared_ptr<const KeyRing>;

}  // namespace opifex
