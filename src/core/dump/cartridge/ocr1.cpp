#include "opifex/core/dump/ocr1.hpp"

#include <algorithm>
#include <array>

#include "opifex/core/base/crc16.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex::dump::ocr1 {
namespace {

constexpr std::array<std::byte, 4> kSync = {std::byte{0xD7}, std::byte{0x4F}, std::byte{0x31}, std::byte{0x28}};
constexpr std::uint16_t kCrcStart = 0xFFFF;

namespace frame_at {
constexpr std::size_t kKind = 4, kSequence = 5, kTag = 6, kPosition = 8, kLength = 12, kCrc = 14;
}  // namespace frame_at

std::uint16_t crc_of(ByteView bytes) { return crc16(bytes, kCrcStart); }

std::optional<std::uint32_t> hex_number(std::string_view text, std::size_t most) {
  if (text.empty() || text.size() > most) return std::nullopt;
  std::uint32_t value = 0;
  for (const char c : text) {
    const bool digit = c >= '0' && c <= '9', letter = c >= 'A' && c <= 'F', small = c >= 'a' && c <= 'f';
    if (!digit && !letter && !small) return std::nullopt;
    value = value << 4 | static_cast<std::uint32_t>(digit ? c - '0' : letter ? c - 'A' + 10 : c - 'a' + 10);
  }
  return value;
}

bool is_argument(std::string_view text) {
  constexpr std::size_t kMost = 130;
  constexpr std::string_view kMarks = "_.,:=+/-";
  return !text.empty() && text.size() <= kMost && std::all_of(text.begin(), text.end(), [&](char c) {
    return (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') ||
           kMarks.find(c) != std::string_view::npos;
  });
}

/// Verbs that change something are never believed without their checksum.
bool needs_crc(std::string_view verb) {
  constexpr std::array kVerbs = {"POWER", "ARM", "PUT", "COMMIT", "SPEED", "SIM"};
  return std::find(kVerbs.begin(), kVerbs.end(), verb) != kVerbs.end();
}

/// "@TTTT VERB arg arg ;CCCC", without its LF.
LineParser::Result parse_line(std::string_view text) {
  constexpr std::size_t kTag = 4, kCrcPart = 6;  // " ;CCCC"
  LineParser::Result result{LineFault::bad_line, {}};
  if (text.size() < 1 + kTag + kCrcPart) return result;
  const std::string_view front = text.substr(0, text.size() - kCrcPart), crc = text.substr(text.size() - kCrcPart + 2);
  if (text.substr(text.size() - kCrcPart, 2) != " ;") return result;
  const auto tag = hex_number(front.substr(1, kTag), kTag);
  if (!tag || *tag == 0 || front.size() < kTag + 3 || front[kTag + 1] != ' ') return result;
  std::string_view rest = front.substr(kTag + 2);
  while (true) {
    const auto blank = rest.find(' ');
    const std::string_view part = rest.substr(0, blank);
    if (!is_argument(part)) return result;
    if (result.line.verb.empty())
      result.line.verb = part;
    else
      result.line.arguments.emplace_back(part);
    if (blank == std::string_view::npos) break;
    rest = rest.substr(blank + 1);
  }
  const std::string& verb = result.line.verb;
  if (!std::all_of(verb.begin(), verb.end(), [](char c) { return c >= 'A' && c <= 'Z'; })) return result;
  result.line.tag = static_cast<std::uint16_t>(*tag);
  if (crc == "----" && !needs_crc(verb)) {
    result.fault = LineFault::none;
    return result;
  }
  const auto told = hex_number(crc, 4);
  result.fault = told && *told == crc_of(as_view(front)) ? LineFault::none : LineFault::bad_crc;
  return result;
}

}  // namespace

std::string line_of(std::uint16_t tag, std::string_view body) {
  const std::string front = fmt::format("@{:04X} {}", tag, body);
  return fmt::format("{} ;{:04X}\n", front, crc_of(as_view(front)));
}

Bytes encode(const Frame& frame) {
  Bytes out(kFrameHead + frame.payload.size() + kFrameTail);
  opifex::Fields fields(out);
  fields.bytes(0, kSync);
  fields.byte(frame_at::kKind, static_cast<unsigned char>(frame.kind));
  fields.byte(frame_at::kSequence, frame.sequence);
  fields.be(frame_at::kTag, frame.tag, 2);
  fields.be(frame_at::kPosition, frame.position, 4);
  fields.be(frame_at::kLength, frame.payload.size(), 2);
  fields.be(frame_at::kCrc, crc_of(ByteView(out).first(frame_at::kCrc)), 2);
  fields.bytes(kFrameHead, frame.payload);
  fields.be(kFrameHead + frame.payload.size(), crc_of(frame.payload), 2);
  return out;
}

std::string text_of(const std::vector<std::pair<std::string, std::string>>& fields) {
  std::string text;
  for (const auto& [key, value] : fields) text += (text.empty() ? "" : "\n") + key + "=" + value;
  return text;
}

Fields Frame::fields() const {
  Fields all;
  std::string_view rest = as_text(payload);
  while (!rest.empty()) {
    const std::string_view line = rest.substr(0, rest.find('\n'));
    if (const auto equals = line.find('='); equals != std::string_view::npos)
      all.emplace(line.substr(0, equals), line.substr(equals + 1));
    rest = line.size() == rest.size() ? "" : rest.substr(line.size() + 1);
  }
  return all;
}

void FrameParser::add(ByteView bytes) {
  buffer_.erase(buffer_.begin(), buffer_.begin() + static_cast<std::ptrdiff_t>(at_));
  at_ = 0;
  buffer_.insert(buffer_.end(), bytes.begin(), bytes.end());
}

std::optional<Frame> FrameParser::next() {
  within_ = false;
  while (true) {
    const auto from = buffer_.begin() + static_cast<std::ptrdiff_t>(at_);
    const auto found = std::search(from, buffer_.end(), kSync.begin(), kSync.end());
    at_ = static_cast<std::size_t>(found - buffer_.begin());
    if (found == buffer_.end()) {  // the beginning of a mark may be at the end
      at_ -= std::min<std::size_t>(kSync.size() - 1, buffer_.size() - static_cast<std::size_t>(from - buffer_.begin()));
      return std::nullopt;
    }
    const ByteView here = ByteView(buffer_).subspan(at_);
    within_ = true;
    if (here.size() < kFrameHead) return std::nullopt;
    const std::size_t length = load_be16(here, frame_at::kLength);
    if (crc_of(here.first(frame_at::kCrc)) != load_be16(here, frame_at::kCrc) || length > kMostPayload) {
      ++at_;
      continue;
    }
    if (here.size() < kFrameHead + length + kFrameTail) return std::nullopt;
    within_ = false;
    const ByteView payload = here.subspan(kFrameHead, length);
    if (crc_of(payload) != load_be16(here, kFrameHead + length)) {
      // A byte may be lost: then the next frame was taken for payload.
      at_ += kFrameHead;
      continue;
    }
    at_ += kFrameHead + length + kFrameTail;
    return Frame{.kind = static_cast<char>(here[frame_at::kKind]),
                 .sequence = std::to_integer<std::uint8_t>(here[frame_at::kSequence]),
                 .tag = load_be16(here, frame_at::kTag),
                 .position = load_be32(here, frame_at::kPosition),
                 .payload = Bytes(payload.begin(), payload.end())};
  }
}

void FrameParser::gap() {
  if (!within_) return;
  // With a header that is whole the search goes on behind it, else behind the first byte of the mark.
  at_ += buffer_.size() - at_ >= kFrameHead ? kFrameHead : 1;
  within_ = false;
}

void FrameParser::clear() {
  buffer_.clear();
  at_ = 0;
  within_ = false;
}

std::optional<std::uint32_t> parse_number(std::string_view text) {
  if (text.starts_with("0x")) return hex_number(text.substr(2), 8);
  if (text.empty() || text.size() > 10) return std::nullopt;
  std::uint64_t value = 0;
  for (const char c : text) {
    if (c < '0' || c > '9') return std::nullopt;
    value = value * 10 + static_cast<std::uint64_t>(c - '0');
  }
  return value > UINT32_MAX ? std::nullopt : std::optional(static_cast<std::uint32_t>(value));
}

std::optional<Bytes> parse_hex(std::string_view text) {
  if (text.empty() || text.size() % 2 != 0) return std::nullopt;
  Bytes out;
  for (std::size_t i = 0; i < text.size(); i += 2) {
    const auto byte = hex_number(text.substr(i, 2), 2);
    if (!byte) return std::nullopt;
    out.push_back(static_cast<std::byte>(*byte));
  }
  return out;
}

std::vector<LineParser::Result> LineParser::add(ByteView bytes) {
  std::vector<Result> results;
  for (const std::byte b : bytes) {
    const char c = static_cast<char>(b);
    if (c == '\r') continue;
    if (c == '@') {  // always a new line
      text_ = "@";
      begun_ = true;
      spoiled_ = false;
      continue;
    }
    if (c == '\n') {
      if (begun_) results.push_back(spoiled_ ? Result{LineFault::bad_line, {}} : parse_line(text_));
      drop();
      continue;
    }
    if (!begun_) continue;
    if (c < 0x20 || c > 0x7E || text_.size() + 2 > kMostLine) spoiled_ = true;
    if (!spoiled_) text_ += c;
  }
  return results;
}

}  // namespace opifex::dump::ocr1
