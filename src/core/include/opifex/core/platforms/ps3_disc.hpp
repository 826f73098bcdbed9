/// PS3 discs: which sectors are encrypted, and decrypting them with the user's own key of that disc. Keys are never
/// printed, logged or stored.
#pragma once

#include <array>
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "opifex/core/image/image.hpp"
#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/key_ring.hpp"
#include "opifex/core/volumes/iso9660/writer.hpp"

namespace opifex {

/// What sectors 0 and 1 tell.
struct Ps3Disc {
  static constexpr std::string_view kPlatform = "ps3";
  struct Region {
    std::uint32_t first = 0, last = 0;  ///< sectors, both inclusive
    bool encrypted = false;
  };
  std::string title_id;         ///< "PRUS-30404"
  std::vector<Region> regions;  ///< plain and encrypted in turn, empty ones left out
  bool has_encrypted() const;
  bool is_encrypted(std::uint64_t sector) const;
};

/// Nothing if sector 1 does not carry the platform's mark. Error "bad_region_map" if the map contradicts itself.
/// `disc` is addressed by 2048 * sector.
std::optional<Ps3Disc> read_ps3_disc(const ByteSource& disc);

/// Decrypts whole sectors of 2048 bytes in place, those of encrypted regions only. Safe from many threads.
void decrypt_ps3(const Ps3Disc& disc, const AesKey& key, std::uint64_t first_sector, std::span<std::byte> sectors);

/// "encrypted", "decrypted" or "unknown": by the files in encrypted regions whose beginnings are known.
std::string ps3_state(const Ps3Disc& disc, const SourcePtr& source);

enum class KeyProof { right, wrong, already_plain, unproved };
/// Tries the key on the files whose beginnings are known.
KeyProof prove_disc_key(const Ps3Disc& disc, const SourcePtr& source, const AesKey& key);

struct ChosenKey {
  std::optional<AesKey> key = {};  ///< proved; nothing if the disc is plain already, or no key was found
  KeyProof proof = KeyProof::unproved;
  bool found = false;  ///< there was a key of this disc's name
};

/// Of the user's keys the one that is proved to fit: by title id, serial and the image's name.
ChosenKey choose_disc_key(const Ps3Disc& disc, const SourcePtr& source, const KeyRing& keys,
                          const std::string& image_name);

/// The image with its encrypted regions decrypted as they are read, proved before anything is. As it is, with a
/// warning, if it is no encrypted PS3 disc. Error: no_key, wrong_key, key_unproved, those of the functions above.
Image decrypted_ps3(Image image, const KeyRing& keys);

/// How the folder of a PS3 game becomes an image: names as they are, files that were cut for FAT32 joined, sectors 0
/// and 1 as on a plain disc. Nothing if it is no such folder.
std::optional<IsoOptions> ps3_iso_options(const std::filesystem::path& folder, IsoOptions options);

}  // namespace opifex
