#include "opifex/core/volumes/xdvdfs/executable.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

/// Where the executables of the two consoles have their fields, and the tables they lead to.
namespace xbe_at {
constexpr std::size_t kBase = 0x104, kHeaderBytes = 0x108, kCertificate = 0x118;
}
namespace certificate_at {
constexpr std::size_t kTitleId = 0x08, kRegion = 0xA0, kDisc = 0xA8, kVersion = 0xAC;
}
namespace xex_at {
constexpr std::size_t kDataAt = 0x08, kSecurity = 0x10, kHeaderCount = 0x14;
}
namespace execution_at {
constexpr std::size_t kMediaId = 0, kVersion = 4, kBaseVersion = 8, kTitleId = 12;
}

[[noreturn]] void fail(const ByteSource& file, std::uint64_t offset, std::string found, std::string expected) {
  throw Error({.code = "bad_executable",
               .what = "the executable's header contradicts itself",
               .file = file.name(),
               .offset = offset,
               .found = std::move(found),
               .expected = std::move(expected)});
}

std::string joined_words(const std::vector<std::string>& words) { return fmt::format("{}", fmt::join(words, ", ")); }

std::string utf16_text(ByteView units, const char* code_page) {
  std::size_t end = 0;
  while (end + 2 <= units.size() && (units[end] != std::byte{0} || units[end + 1] != std::byte{0})) end += 2;
  const std::string_view bytes = as_text(units.first(end));
  return std::string(trim(decode(bytes, code_page).value_or("")));
}

std::string first_region(std::uint32_t bits) {
  std::vector<std::string> words;
  if ((bits & 1) != 0) words.emplace_back("North America");
  if ((bits & 2) != 0) words.emplace_back("Japan");
  if ((bits & 4) != 0) words.emplace_back("Rest of the world");
  if ((bits & 0x8000'0000) != 0) words.emplace_back("Manufacturing");
  return (bits & 7) == 7 ? "All regions" : joined_words(words);
}

std::string second_region(std::uint32_t bits) {
  if (bits == 0xFFFF'FFFF) return "All regions";
  std::vector<std::string> words;
  if ((bits & 0xFF) != 0) words.emplace_back("North America");
  if ((bits & 0xFF00) != 0) words.emplace_back("Japan and Asia");
  if ((bits & 0xFF'0000) != 0) words.emplace_back("Europe and Australia");
  if ((bits & 0xFF00'0000) != 0) words.emplace_back("Others");
  return joined_words(words);
}

std::string version_text(std::uint32_t v) {
  return fmt::format("{}.{}.{}.{}", v >> 28, v >> 24 & 15, v >> 8 & 0xFFFF, v & 255);
}

constexpr std::uint32_t kNumberMask = 0xFFFF;

XboxExecutable read_first(const ByteSource& file) {
  constexpr std::size_t kHead = 0x178, kCertificate = 0xB0, kNameAt = 0x0C, kNameBytes = 80;
  const Bytes head = read_up_to(file, 0, kHead);
  if (head.size() < kHead) fail(file, 0, fmt::format("{} bytes", head.size()), "a header");
  const std::uint64_t base = load_le32(head, xbe_at::kBase), headers = load_le32(head, xbe_at::kHeaderBytes),
                      address = load_le32(head, xbe_at::kCertificate);
  const std::uint64_t reach = std::min(file.size(), headers);
  if (address < base || address - base + kCertificate > reach)
    fail(file, 0x118, fmt::format("a certificate at {:#x}", address), "one within the headers");
  const Bytes cert = read_up_to(file, address - base, kCertificate);
  XboxExecutable out;
  out.title_id = load_le32(cert, certificate_at::kTitleId);
  out.name = utf16_text(ByteView(cert).subspan(kNameAt, kNameBytes), "UTF-16LE");
  out.region = first_region(load_le32(cert, certificate_at::kRegion));
  const std::uint32_t disc = load_le32(cert, certificate_at::kDisc),
                      version = load_le32(cert, certificate_at::kVersion);
  // Single discs say 0 or 1: neither tells anything.
  constexpr std::uint32_t kMostDiscs = 9;
  out.disc = disc > 1 && disc <= kMostDiscs ? disc : 0;
  out.version = fmt::format("{}", version);
  store_be32(out.execution, 4, version);
  store_be32(out.execution, 12, *out.title_id);
  out.execution[18] = out.execution[19] = std::byte{1};
  return out;
}

XboxExecutable read_second(const ByteSource& file) {
  constexpr std::size_t kHead = 0x18, kRow = 8, kInfoBytes = 24, kRegionAt = 0x178;
  constexpr std::uint32_t kMostHeaders = 256, kExecution = 0x0004'0006;
  const Bytes head = read_up_to(file, 0, kHead);
  if (head.size() < kHead) fail(file, 0, fmt::format("{} bytes", head.size()), "a header");
  const std::uint64_t end = std::min<std::uint64_t>(load_be32(head, xex_at::kDataAt), file.size());
  const std::uint32_t count = load_be32(head, xex_at::kHeaderCount);
  const Bytes rows = read_up_to(file, kHead, std::min(count, kMostHeaders) * kRow);
  if (count > kMostHeaders || rows.size() < count * kRow)
    fail(file, 0x14, fmt::format("{} optional headers", count), fmt::format("at most {}", kMostHeaders));
  XboxExecutable out;
  out.second = true;
  if (const std::uint64_t at = load_be32(head, xex_at::kSecurity); at + kRegionAt + 4 <= end)
    out.region = second_region(load_be32(read_up_to(file, at + kRegionAt, 4), 0));
  for (std::size_t i = 0; i < count; ++i) {
    if (load_be32(rows, i * kRow) != kExecution) continue;
    const std::uint64_t at = load_be32(rows, i * kRow + 4);
    if (at + kInfoBytes > end)
      fail(file, kHead + i * kRow, fmt::format("execution information at {:#x}", at), "within the headers");
    const Bytes info = read_up_to(file, at, kInfoBytes);
    std::copy(info.begin(), info.end(), out.execution.begin());
    out.media_id = load_be32(info, execution_at::kMediaId);
    out.version = version_text(load_be32(info, execution_at::kVersion));
    out.base_version = version_text(load_be32(info, execution_at::kBaseVersion));
    out.title_id = load_be32(info, execution_at::kTitleId);
    out.disc = std::to_integer<unsigned>(info[18]);
    out.discs = std::to_integer<unsigned>(info[19]);
    break;  // of two the first counts
  }
  return out;
}

}  // namespace

XboxExecutable read_xbox_executable(const ByteSource& file) {
  const Bytes magic = read_up_to(file, 0, 4);
  if (as_text(magic) == "XBEH") return read_first(file);
  if (as_text(magic) == "XEX2") return read_second(file);
  fail(file, 0, hex(magic), "XBEH or XEX2");
}

std::optional<XboxExecutable> executable_of(const Volume& volume) {
  for (const char* name : {"default.xex", "default.xbe"}) {
    const VolumeEntry* entry = volume.find(name);
    if (!entry || entry->kind != EntryKind::file || !entry->sound) continue;
    try {
      return read_xbox_executable(*volume.open(*entry));
    } catch (const Error& e) {
      if (e.details.fault != Fault::refused) throw;
    }
  }
  return std::nullopt;
}

std::string title_id_text(std::uint32_t id) { return fmt::format("{:08X}", id); }

std::string short_title_id(std::uint32_t id, bool second) {
  const auto first_letter = static_cast<char>(id >> 24), second_letter = static_cast<char>(id >> 16 & 255);
  const auto fits = [](char c) { return (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9'); };
  if (!fits(first_letter) || !fits(second_letter)) return {};
  return fmt::format("{}{}-{:0{}}", first_letter, second_letter, id & kNumberMask, second ? 4 : 3);
}

}  // namespace opifex
