/// The 16-bit CRC of polynomial 0x1021, most significant bit first (ITU-T V.41): of the Q channel (IEC 60908, start 0),
/// of UDF's tags (ECMA-167, 7.2.6, start 0), of CHD's hunks and of Dreamcast headers (start 0xFFFF).
#pragma once

#include "opifex/core/base/bytes.hpp"

namespace opifex {

std::uint16_t crc16(ByteView bytes, std::uint16_t start);

/// The same a byte at a time, and as machines without carry-less multiplication do it: to compare with.
std::uint16_t crc16_reference(ByteView bytes, std::uint16_t start);
std::uint16_t crc16_by_tables(ByteView bytes, std::uint16_t start);

}  // namespace opifex
