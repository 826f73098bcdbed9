/// The raw sector of 2352 bytes: layouts, making one, and telling what one is (ECMA-130, 14 and Annex A; CD-ROM XA).
#pragma once

#include <array>
#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/cd/address.hpp"

namespace opifex::cd {

inline constexpr std::size_t kRawBytes = 2352;
inline constexpr std::size_t kUserBytes = 2048;      ///< Mode 1 and Form 1
inline constexpr std::size_t kForm2Bytes = 2324;     ///< Form 2
inline constexpr std::size_t kMode2Bytes = 2336;     ///< Mode 2 from offset 16
inline constexpr std::size_t kSubchannelBytes = 96;  ///< P to W
inline constexpr std::size_t kSyncBytes = 12;
inline constexpr std::size_t kMode1UserAt = 16, kMode2UserAt = 24, kSubheaderAt = 16;
inline constexpr std::size_t kMode1EdcAt = 2064, kForm1EdcAt = 2072, kForm2EdcAt = 2348;
inline constexpr std::size_t kReservedAt = 2068, kReservedBytes = 8;
inline constexpr std::size_t kEccAt = 2076;

using Sector = std::array<std::byte, kRawBytes>;
using SectorView = std::span<const std::byte, kRawBytes>;
using SectorSpan = std::span<std::byte, kRawBytes>;

extern const std::array<std::byte, kSyncBytes> kSync;

enum class SectorKind { audio, mode0, mode1, mode2_formless, mode2_form1, mode2_form2 };
std::string_view to_string(SectorKind kind);

/// Submode bit 5: the sector is Form 2 (CD-ROM XA).
inline constexpr std::byte kSubmodeForm2{0x20};

struct Subheader {
  std::uint8_t file = 0, channel = 0, submode = 0, coding = 0;
  friend bool operator==(const Subheader&, const Subheader&) = default;
};
inline constexpr Subheader kForm1Data{0, 0, 0x08, 0};
inline constexpr Subheader kForm2Empty{0, 0, 0x20, 0};

bool has_sync(SectorView s);
/// Mode 0 to 2 from the header byte; its upper bits are the block indicator of recordable discs. Nothing if invalid.
std::optional<int> header_mode(SectorView s);
/// The header's address; nothing if it is no BCD time. Minutes count up to 99: never negative below -150.
std::optional<Lba> header_lba(SectorView s);
/// Sync, valid time and valid mode: what makes a data sector, even inside an audio track.
bool has_valid_header(SectorView s);
bool subheaders_agree(SectorView s);
Subheader subheader(SectorView s, std::size_t copy = 0);

/// Writes sync and header; the mode byte is replaced too.
void put_header(SectorSpan s, Lba lba, int mode);
void put_subheader(SectorSpan s, Subheader h);

/// Makes a whole sector from user data: sync, header, subheader, EDC and ECC.
void make_mode1(SectorSpan s, Lba lba, std::span<const std::byte, kUserBytes> user);
void make_form1(SectorSpan s, Lba lba, Subheader h, std::span<const std::byte, kUserBytes> user);
void make_form2(SectorSpan s, Lba lba, Subheader h, std::span<const std::byte, kForm2Bytes> user);

/// Computes EDC and ECC of a Mode 1, Form 1 or Form 2 sector whose other fields stand already.
void regenerate_parity(SectorSpan s, SectorKind kind);

/// The fixed sequence data sectors are XORed with on the disc (ECMA-130, Annex B). Its own inverse.
void scramble(SectorSpan s);

/// Swaps the two bytes of every 16-bit word: big-endian audio, or an image written by a machine of that order.
void swap_words(std::span<std::byte> bytes);

}  // namespace opifex::cd
