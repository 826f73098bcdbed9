#include "structure.hpp"

#include <algorithm>
#include <charconv>

#include "opifex/core/base/text.hpp"

#include "../names.hpp"

namespace opifex::amiga {

std::string Kind::name() const {
  return std::string(fast() ? "ffs" : "ofs") + (cached() ? "-dircache" : international() ? "-intl" : "");
}

namespace {

constexpr std::int64_t kDaySeconds = 86'400, kDaysTo1978 = 2922;  // from 1970
constexpr std::uint32_t kMinutes = 1440, kTicks = 3000, kTicksASecond = 50;
constexpr std::uint32_t kMostDays = 100'000;  // some 270 years: beyond it nobody meant a date

unsigned char upper(unsigned char c, bool international) {
  const bool letter = (c >= 'a' && c <= 'z') || (international && c >= 0xE0 && c <= 0xFE && c != 0xF7);
  return letter ? static_cast<unsigned char>(c - 32) : c;
}

constexpr std::string_view kBits = "hsparwed";  // from bit 7 down

}  // namespace

std::optional<std::int64_t> Date::seconds() const {
  if (days > kMostDays || minutes >= kMinutes || ticks >= kTicks) return std::nullopt;
  return (kDaysTo1978 + days) * kDaySeconds + std::int64_t{minutes} * 60 + ticks / kTicksASecond;
}

Date Date::of(std::int64_t seconds, std::uint32_t hundredths) {
  const std::int64_t since = std::clamp<std::int64_t>(seconds - kDaysTo1978 * kDaySeconds, 0, kMostDays * kDaySeconds);
  const auto rest = static_cast<std::uint32_t>(since % kDaySeconds);
  return {static_cast<std::uint32_t>(since / kDaySeconds), rest / 60, rest % 60 * kTicksASecond + hundredths / 2 % 50};
}

bool Disk::damaged() const {
  return std::any_of(findings.begin(), findings.end(), [](const Finding& f) { return f.error; });
}

std::string Disk::path_of(std::size_t entry) const {
  std::string path;
  for (std::size_t i = entry; i != 0; i = entries[i].parent)
    path = path.empty() ? entries[i].name : entries[i].name + "/" + path;
  return path;
}

std::uint32_t Disk::blocks_of(const Entry& entry) {
  const auto data = entry.data.size() - static_cast<std::size_t>(std::count(entry.data.begin(), entry.data.end(), 0U));
  return static_cast<std::uint32_t>(1 + data + entry.extensions.size() + entry.caches.size());
}

std::uint32_t block_sum(ByteView block, std::size_t field) {
  std::uint32_t sum = 0;
  for (std::size_t at = 0; at < kBlockBytes; at += 4) sum += word(block, at);
  return 0 - (sum - word(block, field));
}

std::uint32_t boot_sum(ByteView boot) {
  std::uint32_t sum = 0;
  for (std::size_t at = 0; at < kBootBytes; at += 4) {
    if (at == kBootSumAt) continue;
    const std::uint32_t before = sum;
    sum += word(boot, at);
    if (sum < before) ++sum;  // the carry comes round
  }
  return ~sum;
}

unsigned slot_of(std::string_view name, Kind kind) {
  std::uint32_t hash = static_cast<std::uint32_t>(name.size());
  for (const char c : name) hash = (hash * 13 + upper(static_cast<unsigned char>(c), kind.international())) & 0x7FF;
  return hash % kTableSlots;
}

std::string folded(std::string_view name, Kind kind) {
  std::string text(name);
  for (char& c : text) c = static_cast<char>(upper(static_cast<unsigned char>(c), kind.international()));
  return text;
}

std::string name_fault(std::string_view name) {
  if (name.empty()) return "it is empty";
  if (name.size() > kLongestName)
    return fmt::format("it has {} letters, and {} is the most", name.size(), kLongestName);
  for (const char c : name) {
    if (c == '/' || c == ':') return fmt::format("'{}' cannot stand in it", c);
    if (c == 0) return "a zero byte stands in it";
  }
  return "";
}

std::optional<std::string> latin1_of(std::string_view utf8) {
  const bool ascii = std::all_of(utf8.begin(), utf8.end(), [](char c) { return static_cast<unsigned char>(c) < 0x80; });
  return ascii ? std::string(utf8) : encode(utf8, "ISO-8859-1");
}

std::string proposed_name(std::string_view utf8) {
  std::string name;
  for (std::size_t at = 0; at < utf8.size();) {
    std::size_t end = at + 1;
    while (end < utf8.size() && (static_cast<unsigned char>(utf8[end]) & 0xC0) == 0x80) ++end;
    const auto letter = latin1_of(utf8.substr(at, end - at));
    name += letter && letter->size() == 1 && name_fault(*letter).empty() ? *letter : "_";
    at = end;
  }
  if (name.empty()) return "_";
  if (name.size() <= kLongestName) return name;
  const std::size_t dot = name.rfind('.');
  constexpr std::size_t kLongestEnding = 8;
  const bool ending = dot != std::string::npos && dot != 0 && name.size() - dot <= kLongestEnding;
  const std::string tail = ending ? name.substr(dot) : "";
  return name.substr(0, kLongestName - tail.size()) + tail;
}

std::string protection_text(std::uint32_t bits) {
  std::string text(kBits);
  for (unsigned bit = 0; bit < 8; ++bit) {
    const bool set = (bits >> bit & 1) != 0;
    if (set != (bit >= 4)) text[7 - bit] = '-';
  }
  return text;
}

std::optional<std::uint32_t> parse_protection(std::string_view text, std::uint32_t before) {
  if (text.starts_with("0x") && text.size() > 2) {
    std::uint32_t bits = 0;
    const auto [end, error] = std::from_chars(text.data() + 2, text.data() + text.size(), bits, 16);
    if (error != std::errc() || end != text.data() + text.size()) return std::nullopt;
    return bits;
  }
  if (text.size() != kBits.size()) return std::nullopt;
  std::uint32_t bits = before & ~std::uint32_t{0xFF};
  for (unsigned bit = 0; bit < 8; ++bit) {
    const char c = text[7 - bit];
    if (c != '-' && c != kBits[7 - bit]) return std::nullopt;
    if ((c != '-') == (bit >= 4)) bits |= std::uint32_t{1} << bit;
  }
  return bits;
}

Bytes cache_record(const Entry& entry) {
  Bytes record(24 + entry.name.size() + 1 + entry.comment.size());
  record.resize(round_up<std::size_t>(record.size(), 2));
  Fields f(record);
  f.be(0, entry.block, 4);
  f.be(4, entry.type == EntryType::file ? entry.size_bytes : 0, 4);
  f.be(8, entry.protection, 4);
  f.be(16, entry.date.days, 2);
  f.be(18, entry.date.minutes, 2);
  f.be(20, entry.date.ticks, 2);
  f.byte(22, static_cast<unsigned>(static_cast<std::int32_t>(entry.type)) & 0xFF);
  f.byte(23, static_cast<unsigned>(entry.name.size()));
  f.bytes(24, as_view(entry.name));
  f.byte(24 + entry.name.size(), static_cast<unsigned>(entry.comment.size()));
  f.bytes(25 + entry.name.size(), as_view(entry.comment));
  return record;
}

std::uint64_t cost_of_file(std::uint64_t size_bytes, Kind kind) {
  const std::uint64_t data = ceil_div(size_bytes, kind.payload());
  const std::uint64_t lists = ceil_div<std::uint64_t>(data, kTableSlots);
  return 1 + data + (lists > 1 ? lists - 1 : 0);
}

Bytes make_disk(const NewDisk& wanted) {
  if (const std::string fault = name_fault(wanted.label); !fault.empty())
    throw Error({.fault = Fault::usage,
                 .code = "bad_label",
                 .what = "a floppy cannot have this label: " + fault,
                 .found = printable(latin1_text(as_view(wanted.label)))});
  Bytes image(80 * kCylinderBytes * (wanted.high_density ? 2 : 1));
  const auto blocks = static_cast<std::uint32_t>(image.size() / kBlockBytes);
  const std::uint32_t root = blocks / 2, bitmap = root + 1;
  Fields boot(image);
  boot.bytes(0, as_view("DOS"));
  boot.byte(3, wanted.kind.flags);
  // A right checksum would make the machine run the empty boot block: it stays 0.
  store_be32(image, 8, root);
  const std::span<std::byte> r = block_of(std::span(image), root);
  store_be32(r, at::kType, kTypeHeader);
  store_be32(r, at::kTableSize, kTableSlots);
  store_be32(r, at::kBitmapFlag, kBitmapIsValid);
  store_be32(r, at::kBitmap, bitmap);
  for (const std::size_t field : {at::kDate, at::kChanged, at::kCreated}) store_date(r, field, wanted.date);
  Fields(r).byte(at::kName, static_cast<unsigned>(wanted.label.size()));
  Fields(r).bytes(at::kName + 1, as_view(wanted.label));
  store_be32(r, at::kKind, 1);
  std::uint32_t used = bitmap;
  if (wanted.kind.cached()) {
    used = bitmap + 1;
    store_be32(r, at::kExtension, used);
    const std::span<std::byte> cache = block_of(std::span(image), used);
    store_be32(cache, at::kType, kTypeCache);
    store_be32(cache, at::kOwn, used);
    store_be32(cache, at::kDirectory, root);
    seal(cache);
  }
  seal(r);
  const std::span<std::byte> bits = block_of(std::span(image), bitmap);
  for (std::uint32_t b = kFirstBlock; b < blocks; ++b) {
    if (b >= root && b <= used) continue;
    const auto [at, mask] = bit_of(b);
    store_be32(bits, at, word(bits, at) | mask);
  }
  seal(bits, at::kBitmapSum);
  return image;
}

}  // namespace opifex::amiga
