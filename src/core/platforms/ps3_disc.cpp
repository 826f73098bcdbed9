#include "opifex/core/platforms/ps3_disc.hpp"

#include <algorithm>
#include <memory>

#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/iso9660/descriptors.hpp"

namespace opifex {
namespace {

constexpr std::size_t kSector = 2048;
constexpr std::string_view kMark = "PlayStation3";
constexpr std::size_t kTitleIdAt = 16, kTitleIdBytes = 32;
constexpr std::uint32_t kMostPlain = 255;  // as many as fit in sector 0

[[noreturn]] void bad_map(const ByteSource& disc, std::uint64_t offset, std::string found, std::string expected) {
  throw Error({.code = "bad_region_map",
               .cause = Cause::bad_region_map,
               .what = "the disc's map of encrypted regions contradicts itself",
               .file = disc.name(),
               .offset = offset,
               .found = std::move(found),
               .expected = std::move(expected)});
}

/// A file whose first bytes are known.
struct Probe {
  const char* path;
  std::string_view magic;
};
constexpr std::array kProbes = {
    Probe{"PS3_GAME/USRDIR/EBOOT.BIN", {"SCE\0", 4}},      Probe{"PS3_GAME/PARAM.SFO", {"\0PSF", 4}},
    Probe{"PS3_GAME/ICON0.PNG", {"\x89PNG\r\n\x1A\n", 8}}, Probe{"PS3_GAME/PIC1.PNG", {"\x89PNG\r\n\x1A\n", 8}},
    Probe{"PS3_GAME/LICDIR/LIC.DAT", {"PS3LICDA", 8}},     Probe{"PS3_GAME/ICON1.PAM", {"PAMF", 4}},
    Probe{"PS3_UPDATE/PS3UPDAT.PUP", {"SCEUF\0\0\0", 8}}};

}  // namespace

bool Ps3Disc::has_encrypted() const {
  return std::any_of(regions.begin(), regions.end(), [](const Region& r) { return r.encrypted; });
}

bool Ps3Disc::is_encrypted(std::uint64_t sector) const {
  return std::any_of(regions.begin(), regions.end(),
                     [&](const Region& r) { return r.encrypted && sector >= r.first && sector <= r.last; });
}

std::optional<Ps3Disc> read_ps3_disc(const ByteSource& source) {
  const Bytes head = read_up_to(source, 0, 2 * kSector);
  if (head.size() < 2 * kSector || !as_text(ByteView(head).subspan(kSector)).starts_with(kMark)) return std::nullopt;
  Ps3Disc disc;
  const std::string_view title_id = as_text(ByteView(head).subspan(kSector + kTitleIdAt, kTitleIdBytes));
  disc.title_id = trim(title_id.substr(0, title_id.find('\0')));
  const std::uint32_t plain = load_be32(head, 0);
  if (plain < 1 || plain > kMostPlain) bad_map(source, 0, fmt::format("{} plain regions", plain), "1 to 255");
  for (std::uint32_t i = 0; i < plain; ++i) {
    const std::size_t at = 8 + 8 * std::size_t{i};
    const Ps3Disc::Region region{load_be32(head, at), load_be32(head, at + 4), false};
    const std::uint32_t after = disc.regions.empty() ? 0 : disc.regions.back().last;
    const bool ordered = i == 0 ? region.first == 0 : region.first > after;
    if (!ordered || region.last < region.first)
      bad_map(source, at, fmt::format("a region from {} to {}", region.first, region.last), "regions in order, from 0");
    if (i > 0 && region.first > after + 1) disc.regions.push_back({after + 1, region.first - 1, true});
    disc.regions.push_back(region);
  }
  return disc;
}

void decrypt_ps3(const Ps3Disc& disc, const AesKey& key, std::uint64_t first_sector, std::span<std::byte> sectors) {
  std::optional<AesCbc> cipher;
  for (std::size_t at = 0; at + kSector <= sectors.size(); at += kSector) {
    const std::uint64_t sector = first_sector + at / kSector;
    if (!disc.is_encrypted(sector)) continue;
    if (!cipher) cipher.emplace(key, AesCbc::Direction::decrypt);
    // Each sector is a chain of its own; the IV is its number.
    AesIv iv{};
    for (std::size_t i = 0; i < 4; ++i) iv[12 + i] = static_cast<std::byte>(sector >> (24 - 8 * i) & 255);
    cipher->run(iv, sectors.subspan(at, kSector), sectors.subspan(at, kSector));
  }
}

namespace {

/// Whole sectors are decrypted, whatever part of them is asked for.
class DecryptedSource final : public ByteSource {
 public:
  DecryptedSource(SourcePtr source, Ps3Disc disc, AesKey key)
      : source_(std::move(source)), disc_(std::move(disc)), key_(key) {}
  std::uint64_t size() const override { return source_->size(); }
  std::string name() const override { return source_->name(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (out.empty()) return;
    const std::uint64_t first = offset / kSector, end = ceil_div<std::uint64_t>(offset + out.size(), kSector);
    if (offset % kSector == 0 && out.size() % kSector == 0) {
      source_->read_at(offset, out);
      return decrypt_ps3(disc_, key_, first, out);
    }
    Bytes sectors(static_cast<std::size_t>((end - first) * kSector));
    const std::uint64_t there = std::min<std::uint64_t>(sectors.size(), source_->size() - first * kSector);
    source_->read_at(first * kSector, std::span(sectors).first(static_cast<std::size_t>(there)));
    decrypt_ps3(disc_, key_, first, sectors);
    std::copy_n(sectors.begin() + static_cast<std::ptrdiff_t>(offset - first * kSector), out.size(), out.begin());
  }

 private:
  SourcePtr source_;
  Ps3Disc disc_;
  AesKey key_;
};

}  // namespace

Image decrypted_ps3(Image image, const KeyRing& keys) {
  const auto disc = image.blocks() ? read_ps3_disc(*image.blocks()) : std::nullopt;
  const auto as_it_is = [&](std::string why) {
    image.warnings.push_back({"key_unused", "the key file is not needed: " + std::move(why)});
    return std::move(image);
  };
  if (!disc || !disc->has_encrypted()) return as_it_is("this is no encrypted disc");
  const ChosenKey chosen = choose_disc_key(*disc, image.blocks(), keys, image.path.stem().string());
  const auto fail = [&](const char* code, Cause cause, const char* what, std::string hint) {
    throw Error({.code = code,
                 .cause = cause,
                 .what = what,
                 .file = keys.file().string(),
                 .found = keys.described(),
                 .expected = fmt::format("the disc key of {}", disc->title_id),
                 .hint = std::move(hint)});
  };
  if (chosen.proof == KeyProof::already_plain) return as_it_is("the disc is decrypted already");
  if (!chosen.found)
    fail("no_key", Cause::no_key, "there is no key for this disc",
         fmt::format("name a file of 16 bytes or 32 hexadecimal digits after it ({0}), or add {0} under [disc-keys]",
                     disc->title_id));
  if (chosen.proof == KeyProof::wrong)
    fail("wrong_key", Cause::wrong_key, "the key does not fit this disc", "each pressing may have a key of its own");
  if (chosen.proof == KeyProof::unproved)
    fail("key_unproved", Cause::other, "the disc has no file by which the key could be proved", "keep it encrypted");
  // As a CD its sectors would be the encrypted ones.
  image.content = BlockContent{.bytes = std::make_shared<DecryptedSource>(image.blocks(), *disc, *chosen.key)};
  return image;
}

ChosenKey choose_disc_key(const Ps3Disc& disc, const SourcePtr& source, const KeyRing& keys,
                          const std::string& image_name) {
  ChosenKey chosen;
  for (const FoundKey& candidate : keys.disc_keys({disc.title_id, image_name})) {
    chosen.found = true;
    chosen.proof = prove_disc_key(disc, source, candidate.key);
    if (chosen.proof == KeyProof::right) chosen.key = candidate.key;
    if (chosen.proof != KeyProof::wrong) break;
  }
  return chosen;
}

std::string ps3_state(const Ps3Disc& disc, const SourcePtr& source) {
  const auto volume = Iso9660::open(source);
  int plain = 0, other = 0;
  for (const Probe& probe : kProbes) {
    const auto file = volume ? volume->find(probe.path) : std::nullopt;
    if (!file || file->is_folder || file->size_bytes < probe.magic.size() || !disc.is_encrypted(file->lba)) continue;
    const Bytes head = read_up_to(*source, std::uint64_t{file->lba} * kSector, probe.magic.size());
    ++(as_text(head) == probe.magic ? plain : other);
  }
  return plain > 0 && other == 0 ? "decrypted" : other > 0 && plain == 0 ? "encrypted" : "unknown";
}

KeyProof prove_disc_key(const Ps3Disc& disc, const SourcePtr& source, const AesKey& key) {
  const auto volume = Iso9660::open(source);
  if (!volume) return KeyProof::unproved;
  int right = 0, wrong = 0, plain = 0;
  for (const Probe& probe : kProbes) {
    const auto file = volume->find(probe.path);
    if (!file || file->is_folder || file->size_bytes < probe.magic.size() || !disc.is_encrypted(file->lba)) continue;
    Bytes block = read_up_to(*source, std::uint64_t{file->lba} * kSector, kSector);
    if (block.size() < kSector) continue;
    if (as_text(block).starts_with(probe.magic)) {
      ++plain;
      continue;
    }
    decrypt_ps3(disc, key, file->lba, block);
    ++(as_text(block).starts_with(probe.magic) ? right : wrong);
  }
  if (plain > 0 && right + wrong == 0) return KeyProof::already_plain;
  if (right > 0 && wrong == 0 && plain == 0) return KeyProof::right;
  return right + wrong == 0 ? KeyProof::unproved : KeyProof::wrong;
}

}  // namespace opifex
