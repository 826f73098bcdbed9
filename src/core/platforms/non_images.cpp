#include "opifex/core/platforms/non_images.hpp"

#include <algorithm>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/platforms/sfo.hpp"

#include "disc_view.hpp"
#include "sfo_facts.hpp"

namespace opifex {
namespace {

using namespace std::string_view_literals;

std::string size_check(std::uint64_t told, std::uint64_t there) {
  return there < told ? "short" : there > told ? "long" : "exact";
}

/// A NUL-padded field.
std::string field(ByteView bytes, std::size_t at, std::size_t size) {
  if (at + size > bytes.size()) return {};
  const std::string_view text = as_text(bytes.subspan(at, size));
  return printable(trim(text.substr(0, text.find('\0'))));
}

std::uint64_t load_be64(ByteView v, std::size_t at) {
  return std::uint64_t{load_be32(v, at)} << 32 | load_be32(v, at + 4);
}

/// `LLNNNN-TITLEID00_00-...`
std::string title_id_of(const std::string& content_id) {
  constexpr std::size_t kAt = 7, kSize = 9;
  return content_id.size() >= kAt + kSize ? content_id.substr(kAt, kSize) : std::string{};
}

constexpr std::size_t kPackageHead = 0x438;

NonImage package(ByteView head, const char* platform, std::size_t content_at, std::size_t size_at,
                 std::uint64_t there) {
  NonImage file;
  file.what = "package";
  file.id.platform = platform;
  file.id.confidence = "certain";
  file.id.evidence = {"package magic"};
  file.content_id = field(head, content_at, 48);
  file.id.serial = title_id_of(file.content_id);
  file.id.region = region_of_content(file.content_id);
  if (size_at + 8 <= head.size()) {
    file.told_bytes = load_be64(head, size_at);
    file.size_check = size_check(*file.told_bytes, there);
  }
  return file;
}

std::optional<NonImage> ps3_package(ByteView head, std::uint64_t there) {
  if (!as_text(head).starts_with("\x7FPKG"sv) || head.size() < 0x80) return std::nullopt;
  constexpr unsigned kPs3 = 1;
  NonImage file = package(head, load_be16(head, 6) == kPs3 ? "ps3" : "psp", 0x30, 0x18, there);
  file.id.serial = with_hyphen(file.id.serial);
  return file;
}

std::optional<NonImage> ps4_package(ByteView head, std::uint64_t there) {
  if (!as_text(head).starts_with("\x7F\x43NT"sv) || head.size() < 0x80) return std::nullopt;
  return package(head, "ps4", 0x40, 0x430, there);
}

std::optional<NonImage> sfo_file(const ByteSource& source, ByteView head) {
  constexpr std::size_t kMost = 1 << 20;
  if (!looks_like_sfo(head) || source.size() > kMost) return std::nullopt;
  const Bytes bytes = read_up_to(source, 0, kMost);
  const auto sfo = parse_sfo(bytes);
  if (!sfo) return std::nullopt;
  NonImage file;
  file.what = "metadata";
  file.id.confidence = "certain";
  file.id.platform = "sfo";
  file.id.evidence = {"magic"};
  take_sfo(*sfo, file);
  return file;
}

bool power_of_two(unsigned n) { return n != 0 && (n & (n - 1)) == 0; }

/// A FAT's parameter block decides by its count of clusters; the text in it decides nothing.
std::optional<NonImage> fat_drive(ByteView b) {
  const auto at8 = [&](std::size_t at) { return std::to_integer<unsigned>(b[at]); };
  const bool jump = (at8(0) == 0xEB && at8(2) == 0x90) || at8(0) == 0xE9;
  const std::uint64_t sector = load_le16(b, 11), cluster = at8(13), reserved = load_le16(b, 14), fats = at8(16);
  const std::uint64_t roots = load_le16(b, 17);
  const std::uint64_t sectors = load_le16(b, 19) != 0 ? load_le16(b, 19) : load_le32(b, 32);
  const std::uint64_t per_fat = load_le16(b, 22) != 0 ? load_le16(b, 22) : load_le32(b, 36);
  const bool media = at8(21) == 0xF0 || at8(21) >= 0xF8;
  constexpr unsigned kSmallest = 512, kLargest = 4096;
  if (!jump || !power_of_two(static_cast<unsigned>(sector)) || sector < kSmallest || sector > kLargest ||
      !power_of_two(static_cast<unsigned>(cluster)) || reserved == 0 || fats == 0 || fats > 2 || !media || per_fat == 0)
    return std::nullopt;
  const std::uint64_t before = reserved + fats * per_fat + (roots * 32 + sector - 1) / sector;
  if (before >= sectors) return std::nullopt;
  const std::uint64_t clusters = (sectors - before) / cluster;
  constexpr std::uint64_t kFat16 = 4085, kFat32 = 65525;
  NonImage file;
  file.id.platform = load_le16(b, 22) == 0 ? "fat32"
                     : clusters < kFat16   ? "fat12"
                     : clusters < kFat32   ? "fat16"
                                           : "fat32";
  file.id.evidence = {fmt::format("boot sector, {} clusters", clusters)};
  file.told_bytes = sectors * sector;
  return file;
}

std::optional<NonImage> drive(const ByteSource& source) {
  constexpr std::size_t kTwo = 1024, kMark = 510;
  Bytes b = read_up_to(source, 0, kTwo);
  if (b.size() < 512) return std::nullopt;
  b.resize(kTwo);
  const auto named = [](const char* kind, const char* confidence, const char* evidence) {
    NonImage file;
    file.id.platform = kind;
    file.id.confidence = confidence;
    file.id.evidence = {evidence};
    return file;
  };
  std::optional<NonImage> file;
  const std::string_view text = as_text(b);
  if (text.substr(512, 8) == "EFI PART") file = named("gpt", "certain", "GPT header");
  if (!file && text.substr(3, 8) == "NTFS    ") file = named("ntfs", "certain", "boot sector");
  if (!file && text.substr(3, 8) == "EXFAT   " && all_zero(ByteView(b).subspan(11, 53)))
    file = named("exfat", "certain", "boot sector");
  const bool marked = b[kMark] == std::byte{0x55} && b[kMark + 1] == std::byte{0xAA};
  if (!file && marked) file = fat_drive(b);
  if (!file && marked) {
    bool fits = true, any = false;
    for (std::size_t at = 446; at < kMark; at += 16) {
      const auto status = std::to_integer<unsigned>(b[at]);
      fits = fits && (status == 0 || status == 0x80);
      any = any || (b[at + 4] != std::byte{0} && load_le32(b, at + 12) != 0);
    }
    if (fits && any) file = named("mbr", "likely", "partition table");
  }
  if (!file) return std::nullopt;
  file->what = "drive";
  if (file->id.confidence.empty()) file->id.confidence = "certain";
  if (file->told_bytes) file->size_check = size_check(*file->told_bytes, source.size());
  return file;
}

/// Formats that are known by their first bytes, and described only.
std::optional<NonImage> container(ByteView head) {
  if (head.size() < 0x18) return std::nullopt;
  const std::string_view text = as_text(head);
  const auto named = [](const char* platform, const char* evidence) {
    NonImage file;
    file.what = "container";
    file.id.platform = platform;
    file.id.confidence = "certain";
    file.id.evidence = {evidence};
    return file;
  };
  if (text.starts_with("CISO")) {
    // Two formats begin alike.
    constexpr std::uint32_t kPspHeader = 0x18, kSmallestBlock = 0x8000;
    const std::uint32_t second = load_le32(head, 4);
    if (second == 0 || second == kPspHeader) {
      NonImage file = named("psp", "CISO: a compressed disc");
      file.told_bytes = load_le64(head, 8);
      return file;
    }
    if (second >= kSmallestBlock) return named("gamecube", "CISO: a map of blocks, GameCube or Wii");
  }
  return std::nullopt;
}

bool holds_a_disc(const ByteSource& source) {
  return as_text(read_up_to(source, kIsoMarkAt, kIsoMark.size())) == kIsoMark;
}

}  // namespace

std::string region_of_content(const std::string& content_id) {
  switch (content_id.empty() ? '\0' : content_id[0]) {
    case 'U':
      return "North America";
    case 'E':
      return "Europe";
    case 'J':
      return "Japan";
    case 'H':
      return "Asia";
    case 'K':
      return "Korea";
    default:
      return {};
  }
}

void take_sfo(const Sfo& sfo, NonImage& file) {
  const auto first = [&](std::initializer_list<const char*> keys) {
    for (const char* key : keys)
      if (const std::string text = sfo.text(key); !text.empty()) return printable(text);
    return std::string{};
  };
  file.id.title = first({"TITLE"});
  file.id.serial = first({"TITLE_ID", "DISC_ID"});
  file.id.version = first({"APP_VER", "DISC_VERSION", "VERSION"});
  file.id.category = first({"CATEGORY"});
  file.content_id = first({"CONTENT_ID"});
}

std::optional<NonImage> identify_non_image(const ByteSource& source) {
  const Bytes head = read_up_to(source, 0, kPackageHead);
  std::optional<NonImage> file = ps3_package(head, source.size());
  if (!file) file = ps4_package(head, source.size());
  if (!file) file = sfo_file(source, head);
  if (!file) file = container(head);
  // A disc that can be booted from a stick has a partition table as well.
  if (!file && !holds_a_disc(source)) file = drive(source);
  if (file) file->size_bytes = source.size();
  return file;
}

std::optional<NonImage> guess_audio(const ByteSource& source) {
  constexpr std::uint64_t kMostLooked = 40'000;
  if (source.size() == 0 || source.size() % cd::kRawBytes != 0) return std::nullopt;
  for (std::uint64_t n = 0; n < std::min(kMostLooked, source.size() / cd::kRawBytes); ++n) {
    const Bytes head = read_up_to(source, n * cd::kRawBytes, cd::kSyncBytes);
    if (std::equal(head.begin(), head.end(), cd::kSync.begin(), cd::kSync.end())) return std::nullopt;
  }
  NonImage file;
  file.what = "audio";
  file.id.platform = kAudioCd.id;
  file.id.confidence = "guess";
  file.id.evidence = {"length is a multiple of 2352, no sync pattern"};
  file.size_bytes = source.size();
  return file;
}

}  // namespace opifex
