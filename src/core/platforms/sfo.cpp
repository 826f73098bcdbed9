#include "opifex/core/platforms/sfo.hpp"

#include <algorithm>

#include "opifex/core/base/read_budget.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

constexpr std::size_t kHeadBytes = 20, kEntryBytes = 16;
constexpr ReadBudget::Limits kLimits = {.entries = 4096, .bytes = 1 << 20};
constexpr std::uint16_t kText = 0x0204, kRawText = 0x0004, kNumber = 0x0404;

}  // namespace

bool looks_like_sfo(ByteView bytes) { return as_text(bytes).starts_with(std::string_view("\0PSF", 4)); }

std::optional<Sfo> parse_sfo(ByteView bytes) {
  if (bytes.size() < kHeadBytes || !looks_like_sfo(bytes)) return std::nullopt;
  const std::uint32_t keys = load_le32(bytes, 8), data = load_le32(bytes, 12), count = load_le32(bytes, 16);
  const bool sound = keys >= kHeadBytes + std::uint64_t{count} * kEntryBytes && data >= keys && data <= bytes.size();
  if (!sound) return std::nullopt;
  Sfo sfo;
  ReadBudget budget("PARAM.SFO", bytes.size(), kLimits);
  for (std::uint32_t i = 0; i < count; ++i) {
    const ByteView e = bytes.subspan(kHeadBytes + i * kEntryBytes, kEntryBytes);
    const std::size_t key_at = keys + std::size_t{load_le16(e, 0)};
    const std::uint16_t format = load_le16(e, 2);
    const std::uint64_t length = load_le32(e, 4), data_at = std::uint64_t{data} + load_le32(e, 12);
    const std::string_view names = as_text(bytes).substr(0, data);
    const std::size_t end = key_at < data ? names.find('\0', key_at) : std::string_view::npos;
    if (end == std::string_view::npos || data_at > bytes.size() || length > bytes.size() - data_at) return std::nullopt;
    if (!budget.try_entry(end - key_at + length)) return std::nullopt;
    const ByteView value = bytes.subspan(static_cast<std::size_t>(data_at), static_cast<std::size_t>(length));
    const std::string key(names.substr(key_at, end - key_at));
    if (format == kNumber && value.size() >= 4)
      sfo.numbers[key] = load_le32(value, 0);
    else if (format == kText || format == kRawText)
      sfo.texts[key] = std::string(as_text(value).substr(0, as_text(value).find('\0')));
  }
  return sfo;
}

std::string Sfo::text(const std::string& key) const {
  const auto at = texts.find(key);
  return at == texts.end() ? "" : at->second;
}

}  // namespace opifex
