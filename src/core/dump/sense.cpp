#include "opifex/core/dump/sense.hpp"

#include <fmt/format.h>

namespace opifex::dump {
namespace {

constexpr int kNotReady = 2, kMediumError = 3, kHardwareError = 4, kIllegalRequest = 5, kUnitAttention = 6,
              kAborted = 11;

int at(ByteView v, std::size_t i) { return i < v.size() ? std::to_integer<int>(v[i]) : 0; }

Trouble not_ready(const Sense& s) {
  if (s.asc == 0x3A) return Trouble::no_medium;
  if (s.asc == 0x30 || s.asc == 0x57) return Trouble::unsupported_disc;
  if (s.asc == 0x04 && s.ascq == 0x02) return Trouble::needs_start;
  return Trouble::not_ready;
}

Trouble illegal_request(const Sense& s) {
  switch (s.asc) {
    case 0x20:
      return Trouble::unknown_command;
    case 0x21:
      return Trouble::out_of_range;
    case 0x63:
    case 0x64:
      return Trouble::wrong_type;
    case 0x6F:
      return Trouble::video_protection;
    default:
      return Trouble::bad_field;
  }
}

Trouble attention(const Sense& s) {
  if (s.asc == 0x28) return Trouble::medium_changed;
  if (s.asc == 0x5A) return Trouble::eject_pressed;
  return Trouble::reset;
}

}  // namespace

std::optional<Sense> parse_sense(ByteView v) {
  if (v.size() < 3) return std::nullopt;
  const int form = at(v, 0) & 0x7F;
  if (form == 0x70 || form == 0x71) {
    Sense s{at(v, 2) & 15, 0, 0};
    if (v.size() >= 14) {
      s.asc = at(v, 12);
      s.ascq = at(v, 13);
    }
    if ((at(v, 0) & 0x80) != 0 && v.size() >= 7) s.lba = load_be32(v, 3);
    return s;
  }
  if (form != 0x72 && form != 0x73) return std::nullopt;
  if (v.size() < 4) return std::nullopt;
  Sense s{at(v, 1) & 15, at(v, 2), at(v, 3)};
  if (v.size() >= 20 && at(v, 8) == 0 && at(v, 9) == 0x0A && (at(v, 10) & 0x80) != 0) s.lba = load_be32(v, 16);
  return s;
}

Trouble classify(const CommandReply& reply) {
  if (reply.host_status == kHostTimeout) return Trouble::timeout;
  if (reply.host_status == kHostNoConnect) return Trouble::gone;
  if (reply.host_status != kHostOk) return Trouble::aborted;
  if (reply.status == kStatusBusy) return Trouble::not_ready;
  if (reply.status != kStatusCheckCondition) return Trouble::none;
  const auto sense = parse_sense(reply.sense);
  if (!sense) return Trouble::read_error;
  switch (sense->key) {
    case 0:
    case 1:
      return Trouble::none;  // recovered: the data are valid
    case kNotReady:
      return not_ready(*sense);
    case kMediumError:
      return sense->asc == 0x57 ? Trouble::unsupported_disc : Trouble::read_error;
    case kHardwareError:
      return sense->asc == 0x09 || sense->asc == 0x15 ? Trouble::read_error : Trouble::hardware;
    case kIllegalRequest:
      return illegal_request(*sense);
    case kUnitAttention:
      return attention(*sense);
    case kAborted:
      return Trouble::aborted;
    default:
      return Trouble::read_error;
  }
}

std::string describe(const CommandReply& reply) {
  if (reply.host_status == kHostTimeout) return "no answer in time";
  if (reply.host_status != kHostOk) return fmt::format("no connection (host status {})", reply.host_status);
  if (const auto s = parse_sense(reply.sense))
    return fmt::format("sense {:02X}/{:02X}/{:02X}", s->key, s->asc, s->ascq);
  return fmt::format("status {:02X}", reply.status);
}

}  // namespace opifex::dump
