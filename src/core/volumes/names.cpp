#include "names.hpp"

#include <algorithm>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

void put_utf8(std::string& out, std::uint32_t c) {
  const auto put = [&](std::uint32_t byte) { out += static_cast<char>(byte); };
  if (c < 0x80) {
    put(c);
  } else if (c < 0x800) {
    put(0xC0 | c >> 6);
    put(0x80 | (c & 63));
  } else if (c < 0x10000) {
    put(0xE0 | c >> 12);
    put(0x80 | (c >> 6 & 63));
    put(0x80 | (c & 63));
  } else {
    put(0xF0 | c >> 18);
    put(0x80 | (c >> 12 & 63));
    put(0x80 | (c >> 6 & 63));
    put(0x80 | (c & 63));
  }
}

std::string without_version(std::string name) {
  constexpr std::size_t kLongestVersion = 5;
  const std::size_t at = name.rfind(';');
  if (at == std::string::npos) return name;
  const std::string_view digits = std::string_view(name).substr(at + 1);
  const bool version = !digits.empty() && digits.size() <= kLongestVersion &&
                       std::all_of(digits.begin(), digits.end(), [](char c) { return c >= '0' && c <= '9'; });
  if (version) name.resize(at);
  return name;
}

}  // namespace

std::string latin1_text(ByteView text) {
  std::string out;
  for (const std::byte b : text) put_utf8(out, std::to_integer<std::uint32_t>(b));
  return out;
}

std::string utf16_be_text(ByteView text) {
  std::string out;
  for (std::size_t i = 0; i + 2 <= text.size(); i += 2) {
    const std::uint32_t unit = load_be16(text, i);
    const bool high = unit >= 0xD800 && unit < 0xDC00;
    const std::uint32_t next = high && i + 4 <= text.size() ? load_be16(text, i + 2) : 0;
    if (high && next >= 0xDC00 && next < 0xE000) {
      put_utf8(out, 0x10000 + ((unit - 0xD800) << 10) + (next - 0xDC00));
      i += 2;
    } else if (unit >= 0xD800 && unit < 0xE000) {
      out += fmt::format("%{:04X}", unit);
    } else {
      put_utf8(out, unit);
    }
  }
  return out;
}

std::string iso_text(ByteView field) {
  const std::string_view raw = as_text(field);
  const std::string_view text = trim(raw.substr(0, raw.find('\0')));
  return is_utf8(text) ? std::string(text) : latin1_text(as_view(text));
}

std::string iso_joliet_text(ByteView field) {
  const std::string text = utf16_be_text(field);
  return std::string(trim(text.substr(0, text.find('\0'))));
}

std::string iso_name(ByteView identifier) {
  std::string name =
      without_version(is_utf8(as_text(identifier)) ? std::string(as_text(identifier)) : latin1_text(identifier));
  if (name.size() > 1 && name.ends_with('.') && name.find('.') == name.size() - 1) name.pop_back();
  return name;
}

std::string iso_joliet_name(ByteView identifier) { return without_version(utf16_be_text(identifier)); }

std::optional<std::int64_t> iso_date7(ByteView date) {
  const auto field = [&](std::size_t i) { return std::to_integer<int>(date[i]); };
  const int zone = static_cast<std::int8_t>(field(6));
  const auto time = seconds_of({1900 + field(0), field(1), field(2), field(3), field(4), field(5)});
  constexpr std::int64_t kZone = 900;
  if (!time || zone < -48 || zone > 52) return std::nullopt;
  return *time - zone * kZone;
}

const char* SystemUse::read(ByteView area, const std::function<bool(std::uint32_t, Bytes&)>& read_sector) {
  constexpr int kMostHops = 64;
  constexpr std::size_t kHead = 4, kCe = 28;
  const auto named = [](char c) { return (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9'); };
  Bytes held;
  const char* fault = nullptr;
  for (int hop = 0;; ++hop) {
    std::optional<std::array<std::uint32_t, 3>> next;  // sector, offset, length
    for (std::size_t at = 0; at + kHead <= area.size();) {
      const auto length = std::to_integer<std::size_t>(area[at + 2]);
      const std::string_view signature = as_text(area).substr(at, 2);
      const bool broken = length < kHead || at + length > area.size() || !named(signature[0]) || !named(signature[1]);
      if (broken && !all_zero(area.subspan(at))) fault = "susp_entry";
      if (broken) break;
      const ByteView data = area.subspan(at + kHead, length - kHead);
      if (signature == "ST") break;
      if (signature == "CE" && length >= kCe)
        next = {load_le32(data, 0), load_le32(data, 8), load_le32(data, 16)};
      else
        entry(signature, data);
      at += length;
    }
    if (!next) return fault;
    if (hop == kMostHops) {
      name.clear();
      return "susp_loop";
    }
    Bytes sector;
    const auto [place, offset, length] = *next;
    if (!read_sector(place, sector) || offset > sector.size() || length > sector.size() - offset) {
      name.clear();
      return "susp_continuation";
    }
    held = std::move(sector);
    area = ByteView(held).subspan(offset, length);
  }
}

void SystemUse::entry(std::string_view signature, ByteView data) {
  if (data.empty()) return;
  const auto flags = std::to_integer<unsigned>(data[0]);
  constexpr unsigned kCurrent = 2, kParent = 4, kModified = 2, kLongDates = 0x80;
  if (signature == "NM" && (flags & (kCurrent | kParent)) == 0) {
    name += is_utf8(as_text(data.subspan(1))) ? std::string(as_text(data.subspan(1))) : latin1_text(data.subspan(1));
  } else if (signature == "SL") {
    add_link(data.subspan(1));
  } else if (signature == "TF" && (flags & kModified) != 0 && (flags & kLongDates) == 0) {
    constexpr std::size_t kDate = 7;
    const std::size_t at = 1 + ((flags & 1) != 0 ? kDate : 0);  // behind the creation date
    if (at + kDate <= data.size()) modified = iso_date7(data.subspan(at, kDate));
  }
}

void SystemUse::add_link(ByteView data) {
  constexpr unsigned kGoesOn = 1, kCurrent = 2, kParent = 4, kRoot = 8;
  if (!link) link.emplace();
  for (std::size_t at = 0; at + 2 <= data.size();) {
    const auto flags = std::to_integer<unsigned>(data[at]);
    const auto length = std::to_integer<std::size_t>(data[at + 1]);
    if (at + 2 + length > data.size()) return;
    if (!link->empty() && !link_goes_on_ && !link->ends_with('/')) *link += '/';
    if ((flags & kRoot) != 0) *link += '/';
    if ((flags & kCurrent) != 0) *link += '.';
    if ((flags & kParent) != 0) *link += "..";
    *link += as_text(data.subspan(at + 2, length));
    link_goes_on_ = (flags & kGoesOn) != 0;
    at += 2 + length;
  }
}

}  // namespace opifex
