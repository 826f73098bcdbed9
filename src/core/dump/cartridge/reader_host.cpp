#include <algorithm>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/dump/sim_port.hpp"

namespace opifex::dump {
namespace {

using ocr1::Frame;

// Section 7.
constexpr unsigned kFirstFrameMs = 1000, kNextFrameMs = 1000, kByteGapMs = 200, kAfterWaitMs = 500,
                   kMostWaitMs = 30'000, kQuietMs = 200;
constexpr std::uint64_t kCommandMs = 5 * 60'000;
constexpr std::array<unsigned, 4> kPausesMs = {0, 100, 300, 900};
constexpr std::size_t kMostDrained = 64 << 10;
constexpr int kSyncTries = 4, kMostRounds = 6, kRoundsAtFullChunk = 3;
constexpr std::uint32_t kLeastRead = 4096;  // section 4: of max-read
constexpr std::string_view kRangeWord = "range";
constexpr unsigned kNoBus = 20, kBusy = 15, kBadLine = 10, kBadCrc = 11, kSmallChunk = 256, kSmallestChunk = 64;

std::string crc_text(ByteView bytes) { return to_upper_ascii(digest_of("crc32", bytes)); }

std::vector<std::string> words_of(std::string_view list) {
  std::vector<std::string> words;
  while (!list.empty()) {
    const std::string_view word = list.substr(0, list.find(','));
    words.emplace_back(word);
    list = word.size() == list.size() ? "" : list.substr(word.size() + 1);
  }
  return words;
}

std::string field_of(const ocr1::Fields& fields, std::string_view key) {
  const auto at = fields.find(key);
  return at == fields.end() ? "" : at->second;
}

Error port_error(std::string code, std::string what, std::string found, std::string hint) {
  return Error({.fault = Fault::device,
                .code = std::move(code),
                .what = std::move(what),
                .found = std::move(found),
                .hint = std::move(hint)});
}

/// The line came wrong, or the reader is still at work for one whose end was lost: a SYNC mends both.
bool was_spoilt(const ReaderReply& reply) {
  return reply.code == kBusy || reply.code == kBadLine || reply.code == kBadCrc;
}

}  // namespace

void SimLink::write(ByteView bytes) { reader_.receive(bytes, now_); }

std::size_t SimLink::read(std::span<std::byte> out, unsigned timeout_ms) {
  const std::uint64_t end = now_ + timeout_ms;
  while (true) {
    const Bytes come = reader_.send(now_, out.size());
    if (!come.empty()) {
      std::copy(come.begin(), come.end(), out.begin());
      return come.size();
    }
    const auto next = reader_.next_at();
    if (now_ >= end) return 0;
    now_ = next && *next > now_ ? std::min(end, *next) : end;
  }
}

ReaderHost::ReaderHost(ReaderLink& link, std::stop_token stop, std::uint64_t nonce)
    : link_(link), stop_(std::move(stop)), nonce_(nonce) {}

void ReaderHost::check_stop() const {
  if (!leaving_ && stop_.stop_requested())
    throw Error({.fault = Fault::interrupted, .code = "interrupted", .what = "stopped"});
}

std::optional<Frame> ReaderHost::frame_within(unsigned ms) {
  constexpr unsigned kStep = 50;
  std::array<std::byte, 4096> buffer;
  const std::uint64_t end = link_.now_ms() + ms;
  while (true) {
    if (auto frame = parser_.next()) return frame;
    check_stop();
    const std::uint64_t now = link_.now_ms();
    if (parser_.is_within_frame() && now - last_byte_ms_ >= kByteGapMs) {
      parser_.gap();
      continue;
    }
    if (now >= end) return std::nullopt;
    const auto wait = static_cast<unsigned>(std::min<std::uint64_t>(kStep, end - now));
    const std::size_t n = link_.read(buffer, wait);
    if (n == 0) continue;
    last_byte_ms_ = link_.now_ms();
    parser_.add(ByteView(buffer).first(n));
  }
}

/// One line, and what answers it. Frames of other lines are dropped.
ReaderReply ReaderHost::transact(const std::string& body, const OnData& on_data) {
  tag_ = tag_ == 0xFFFF ? 1 : static_cast<std::uint16_t>(tag_ + 1);
  const std::string line = ocr1::line_of(tag_, body);
  link_.write(as_view(line));
  const std::uint64_t end = link_.now_ms() + kCommandMs;
  unsigned patience = kFirstFrameMs;
  while (link_.now_ms() < end) {
    const auto frame = frame_within(patience);
    if (!frame) return {};
    if (frame->tag == 0 && frame->kind == 'E') {
      removed_ = removed_ || field_of(frame->fields(), "event") == "cart-removed";
      continue;
    }
    if (frame->tag == 0 && frame->kind == 'X') return {};  // the line came spoilt
    if (frame->tag != tag_) continue;
    patience = kNextFrameMs;
    if (frame->kind == 'D') {
      on_data(*frame);
      continue;
    }
    ReaderReply reply;
    reply.fields = frame->fields();
    reply.position = frame->position;
    if (frame->kind == 'W') {
      const auto ms = ocr1::parse_number(field_of(reply.fields, "ms")).value_or(0);
      patience = std::min(kMostWaitMs, ms + kAfterWaitMs);
      continue;
    }
    if (frame->kind == 'A') {
      reply.end = ReaderReply::End::done;
      return reply;
    }
    if (frame->kind != 'X') continue;
    reply.end = ReaderReply::End::failed;
    reply.code = ocr1::parse_number(field_of(reply.fields, "code")).value_or(0);
    reply.word = field_of(reply.fields, "word");
    reply.text = field_of(reply.fields, "text");
    return reply;
  }
  return {};
}

/// After garbage, silence, or a device that restarts.
bool ReaderHost::synchronise_once() {
  link_.write(as_view("\n\n"));
  std::array<std::byte, 4096> buffer;
  std::size_t drained = 0;
  while (drained < kMostDrained) {
    check_stop();
    const std::size_t n = link_.read(buffer, kQuietMs);
    if (n == 0) break;
    drained += n;
  }
  parser_.clear();
  const std::string word = fmt::format("N{:X}", nonce_++ & 0xFFFFFF);
  const ReaderReply reply = transact("SYNC " + word, [](const Frame&) {});
  return reply.done() && field_of(reply.fields, "nonce") == word;
}

void ReaderHost::synchronise() {
  for (int i = 0; i < kSyncTries; ++i)
    if (synchronise_once()) return;
  throw port_error("no_reader", "no cartridge reader answers at this port", "silence",
                   "check that it is switched on and this is its port; other programs must not use it");
}

ReaderReply ReaderHost::ask(const std::string& body) {
  ReaderReply reply;
  for (std::size_t i = 0; i < kPausesMs.size(); ++i) {
    if (i > 0) {
      link_.wait(kPausesMs[i]);
      synchronise();
    }
    reply = transact(body, [](const Frame&) {});
    if (reply.end != ReaderReply::End::silent && !was_spoilt(reply)) return reply;
  }
  throw port_error("reader_silent", "the reader does not answer any more", printable(body),
                   "check its cable, switch it off and on, and try again: what was read is kept");
}

void ReaderHost::fail(const ReaderReply& reply, const std::string& body) const {
  // The host has always chosen a bus: one that is gone went with the cartridge.
  const bool lost = reply.code == kNoCart || reply.code == kCartLost || reply.code == kNoBus;
  throw port_error(lost                 ? "cart_lost"
                   : reply.word.empty() ? "reader_failed"
                                        : printable(reply.word),
                   lost ? "there is no cartridge in the reader" : "the reader could not do what it was asked to",
                   printable(fmt::format("{} ({}, to {})", reply.text, reply.code, body.substr(0, body.find(' ')))),
                   reply.code == kContact || lost
                       ? "switch off, clean the contacts with isopropyl alcohol, put the cartridge in firmly, try again"
                       : "");
}

ocr1::Fields ReaderHost::require(const std::string& body) {
  ReaderReply reply = ask(body);
  if (!reply.done()) fail(reply, body);
  return std::move(reply.fields);
}

ReaderFacts ReaderHost::begin() {
  synchronise();
  const ocr1::Fields fields = require("HELLO 1");
  ReaderFacts facts{.model = printable(field_of(fields, "model")),
                    .serial = printable(field_of(fields, "serial")),
                    .firmware = printable(field_of(fields, "firmware")),
                    .buses = words_of(field_of(fields, "buses"))};
  constexpr std::uint32_t kMostRead = 65536;
  facts.most_read =
      std::clamp(ocr1::parse_number(field_of(fields, "max-read")).value_or(kLeastRead), kLeastRead, kMostRead);
  chunk_bytes_ = ocr1::parse_number(field_of(fields, "chunk")).value_or(ocr1::kMostPayload);
  const auto features = words_of(field_of(fields, "features"));
  facts.sums = std::find(features.begin(), features.end(), "sum") != features.end();
  facts.writes_saves = std::find(features.begin(), features.end(), "ram-write") != features.end();
  return facts;
}

/// Small frames get through where large ones do not.
void ReaderHost::lower_chunk(std::uint32_t bytes) {
  if (chunk_bytes_ > bytes && ask(fmt::format("CHUNK {}", bytes)).done()) chunk_bytes_ = bytes;
}

ReaderState ReaderHost::state() {
  const ocr1::Fields fields = require("STATE");
  return {field_of(fields, "cart"), field_of(fields, "bus"),
          ocr1::parse_number(field_of(fields, "insertions")).value_or(0)};
}

bool ReaderHost::Reading::whole() const { return std::find(have.begin(), have.end(), false) == have.end(); }

/// `verb_head` takes start and length behind it.
ReaderHost::Reading ReaderHost::gather(const std::string& verb_head, std::uint32_t at, std::uint32_t bytes) {
  Reading out{Bytes(bytes), std::vector<bool>(bytes), false};
  int idle = 0;
  for (int round = 0; !out.whole(); ++round) {
    if (idle >= kMostRounds)
      throw port_error("reader_gives_up", "the reader never delivers all that it is asked for",
                       fmt::format("{:#x}, {} bytes", at, bytes), "check its cable; another reader may do better");
    if (round == kRoundsAtFullChunk) lower_chunk(kSmallChunk);
    if (round > 0 && idle > 0) synchronise();
    // A fault that comes every Nth frame keeps step with rounds that are N frames long.
    if (idle % 2 == 1) ask("STATE");
    const auto first =
        static_cast<std::uint32_t>(std::find(out.have.begin(), out.have.end(), false) - out.have.begin());
    std::uint32_t end = first;
    while (end < bytes && !out.have[end]) ++end;
    std::uint32_t fresh = 0;
    bool conflict = false;
    const std::string body = fmt::format("{}{:#x} {}", verb_head, at + first, end - first);
    const ReaderReply reply = transact(body, [&](const Frame& frame) {
      const std::uint64_t from = frame.position, to = from + frame.payload.size();
      if (on_bytes_) on_bytes_(static_cast<std::uint32_t>(frame.payload.size()));
      if (from < at + first || to > std::uint64_t{at} + end) return;  // nobody asked for it
      for (std::size_t i = 0; i < frame.payload.size(); ++i) {
        const auto place = static_cast<std::size_t>(from - at) + i;
        conflict = conflict || (out.have[place] && out.bytes[place] != frame.payload[i]);
        fresh += out.have[place] ? 0u : 1u;
        out.bytes[place] = frame.payload[i];
        out.have[place] = true;
      }
    });
    if (reply.end == ReaderReply::End::failed) {
      if (reply.code == kCartLost || reply.code == kNoCart) {
        out.cart_lost = true;
        return out;
      }
      if (!was_spoilt(reply)) fail(reply, body);
    }
    // What came whole has to be what the reader sent: its sum covers the run.
    const ByteView run = ByteView(out.bytes).subspan(first, end - first);
    const bool all = std::find(out.have.begin() + first, out.have.begin() + end, false) == out.have.begin() + end;
    const bool wrong = reply.done() && (field_of(reply.fields, "bytes") != std::to_string(end - first) ||
                                        (all && field_of(reply.fields, "crc32") != crc_text(run)));
    // Without its last frame a run that came whole has no sum: asked for again.
    if (conflict || wrong || (all && !reply.done())) {
      std::fill(out.have.begin() + first, out.have.begin() + end, false);
      fresh = 0;
    }
    idle = fresh > 0 ? 0 : idle + 1;
  }
  return out;
}

ReaderHost::Reading ReaderHost::read(const std::string& space, std::uint32_t at, std::uint32_t bytes) {
  const std::string head = fmt::format("READ {} - ", space);
  if (bytes <= most_read_) {
    try {
      return gather(head, at, bytes);
    } catch (const Error& e) {
      // Less than that every reader has to deliver at once, whatever it said.
      if (e.details.code != kRangeWord || bytes <= kLeastRead) throw;
      most_read_ = kLeastRead;
    }
  }
  Reading all{{}, {}, false};
  while (all.bytes.size() < bytes && !all.cart_lost) {
    const auto done = static_cast<std::uint32_t>(all.bytes.size());
    const Reading part = gather(head, at + done, std::min(most_read_, bytes - done));
    all.bytes.insert(all.bytes.end(), part.bytes.begin(), part.bytes.end());
    all.have.insert(all.have.end(), part.have.begin(), part.have.end());
    all.cart_lost = part.cart_lost;
  }
  return all;
}

std::optional<std::string> ReaderHost::sum(const std::string& space, std::uint32_t at, std::uint32_t bytes) {
  constexpr unsigned kUnsupported = 41, kRange = 14;
  const std::string body = fmt::format("SUM {} - {:#x} {}", space, at, bytes);
  const ReaderReply reply = ask(body);
  if (reply.code == kUnsupported || (reply.code == kRange && bytes > kLeastRead)) return std::nullopt;
  if (!reply.done()) fail(reply, body);
  if (field_of(reply.fields, "bytes") != std::to_string(bytes)) return "";  // of something else: it fits nothing
  return field_of(reply.fields, "crc32");
}

std::optional<ReaderHost::Header> ReaderHost::header() {
  constexpr int kTries = 12;
  constexpr std::size_t kMostBytes = 4096;
  // A cable that spoils every Nth frame may spoil one of each answer: what came whole is kept, and what the reader says
  // of its last reading decides.
  std::map<std::uint32_t, std::byte> have;
  for (int i = 0; i < kTries; ++i) {
    if (i > 0) synchronise();
    if (i == kRoundsAtFullChunk) lower_chunk(kSmallestChunk);
    if (i % 2 == 1) ask("STATE");  // out of step, as in gather()
    std::map<std::uint32_t, std::byte> fresh;
    bool conflict = false;
    const ReaderReply reply = transact("HEADER", [&](const Frame& frame) {
      for (std::size_t n = 0; n < frame.payload.size() && fresh.size() <= kMostBytes; ++n) {
        const auto [at, is_new] = fresh.try_emplace(frame.position + static_cast<std::uint32_t>(n), frame.payload[n]);
        conflict = conflict || (!is_new && at->second != frame.payload[n]);
      }
    });
    if (reply.code == kNoHeader) return std::nullopt;
    if (reply.end == ReaderReply::End::failed && !was_spoilt(reply)) fail(reply, "HEADER");
    for (const auto& [at, byte] : fresh) have[at] = byte;
    if (conflict || have.size() > kMostBytes) have.clear();
    if (!reply.done() || have.empty()) continue;
    Header header{have.begin()->first, {}};
    for (const auto& [at, byte] : have) header.bytes.push_back(byte);
    const bool joined = have.rbegin()->first - header.at + 1 == have.size();
    if (joined && field_of(reply.fields, "bytes") == std::to_string(header.bytes.size()) &&
        field_of(reply.fields, "crc32") == crc_text(header.bytes))
      return header;
  }
  throw port_error("reader_gives_up", "the header never comes whole from the reader", "", "check its cable");
}

ReaderHost::Written ReaderHost::write_save(std::uint32_t at, ByteView bytes) {
  constexpr std::size_t kEach = 64;
  Written out;
  const auto length = static_cast<std::uint32_t>(bytes.size());
  const ReaderReply armed = ask(fmt::format("ARM ram - {:#x} {} {}", at, length, crc_text(bytes)));
  if (!armed.done()) fail(armed, "ARM");
  const std::string token = field_of(armed.fields, "token");
  // A SYNC in between disarms: then all of it begins anew, which changes nothing in the cartridge.
  for (std::size_t i = 0; i < bytes.size(); i += kEach) {
    const std::string digits = to_upper_ascii(hex(bytes.subspan(i, std::min(kEach, bytes.size() - i))));
    const ReaderReply put = transact(fmt::format("PUT {} {} {}", token, i, digits), [](const Frame&) {});
    if (!put.done()) {
      out.trouble = put.word.empty() ? "silence" : put.word;
      return out;
    }
  }
  out.committed = true;
  // Never repeated: whether it happened, the contents tell.
  const ReaderReply committed = transact("COMMIT " + token, [](const Frame&) {});
  if (!committed.done()) out.trouble = committed.word.empty() ? "silence" : committed.word;
  if (committed.end == ReaderReply::End::silent) synchronise();
  const Reading back = read("ram", at, length);
  if (back.cart_lost) {
    out.trouble = "cart-lost";
    return out;
  }
  const auto differs = std::mismatch(bytes.begin(), bytes.end(), back.bytes.begin()).first;
  out.right = differs == bytes.end();
  if (!out.right) out.first_wrong = at + static_cast<std::uint32_t>(differs - bytes.begin());
  return out;
}

void ReaderHost::leave() noexcept {
  leaving_ = true;
  try {
    if (tag_ != 0)
      link_.write(
          as_view(ocr1::line_of(static_cast<std::uint16_t>(tag_ % 0xFFFF + 1), fmt::format("CANCEL {:04X}", tag_))));
    tag_ = static_cast<std::uint16_t>(tag_ % 0xFFFF + 1);
    transact("BYE", [](const Frame&) {});
  } catch (const std::exception&) {  // the line is gone: so is the power, soon
  }
}

}  // namespace opifex::dump
