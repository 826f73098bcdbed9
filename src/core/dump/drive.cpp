#include "opifex/core/dump/drive.hpp"

#include <algorithm>
#include <array>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/cd/sector.hpp"

namespace opifex::dump {

namespace {

constexpr std::uint32_t kTimeout = 60'000, kFirstTimeout = 90'000;
constexpr std::uint32_t kReadyWait = 500, kReadyPatience = 60'000, kRecoverPatience = 90'000;

using Cdb = std::array<std::byte, 12>;

Cdb command(unsigned code) {
  Cdb c{};
  c[0] = static_cast<std::byte>(code);
  return c;
}
ByteView six(const Cdb& c) { return ByteView(c).first(6); }
ByteView ten(const Cdb& c) { return ByteView(c).first(10); }

std::string padded(ByteView v) { return printable(trim(as_text(v).substr(0, as_text(v).find('\0')))); }

}  // namespace

/// How often one command may be repeated for each reason.
struct Patience {
  std::uint64_t waited_ms = 0;
  int hardware = 0, aborted = 0, attention = 0;
};

std::string DriveFacts::name() const {
  std::string text = vendor;
  for (const std::string& word : {product, revision})
    if (!word.empty()) text += (text.empty() ? "" : " ") + word;
  return text;
}

std::size_t CdParts::subchannel_bytes() const {
  return subchannel == SubchannelPart::raw ? cd::kSubchannelBytes
         : subchannel == SubchannelPart::q ? kFormattedQBytes
                                           : 0;
}
std::size_t CdParts::bytes() const { return cd::kRawBytes + (c2 ? kC2Bytes : 0) + subchannel_bytes(); }

void Drive::stop(const char* code, std::string what, const CommandReply& reply, std::string hint) const {
  throw Error({.fault = Fault::device,
               .code = code,
               .what = std::move(what),
               .file = transport_.name(),
               .found = describe(reply),
               .hint = std::move(hint)});
}

/// True if the command is to be sent again.
bool Drive::settle(const CommandReply& reply, Trouble trouble, Patience& patience) {
  constexpr int kTries = 3, kAttentions = 8;
  constexpr std::uint32_t kPause = 1000;
  switch (trouble) {
    case Trouble::not_ready:
      if (patience.waited_ms >= kReadyPatience)
        stop("not_ready", "the drive does not become ready", reply, "take the disc out and put it in again");
      transport_.wait(kReadyWait);
      patience.waited_ms += kReadyWait;
      doubtful_ = true;
      return true;
    case Trouble::needs_start: {
      doubtful_ = true;
      Cdb start = command(0x1B);
      start[4] = std::byte{1};
      if (patience.hardware++ >= kTries) stop("not_ready", "the drive does not start the disc", reply, "");
      transport_.execute(six(start), DataDirection::none, {}, kFirstTimeout);
      return true;
    }
    case Trouble::hardware:
      if (patience.hardware++ >= kTries)
        stop("drive_failed", "the drive reports a fault of its own", reply,
             "let it cool, check its cable, and run the command again: the dump goes on where it stopped");
      transport_.wait(kPause);
      return true;
    case Trouble::medium_changed:
      if (patience.attention++ >= kAttentions) stop("drive_failed", "the drive keeps asking for attention", reply, "");
      doubtful_ = true;
      if (speed_) set_speed(*speed_);
      return true;
    case Trouble::reset:
      if (patience.attention++ >= kAttentions) stop("drive_failed", "the drive keeps asking for attention", reply, "");
      doubtful_ = true;
      if (speed_) set_speed(*speed_);
      return true;
    case Trouble::aborted:
      return patience.aborted++ < kTries;
    default:
      return false;
  }
}

/// The commands of the check itself are not checked again.
void Drive::confirm_medium() {
  if (!doubtful_ || checking_) return;
  doubtful_ = false;
  if (!check_medium_) return;
  ++medium_checks_;
  checking_ = true;
  try {
    check_medium_();
  } catch (...) {
    checking_ = false;
    doubtful_ = true;
    throw;
  }
  checking_ = false;
}

Outcome Drive::run(ByteView cdb, DataDirection direction, std::span<std::byte> buffer, std::uint32_t timeout_ms) {
  Patience patience;
  while (true) {
    const CommandReply reply = transport_.execute(cdb, direction, buffer, timeout_ms);
    const Trouble trouble = classify(reply);
    switch (trouble) {
      case Trouble::no_medium:
        stop("no_medium", "there is no disc in the drive", reply, "put the disc in and run the command again");
      case Trouble::unsupported_disc:
        stop("unsupported_disc", "this drive cannot read this disc", reply, "try another drive");
      case Trouble::video_protection:
        stop("video_protection", "this disc is scrambled for video playback", reply, "it is no game disc");
      case Trouble::eject_pressed:
        stop("eject_pressed", "the eject button was pressed", reply,
             "put the disc back and run the command again: the dump goes on where it stopped");
      case Trouble::gone:
        stop("drive_gone", "the drive does not answer any more", reply,
             "check its cable and run the command again: the dump goes on where it stopped");
      default:
        break;
    }
    const bool again = settle(reply, trouble, patience);
    if (again || trouble == Trouble::timeout) ++disturbances_;
    if (again) continue;
    if (trouble == Trouble::timeout) doubtful_ = true;
    if (trouble == Trouble::none || reply.transferred > 0) confirm_medium();  // what came before a failure counts, too
    Outcome outcome{trouble, {}, std::min(reply.transferred, buffer.size()), {}};
    if (trouble == Trouble::aborted) outcome.trouble = Trouble::read_error;
    if (trouble != Trouble::none) {
      outcome.text = describe(reply);
      if (const auto sense = parse_sense(reply.sense)) outcome.failed_lba = sense->lba;
    }
    return outcome;
  }
}

std::optional<Bytes> Drive::query(ByteView cdb, std::size_t room) {
  Bytes reply(room);
  const Outcome outcome = run(cdb, DataDirection::from_device, reply, kTimeout);
  if (!outcome.ok()) return std::nullopt;
  reply.resize(outcome.bytes);
  return reply;
}

void Drive::make_ready() {
  Cdb inquiry = command(0x12);
  constexpr std::size_t kInquiryBytes = 36;
  Fields(inquiry).be(3, kInquiryBytes, 2);
  const auto reply = query(six(inquiry), kInquiryBytes);
  constexpr int kOptical = 5;
  if (!reply || reply->size() < kInquiryBytes || (std::to_integer<int>((*reply)[0]) & 31) != kOptical)
    throw Error({.code = "not_a_drive",
                 .cause = Cause::not_a_drive,
                 .what = "this is no optical drive",
                 .file = transport_.name(),
                 .hint = "a drive is /dev/sr0 or /dev/sg0; an image or partition is read as plain blocks"});
  const ByteView v(*reply);
  facts_.vendor = padded(v.subspan(8, 8));
  facts_.product = padded(v.subspan(16, 16));
  facts_.revision = padded(v.subspan(32, 4));
  const Outcome ready = run(six(command(0x00)), DataDirection::none, {}, kFirstTimeout);
  if (ready.trouble == Trouble::timeout && !recover())
    throw Error({.fault = Fault::device,
                 .code = "not_ready",
                 .what = "the drive does not answer",
                 .file = transport_.name(),
                 .hint = "take the disc out and put it in again"});
  read_facts();
}

bool Drive::has_medium() {
  const CommandReply reply = transport_.execute(six(command(0x00)), DataDirection::none, {}, kTimeout);
  const Trouble trouble = classify(reply);
  if (trouble == Trouble::gone)
    stop("drive_gone", "the drive does not answer any more", reply, "check its cable and run the command again");
  return trouble != Trouble::no_medium && trouble != Trouble::timeout;
}

void Drive::read_facts() {
  Cdb sense = command(0x5A);
  constexpr std::size_t kHeader = 8, kShortestPage = 16, kRoom = 128;
  constexpr int kPage = 0x2A;
  sense[2] = std::byte{kPage};
  Fields(sense).be(7, kRoom, 2);
  const auto reply = query(ten(sense), kRoom);
  if (!reply || reply->size() < kHeader) return;
  const std::size_t at = kHeader + load_be16(*reply, 6);
  if (at + kShortestPage > reply->size()) return;
  const ByteView page = ByteView(*reply).subspan(at);
  if ((std::to_integer<int>(page[0]) & 0x3F) != kPage) return;
  facts_.told = true;
  facts_.accurate_stream = (page[5] & std::byte{2}) != std::byte{0};
  facts_.top_speed_kbs = load_be16(page, 8);
  facts_.buffer_kib = load_be16(page, 12);
}

std::optional<Bytes> Drive::configuration() {
  constexpr std::size_t kRoom = 8;  // the header with the current profile is enough
  Cdb c = command(0x46);
  Fields(c).be(7, kRoom, 2);
  return query(ten(c), kRoom);
}

std::optional<Bytes> Drive::toc(int format, int first) {
  constexpr std::size_t kRoom = 0xFFFC;
  constexpr int kFull = 2;
  Cdb c = command(0x43);
  if (format == kFull) c[1] = std::byte{2};
  c[2] = static_cast<std::byte>(format);
  c[6] = static_cast<std::byte>(first);
  Fields(c).be(7, kRoom, 2);
  auto reply = query(ten(c), kRoom);
  if (!reply || reply->size() < 4) return std::nullopt;
  reply->resize(std::min<std::size_t>(reply->size(), load_be16(*reply, 0) + 2u));
  return reply;
}

std::uint64_t Drive::buffer_bytes() const {
  // A drive that boasts is believed: to read too much costs time, too little a wrong proof.
  constexpr std::uint64_t kSpare = 256 << 10, kUsual = 2 << 20;
  const std::uint64_t told = std::uint64_t{facts_.buffer_kib} << 10;
  return (told == 0 ? kUsual : told) + kSpare;
}

std::optional<Bytes> Drive::dvd_structure(int media, int layer, int format) {
  constexpr std::size_t kRoom = 2052;
  Cdb c = command(0xAD);
  c[1] = static_cast<std::byte>(media);
  c[6] = static_cast<std::byte>(layer);
  c[7] = static_cast<std::byte>(format);
  Fields(c).be(8, kRoom, 2);
  return query(c, kRoom);
}

namespace {

Cdb subchannel_command(int format, int track, std::size_t room) {
  Cdb c = command(0x42);
  c[2] = std::byte{0x40};
  c[3] = static_cast<std::byte>(format);
  c[6] = static_cast<std::byte>(track);
  Fields(c).be(7, room, 2);
  return c;
}

std::optional<std::string> valid_text(const std::optional<Bytes>& reply, std::size_t length) {
  if (!reply || reply->size() < 9 + length || ((*reply)[8] & std::byte{0x80}) == std::byte{0}) return std::nullopt;
  const std::string text(as_text(*reply).substr(9, length));
  const bool plain = std::all_of(text.begin(), text.end(),
                                 [](char ch) { return (ch >= '0' && ch <= '9') || (ch >= 'A' && ch <= 'Z'); });
  const bool any = text.find_first_not_of('0') != std::string::npos;
  return plain && any ? std::optional(text) : std::nullopt;
}

}  // namespace

std::optional<std::string> Drive::catalogue() {
  constexpr int kCatalogue = 2;
  return valid_text(query(ten(subchannel_command(kCatalogue, 0, 24)), 24), 13);
}

std::optional<std::string> Drive::isrc(int track) {
  constexpr int kIsrc = 3;
  return valid_text(query(ten(subchannel_command(kIsrc, track, 24)), 24), 12);
}

std::optional<Drive::Capacity> Drive::capacity() {
  const auto reply = query(ten(command(0x25)), 8);
  if (!reply || reply->size() < 8) return std::nullopt;
  const std::uint32_t last = load_be32(*reply, 0);
  return Capacity{last == 0 || last == 0xFFFFFFFF ? 0 : std::uint64_t{last} + 1, load_be32(*reply, 4)};
}

Outcome Drive::read_cd(cd::Lba lba, std::uint32_t count, CdParts parts, std::span<std::byte> out) {
  if (records_) read_so_far_.emplace_back(lba, count);
  constexpr unsigned kAllFields = 0xF8, kC2Pointers = 0x02, kRawSubchannel = 1, kFormattedQ = 2;
  Cdb c = command(0xBE);
  constexpr unsigned kCdda = 1;
  if (parts.as_audio) c[1] = static_cast<std::byte>(kCdda << 2);
  Fields(c).be(2, static_cast<std::uint32_t>(lba), 4);
  c[6] = static_cast<std::byte>(count >> 16 & 255);
  Fields(c).be(7, count & 0xFFFF, 2);
  c[9] = static_cast<std::byte>(kAllFields | (parts.c2 ? kC2Pointers : 0));
  c[10] = static_cast<std::byte>(parts.subchannel == SubchannelPart::raw ? kRawSubchannel
                                 : parts.subchannel == SubchannelPart::q ? kFormattedQ
                                                                         : 0);
  return run(c, DataDirection::from_device, out, kTimeout);
}

Outcome Drive::read_blocks(std::uint32_t lba, std::uint32_t count, std::span<std::byte> out, bool force_unit_access) {
  Cdb c = command(0x28);
  if (force_unit_access) c[1] = std::byte{8};
  Fields(c).be(2, lba, 4);
  Fields(c).be(7, count, 2);
  return run(ten(c), DataDirection::from_device, out, kTimeout);
}

void Drive::set_speed(unsigned kbs) {
  speed_ = kbs;
  Cdb c = command(0xBB);
  Fields(c).be(2, kbs == 0 ? 0xFFFF : std::min(kbs, 0xFFFFu), 2);
  Fields(c).be(4, 0xFFFF, 2);
  // Not every drive obeys, and not every user may ask: reading goes on at the speed it has.
  transport_.execute(c, DataDirection::none, {}, kTimeout);
}

void Drive::lock_tray(bool locked) {
  Cdb c = command(0x1E);
  c[4] = static_cast<std::byte>(locked ? 1 : 0);
  transport_.execute(six(c), DataDirection::none, {}, kTimeout);
}

void Drive::eject() {
  lock_tray(false);
  Cdb c = command(0x1B);
  c[4] = std::byte{2};
  transport_.execute(six(c), DataDirection::none, {}, kTimeout);
}

bool Drive::recover() {
  doubtful_ = true;
  for (std::uint64_t waited = 0; waited < kRecoverPatience; waited += kReadyWait) {
    const CommandReply reply = transport_.execute(six(command(0x00)), DataDirection::none, {}, kTimeout);
    const Trouble trouble = classify(reply);
    if (trouble == Trouble::gone) return false;
    if (trouble == Trouble::none) {
      if (speed_) set_speed(*speed_);
      return true;
    }
    transport_.wait(kReadyWait);
  }
  return false;
}

}  // namespace opifex::dump
