#include "opifex/core/dump/sim_reader.hpp"

#include <algorithm>
#include <array>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex::dump {
namespace {

using ocr1::Frame;
using ocr1::Line;

constexpr std::uint32_t kMostRead = 65536, kMostSpace = 64 << 20;
constexpr std::uint64_t kTokenMs = 30'000, kLineMs = 2000, kCommitMs = 500;

struct BusFacts {
  std::string_view name, volts;
  std::uint32_t rom_window, header_at, header_bytes;
};
/// Windows of a bank, and where the header stands (sections 4 and 4, HEADER).
constexpr std::array kBuses = {
    BusFacts{"gb", "5.0", 0x4000, 0x0, 0x150},    BusFacts{"gba", "3.3", 0x1000000, 0x0, 0xC0},
    BusFacts{"md", "5.0", 0x80000, 0x0, 0x200},   BusFacts{"n64", "3.3", 0x100000, 0x0, 0x40},
    BusFacts{"nes", "5.0", 0x4000, 0x0, 0},       BusFacts{"sms", "5.0", 0x4000, 0x7FF0, 0x10},
    BusFacts{"snes", "5.0", 0x8000, 0xFFB0, 0x50}};
constexpr std::uint32_t kRamWindow = 0x2000;

const BusFacts* bus_named(std::string_view name) {
  const auto at = std::find_if(kBuses.begin(), kBuses.end(), [&](const BusFacts& b) { return b.name == name; });
  return at == kBuses.end() ? nullptr : &*at;
}

std::string crc_text(ByteView bytes) { return to_upper_ascii(digest_of("crc32", bytes)); }

}  // namespace

SimReader::SimReader(SimReaderSetup setup)
    : setup_({.header_at = setup.header_at,
              .faults = setup.faults,
              .chunk = setup.chunk,
              .bytes_per_second = setup.bytes_per_second,
              .sums = setup.sums}),
      cartridge_(std::move(setup)) {
  note_bus();
  for (const ReaderFault& fault : setup_.faults) set_fault(fault);
}

void SimReader::set_fault(const ReaderFault& fault) {
  const std::string& name = fault.name;
  if (cartridge_.take_fault(fault)) return;
  if (name == "lost-commit") return void(lose_commit_ = true);
  for (const auto& [known, value] :
       {std::pair("unplug", &unplug_after_), std::pair("drop", &drop_), std::pair("garbage", &garbage_),
        std::pair("corrupt", &corrupt_), std::pair("duplicate", &duplicate_), std::pair("silent", &silent_),
        std::pair("slow", &slow_ms_), std::pair("short", &short_by_), std::pair("exchange", &exchange_after_),
        std::pair("exchange-unseen", &exchange_unseen_after_), std::pair("most-read", &most_read_)})
    if (name == known) return void(*value = count_of(fault));
  throw Error({.code = "bad_simulation",
               .what = "the simulated reader has no such fault",
               .found = printable(name),
               .hint = "docs/simulated-reader.md lists all of them"});
}

void SimReader::clean() {
  cartridge_.clean();
  ++insertions_;
  lose_bus();
}

void SimReader::unplug() {
  present_ = false;
  event("cart-removed");
  lose_bus();
}

void SimReader::insert() {
  present_ = true;
  ++insertions_;
  unplug_after_ = 0;
  event("cart-inserted");
  lose_bus();
}

void SimReader::note_bus() { cartridge_.note_bus(bus_, mapper_); }

void SimReader::lose_bus() {
  bus_ = "none";
  note_bus();
  powered_ = false;
  armed_.reset();
}

// ---- what goes out

void SimReader::emit(Frame frame) {
  ++frames_;
  std::uint64_t at = queue_.empty() ? now_ : std::max(now_, queue_.back().at_ms);
  const auto push = [&](Bytes bytes) {
    if (setup_.bytes_per_second > 0) at += ceil_div<std::uint64_t>(bytes.size() * 1000, setup_.bytes_per_second);
    queue_.push_back({at, std::move(bytes), in_read_});
  };
  if (garbage_ > 0 && frames_ % garbage_ == 0) {
    Bytes noise(1 + cartridge_.random() % 39);
    for (std::byte& b : noise) b = static_cast<std::byte>(cartridge_.random());
    push(std::move(noise));
  }
  Bytes bytes = ocr1::encode(frame);
  if (corrupt_ > 0 && frames_ % corrupt_ == 0 && frame.kind == 'D' && !frame.payload.empty())
    bytes[ocr1::kFrameHead + cartridge_.random() % frame.payload.size()] ^=
        static_cast<std::byte>(1u << cartridge_.random() % 8);
  if (duplicate_ > 0 && frames_ % duplicate_ == 0) push(bytes);
  push(std::move(bytes));
}

void SimReader::done(const Pairs& fields) {
  emit({.kind = 'A', .sequence = sequence_++, .tag = tag_, .payload = to_bytes(ocr1::text_of(fields))});
}

void SimReader::fail(unsigned code, std::string_view word, std::uint32_t position, std::string_view text) {
  const Pairs fields = {
      {"code", std::to_string(code)}, {"word", std::string(word)}, {"text", std::string(text.empty() ? word : text)}};
  emit({.kind = 'X',
        .sequence = sequence_++,
        .tag = tag_,
        .position = position,
        .payload = to_bytes(ocr1::text_of(fields))});
}

void SimReader::event(std::string_view what) {
  emit({.kind = 'E', .payload = to_bytes(ocr1::text_of({{"event", std::string(what)}}))});
}

Bytes SimReader::send(std::uint64_t now_ms, std::size_t most) {
  now_ = std::max(now_, now_ms);
  Bytes out;
  while (!queue_.empty() && out.size() < most && queue_.front().at_ms <= now_) {
    Bytes& bytes = queue_.front().bytes;
    const std::size_t n = std::min(bytes.size(), most - out.size());
    for (std::size_t i = 0; i < n; ++i)
      if (drop_ == 0 || ++sent_ % drop_ != 0) out.push_back(bytes[i]);
    bytes.erase(bytes.begin(), bytes.begin() + static_cast<std::ptrdiff_t>(n));
    if (bytes.empty()) queue_.pop_front();
  }
  return out;
}

std::optional<std::uint64_t> SimReader::next_at() const {
  return queue_.empty() ? std::nullopt : std::optional(queue_.front().at_ms);
}

bool SimReader::read_busy() const {
  return std::any_of(queue_.begin(), queue_.end(), [](const Pending& p) { return p.of_read; });
}

// ---- what comes in

void SimReader::receive(ByteView bytes, std::uint64_t now_ms) {
  now_ = std::max(now_, now_ms);
  if (parser_.is_within_line() && now_ - line_at_ > kLineMs) parser_.drop();
  line_at_ = now_;
  for (const auto& line : parser_.add(bytes)) answer(line);
}

void SimReader::answer(const ocr1::LineParser::Result& line) {
  if (silent_ > 0 && ++lines_ % silent_ == 0) return;
  if (line.fault == ocr1::LineFault::bad_line) {
    tag_ = 0;
    return fail(10, "bad-line");
  }
  tag_ = line.line.tag;
  if (line.fault == ocr1::LineFault::bad_crc) return fail(11, "bad-crc");
  sequence_ = 0;
  if (slow_ms_ > 0) {
    emit({.kind = 'W', .sequence = sequence_++, .tag = tag_, .payload = to_bytes(fmt::format("ms={}", slow_ms_))});
    now_ += slow_ms_;  // what follows is due then
  }
  if (armed_ && now_ - armed_->last_put_ms > kTokenMs) armed_.reset();
  run(line.line);
}

void SimReader::run(const Line& line) {
  if (line.verb == "SYNC") {
    if (line.arguments.size() != 1) return fail(13, "bad-argument");
    queue_.clear();
    armed_.reset();
    return done({{"nonce", line.arguments[0]}});
  }
  if (line.verb == "CANCEL") return cancel(line);
  if (read_busy()) return fail(15, "busy");
  using Run = void (SimReader::*)(const Line&);
  struct Verb {
    std::string_view name;
    Run run;
    std::size_t least, most;
  };
  static constexpr std::array kVerbs = {
      Verb{"BUS", &SimReader::choose_bus, 1, 1}, Verb{"POWER", &SimReader::power, 1, 1},
      Verb{"MAPPER", &SimReader::mapper, 1, 1},  Verb{"READ", &SimReader::read, 4, 4},
      Verb{"SUM", &SimReader::sum, 4, 4},        Verb{"CHUNK", &SimReader::chunk, 1, 1},
      Verb{"ARM", &SimReader::arm, 5, 5},        Verb{"PUT", &SimReader::put, 3, 3},
      Verb{"COMMIT", &SimReader::commit, 1, 1},  Verb{"SIM", &SimReader::simulate, 1, 2}};
  if (line.verb == "HELLO") return hello();
  if (line.verb == "STATE") return state();
  if (line.verb == "HEADER") return header();
  if (line.verb == "DISARM") {
    armed_.reset();
    return done({{"armed", "0"}});
  }
  if (line.verb == "SPEED") return fail(41, "unsupported");
  if (line.verb == "BYE") {
    lose_bus();
    return done({{"power", "off"}});
  }
  for (const Verb& verb : kVerbs) {
    if (verb.name != line.verb) continue;
    if (line.arguments.size() < verb.least || line.arguments.size() > verb.most) return fail(13, "bad-argument");
    return (this->*verb.run)(line);
  }
  fail(12, "unknown-verb", 0, line.verb);
}

void SimReader::hello() {
  Pairs fields = {{"proto", "1"},
                  {"model", "Opifex simulated reader"},
                  {"serial", "SIM-0001"},
                  {"firmware", "1.0"},
                  {"buses", "gb,gba,md,n64,nes,sms,snes"},
                  {"max-read", std::to_string(kMostRead)},
                  {"chunk", std::to_string(setup_.chunk)},
                  {"speeds", "115200"},
                  {"features", setup_.sums ? "ram-write,sum,events,sim" : "ram-write,events,sim"}};
  done(fields);
}

void SimReader::state() {
  const BusFacts* bus = bus_named(bus_);
  done({{"cart", present_ ? "present" : "none"},
        {"insertions", std::to_string(insertions_)},
        {"bus", bus_},
        {"power", powered_ ? "on" : "off"},
        {"volts", powered_ && bus ? std::string(bus->volts) : "0.0"},
        {"armed", armed_ ? "1" : "0"}});
}

void SimReader::choose_bus(const Line& line) {
  const std::string& name = line.arguments[0];
  if (name != "none" && !bus_named(name)) return fail(13, "bad-argument");
  armed_.reset();
  bus_ = name;
  note_bus();
  powered_ = name != "none";
  done({{"bus", bus_}});
}

void SimReader::power(const Line& line) {
  if (line.arguments[0] != "on" && line.arguments[0] != "off") return fail(13, "bad-argument");
  if (bus_ == "none") return fail(20, "no-bus");
  powered_ = line.arguments[0] == "on";
  done({{"power", line.arguments[0]}});
}

void SimReader::mapper(const Line& line) {
  mapper_ = line.arguments[0];
  note_bus();
  done({{"mapper", mapper_}});
}

void SimReader::chunk(const Line& line) {
  const auto n = ocr1::parse_number(line.arguments[0]);
  if (!n || *n < 64 || *n > ocr1::kMostPayload) return fail(13, "bad-argument");
  setup_.chunk = *n;
  done({{"chunk", std::to_string(*n)}});
}

void SimReader::cancel(const Line& line) {
  const std::uint16_t own = tag_;
  const bool busy = read_busy() && line.arguments.size() == 1 && line.arguments[0] == fmt::format("{:04X}", reading_);
  std::erase_if(queue_, [](const Pending& p) { return p.of_read; });
  if (busy) {
    tag_ = reading_;
    fail(40, "cancelled");
    tag_ = own;
    sequence_ = 0;
  }
  done({{"cancelled", busy ? line.arguments[0] : "none"}});
}

void SimReader::simulate(const Line& line) {
  const std::string& what = line.arguments[0];
  if (what == "clean") {
    clean();
  } else if (what == "unplug") {
    unplug();
  } else if (what == "insert") {
    insert();
  } else if (what == "fault" && line.arguments.size() == 2) {
    const std::string& fault = line.arguments[1];
    const auto colon = fault.find(':');
    try {
      set_fault({fault.substr(0, colon), colon == std::string::npos ? "" : fault.substr(colon + 1)});
    } catch (const Error&) {
      return fail(13, "bad-argument");
    }
  } else {
    return fail(13, "bad-argument");
  }
  done({{"sim", what}});
}

// ---- the cartridge

bool SimReader::ready_to_read() {
  if (bus_ == "none" || !powered_) return fail(20, "no-bus"), false;
  if (!present_) return fail(21, "no-cart"), false;
  return true;
}

std::optional<SimReader::Range> SimReader::range_of(const Line& line) {
  const std::string& space = line.arguments[0];
  const auto start = ocr1::parse_number(line.arguments[2]), length = ocr1::parse_number(line.arguments[3]);
  const bool by_bank = line.arguments[1] != "-";
  const auto bank = by_bank ? ocr1::parse_number(line.arguments[1]) : std::optional<std::uint32_t>(0);
  const bool known = space == "rom" || space == "ram" || (space == "chr" && bus_ == "nes") ||
                     (space == "rtc" && cartridge_.clock_bytes() > 0);
  if (!known || !start || !length || !bank) return fail(13, "bad-argument"), std::nullopt;
  const BusFacts* bus = bus_named(bus_);
  const std::uint64_t window = space == "ram" ? kRamWindow : bus->rom_window;
  const std::uint64_t end = space == "ram"   ? cartridge_.save().size()
                            : space == "rtc" ? cartridge_.clock_bytes()
                                             : std::uint64_t{kMostSpace};
  const std::uint64_t at = by_bank ? *bank * window + *start : *start;
  const std::uint64_t most_read = most_read_ > 0 ? std::min<std::uint64_t>(most_read_, kMostRead) : kMostRead;
  const bool outside = *length > most_read || *length == 0 || *length > kMostRead || at + *length > end ||
                       (by_bank && std::uint64_t{*start} + *length > window);
  if (outside) return fail(14, "range"), std::nullopt;
  static constexpr std::array kSpaces = {
      std::pair("rom", SimCartridge::Space::rom), std::pair("ram", SimCartridge::Space::ram),
      std::pair("chr", SimCartridge::Space::chr), std::pair("rtc", SimCartridge::Space::rtc)};
  const auto named = std::find_if(kSpaces.begin(), kSpaces.end(), [&](const auto& s) { return s.first == space; });
  return Range{named->second, static_cast<std::uint32_t>(at), *length};
}

/// The frames of an answer, and its last one.
void SimReader::data(const Range& range) {
  in_read_ = true;  // all of it goes with a CANCEL, the last frame too
  answer_with(range);
  in_read_ = false;
}

void SimReader::answer_with(const Range& range) {
  Digest sum("crc32");
  if (exchange_unseen_after_ > 0 && served_ >= exchange_unseen_after_) {
    exchange_unseen_after_ = 0;
    cartridge_.exchange();
  }
  if (exchange_after_ > 0 && served_ >= exchange_after_) {
    exchange_after_ = 0;
    unplug();
    cartridge_.exchange();
    insert();
    return fail(22, "cart-lost", range.at);
  }
  const std::uint32_t told = range.bytes - std::min(range.bytes, static_cast<std::uint32_t>(short_by_));
  for (std::uint32_t done_bytes = 0; done_bytes < told;) {
    std::uint32_t n = std::min(setup_.chunk, told - done_bytes);
    const std::uint32_t at = range.at + done_bytes;
    const bool lost = unplug_after_ > 0 && served_ + n > unplug_after_;
    if (lost) n = static_cast<std::uint32_t>(unplug_after_ - std::min(unplug_after_, served_));
    Frame frame{.kind = 'D', .sequence = sequence_, .tag = tag_, .position = at};
    for (std::uint32_t i = 0; i < n; ++i) frame.payload.push_back(cartridge_.byte_of(range.space, at + i));
    if (n > 0) {
      sum.update(frame.payload);
      ++sequence_;
      emit(std::move(frame));
    }
    served_ += n;
    done_bytes += n;
    if (!lost) continue;
    unplug();
    return fail(22, "cart-lost", range.at + done_bytes);
  }
  done({{"bytes", std::to_string(range.bytes)}, {"crc32", to_upper_ascii(sum.finish())}});
}

void SimReader::header() {
  if (!ready_to_read()) return;
  const BusFacts* bus = bus_named(bus_);
  if (bus->header_bytes == 0) return fail(23, "no-header");
  reading_ = tag_;
  // Where the console's bus shows it elsewhere than the ROM has it, the addresses are the bus's.
  if (setup_.header_at == 0 || setup_.header_at == bus->header_at)
    return data({SimCartridge::Space::rom, bus->header_at, bus->header_bytes});
  Frame frame{.kind = 'D', .sequence = sequence_++, .tag = tag_, .position = bus->header_at};
  for (std::uint32_t i = 0; i < bus->header_bytes; ++i)
    frame.payload.push_back(
        cartridge_.byte_of(SimCartridge::Space::rom, static_cast<std::uint32_t>(setup_.header_at) + i));
  const std::string crc = crc_text(frame.payload);
  emit(std::move(frame));
  done({{"bytes", std::to_string(bus->header_bytes)}, {"crc32", crc}});
}

void SimReader::read(const Line& line) {
  if (!ready_to_read()) return;
  const auto range = range_of(line);
  if (!range) return;
  reading_ = tag_;
  data(*range);
}

void SimReader::sum(const Line& line) {
  if (!setup_.sums) return fail(41, "unsupported");
  if (!ready_to_read()) return;
  const auto range = range_of(line);
  if (!range) return;
  Bytes bytes;
  for (std::uint32_t i = 0; i < range->bytes; ++i) bytes.push_back(cartridge_.byte_of(range->space, range->at + i));
  done({{"bytes", std::to_string(range->bytes)}, {"crc32", crc_text(bytes)}});
}

// ---- writing save memory (section 5)

void SimReader::arm(const Line& line) {
  if (!ready_to_read()) return;
  if (line.arguments[0] != "ram") return fail(36, "read-only");
  const auto range = range_of(line);
  if (!range) return;
  const std::string& text = line.arguments[4];
  const auto crc = ocr1::parse_number("0x" + text);
  if (text.size() != 8 || !crc) return fail(13, "bad-argument");
  constexpr std::uint64_t kFirstToken = 0x5A11;
  armed_ = Armed{fmt::format("{:04X}", (kFirstToken + tokens_++) & 0xFFFF),
                 range->at,
                 *crc,
                 Bytes(range->bytes),
                 std::vector<bool>(range->bytes),
                 now_};
  done({{"token", armed_->token}, {"ttl-ms", std::to_string(kTokenMs)}});
}

void SimReader::put(const Line& line) {
  if (!armed_) return fail(30, "not-armed");
  if (line.arguments[0] != armed_->token) return fail(31, "token");
  const auto offset = ocr1::parse_number(line.arguments[1]);
  const auto bytes = ocr1::parse_hex(line.arguments[2]);
  constexpr std::size_t kMost = 64;
  if (!offset || !bytes || bytes->size() > kMost) return fail(13, "bad-argument");
  if (*offset > armed_->data.size() || bytes->size() > armed_->data.size() - *offset) return fail(14, "range");
  for (std::size_t i = 0; i < bytes->size(); ++i) {
    armed_->data[*offset + i] = (*bytes)[i];
    armed_->have[*offset + i] = true;
  }
  armed_->last_put_ms = now_;
  done({{"stored", std::to_string(std::count(armed_->have.begin(), armed_->have.end(), true))}});
}

void SimReader::commit(const Line& line) {
  if (!armed_) return fail(30, "not-armed");
  if (line.arguments[0] != armed_->token) return fail(31, "token");
  if (!ready_to_read()) return;
  if (std::find(armed_->have.begin(), armed_->have.end(), false) != armed_->have.end()) return fail(33, "incomplete");
  const std::string crc = crc_text(armed_->data);
  if (crc != fmt::format("{:08X}", armed_->crc)) return fail(34, "crc-mismatch");
  const Armed writing = std::move(*armed_);
  armed_.reset();  // from here on the token is spent
  emit({.kind = 'W', .sequence = sequence_++, .tag = tag_, .payload = to_bytes(fmt::format("ms={}", kCommitMs))});
  ++saves_written_;
  for (std::size_t i = 0; i < writing.data.size(); ++i)
    cartridge_.write_save(static_cast<std::uint32_t>(writing.at + i), writing.data[i]);
  std::optional<std::uint32_t> bad;
  for (std::size_t i = 0; i < writing.data.size() && !bad; ++i) {
    const auto at = static_cast<std::uint32_t>(writing.at + i);
    if (cartridge_.byte_of(SimCartridge::Space::ram, at) != writing.data[i]) bad = at;
  }
  if (lose_commit_) {
    lose_commit_ = false;
    queue_.clear();
    return;
  }
  if (bad) return fail(35, "verify-failed", *bad);
  done({{"written", std::to_string(writing.data.size())}, {"verify", "ok"}, {"crc32", crc}});
}

}  // namespace opifex::dump
