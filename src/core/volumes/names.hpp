/// Texts and dates of ISO 9660, Joliet and Rock Ridge (ECMA-119 7.4 and 9.1; SUSP 1.12).
#pragma once

#include <array>
#include <functional>
#include <optional>
#include <string>

#include "opifex/core/base/bytes.hpp"

namespace opifex {

/// A padded field of a descriptor, without padding; bytes that are no UTF-8 are taken as Latin-1.
std::string iso_text(ByteView field);
/// The same of a Joliet descriptor: UCS-2, big-endian.
std::string iso_joliet_text(ByteView field);
/// A file identifier as people know it: without version, without a lone dot at its end.
std::string iso_name(ByteView identifier);
std::string iso_joliet_name(ByteView identifier);

/// Seconds since 1970, UTC; nothing if not given or nonsense. 7 bytes, as in directory records.
std::optional<std::int64_t> iso_date7(ByteView date);

/// UTF-16 to UTF-8; lone surrogates are written as their number.
std::string utf16_be_text(ByteView text);
/// Latin-1 to UTF-8.
std::string latin1_text(ByteView text);

/// What the system use entries of one record say (Rock Ridge).
struct SystemUse {
  std::string name;  ///< empty: the ISO name counts
  std::optional<std::string> link;
  std::optional<std::int64_t> modified;
  /// `read_sector` fills a sector of the volume; false if it lies outside. Returns the code of what is wrong, or null.
  const char* read(ByteView area, const std::function<bool(std::uint32_t, Bytes&)>& read_sector);

 private:
  void entry(std::string_view signature, ByteView data);
  void add_link(ByteView data);
  bool link_goes_on_ = false;
};

}  // namespace opifex
