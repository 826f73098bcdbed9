/// Marks by which discs and containers of discs are known, where they stand, and how large such discs are.
#pragma once

#include <cstdint>
#include <string_view>

namespace opifex {

/// ISO 9660 (ECMA-119, 8.1.3): bytes of user data before the mark; that of CD-i stands in the same place.
inline constexpr std::string_view kIsoMark = "CD001", kCdiMark = "CD-I ", kXaMark = "CD-XA001";
inline constexpr std::uint64_t kIsoDescriptorSector = 16, kIsoMarkAt = kIsoDescriptorSector * 2048 + 1;
inline constexpr std::size_t kXaMarkAt = 1024, kIsoSpaceAt = 80;  ///< within the descriptor

/// The game partition of Xbox discs; bytes from its start.
inline constexpr std::string_view kXdvdfsMark = "MICROSOFT*XBOX*MEDIA";
inline constexpr std::uint64_t kXdvdfsMarkAt = 32 * 2048;

inline constexpr std::string_view kChdMark = "MComprHD";

/// Big-endian, in the first sector.
inline constexpr std::uint32_t kWiiMark = 0x5D1C'9EA3, kGameCubeMark = 0xC233'9F3D;
inline constexpr std::size_t kWiiMarkAt = 0x18, kGameCubeMarkAt = 0x1C;

inline constexpr std::uint64_t kGameCubeDiscBytes = 1'459'978'240;
inline constexpr std::uint64_t kWiiSingleLayerBytes = 4'699'979'776, kWiiDualLayerBytes = 8'511'160'320;

}  // namespace opifex
