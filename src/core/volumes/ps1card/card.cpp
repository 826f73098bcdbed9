#include "opifex/core/volumes/ps1card/card.hpp"

#include <array>
#include <set>

#include "opifex/core/base/text.hpp"

#include "frames.hpp"

namespace opifex::ps1card {
namespace {

constexpr std::size_t kTitleAt = 4, kTitleBytes = 64, kColoursAt = 0x60, kIconsAt = 0x80;
constexpr unsigned kIconFlag = 0x10, kMostIcons = 3, kIconEdge = 16;
constexpr std::size_t kShortestName = 12, kCodeAt = 2, kCodeEnd = 12;

/// Full-width letters, digits and blanks as the usual ones.
std::string plain(const std::string& utf8) {
  std::string text;
  for (std::size_t at = 0; at < utf8.size();) {
    const auto lead = static_cast<unsigned char>(utf8[at]);
    const std::size_t n = lead < 0x80 ? 1 : lead < 0xE0 ? 2 : lead < 0xF0 ? 3 : 4;
    const auto bits = [&](std::size_t i) { return static_cast<std::uint32_t>(utf8[at + i]) & 0x3F; };
    const std::uint32_t code = n == 3 && at + 3 <= utf8.size() ? (lead & 0xFU) << 12 | bits(1) << 6 | bits(2) : 0;
    if (code >= 0xFF01 && code <= 0xFF5E)
      text += static_cast<char>(code - 0xFF01 + 0x21);
    else if (code == 0x3000)
      text += ' ';
    else
      text += utf8.substr(at, n);
    at += n;
  }
  return text;
}

Bytes icon_of(ByteView colours, ByteView pixels) {
  Bytes rgba;
  rgba.reserve(kIconEdge * kIconEdge * 4);
  for (unsigned i = 0; i < kIconEdge * kIconEdge; ++i) {
    const auto pair = std::to_integer<unsigned>(pixels[i / 2]);
    const unsigned value = load_le16(colours, 2 * (i % 2 == 0 ? pair & 15 : pair >> 4));
    for (unsigned shift = 0; shift < 15; shift += 5) {
      const unsigned v = value >> shift & 31;
      rgba.push_back(static_cast<std::byte>(v << 3 | v >> 2));
    }
    rgba.push_back(value == 0 ? std::byte{0} : std::byte{0xFF});
  }
  return rgba;
}

/// What the first block of a save says of it; the warnings about it.
void read_head(ByteView head, unsigned frame, std::size_t blocks, Save& save, std::vector<Finding>& findings) {
  const std::string shown = shown_name(save.name);
  const bool marked = as_text(head.first(2)) == "SC";
  const auto warn = [&](const char* code, std::string what) {
    findings.push_back({code, frame, false, fmt::format("{} {}", shown.empty() ? "the save" : shown, what)});
  };
  if (!marked) warn("save_magic", "does not begin as a save does");
  const auto flag = std::to_integer<unsigned>(head[2]);
  const auto count = std::to_integer<unsigned>(head[3]);
  const bool icons = flag > kIconFlag && flag <= kIconFlag + kMostIcons;
  if (marked && !icons) warn("icon_flag", fmt::format("says of icons what nobody knows (0x{:02X})", flag));
  if (marked && count != blocks)
    warn("block_count", fmt::format("says it had {}, not {}", plural(count, "block"), blocks));
  std::string_view title = as_text(head.subspan(kTitleAt, kTitleBytes));
  title = title.substr(0, title.find('\0'));
  const auto decoded = decode(title, "windows-31j");
  if (decoded) {
    save.title = *decoded;
    save.plain_title = plain(*decoded);
  } else if (marked) {
    warn("title", "has a title that is no text");
  }
  for (unsigned i = 0; icons && i < flag - kIconFlag; ++i)
    save.icons.push_back(icon_of(head.subspan(kColoursAt, 32), head.subspan(kIconsAt + i * kFrameBytes, kFrameBytes)));
}

/// True if the name is one.
bool check_name(ByteView frame, unsigned number, std::vector<Finding>& findings) {
  const std::string name = name_in(frame);
  if (name.empty() || frame[at::kNameEnd] != std::byte{0}) {
    findings.push_back({"name", number, true, "a save has a name that is none"});
    return false;
  }
  const ByteView behind = frame.subspan(at::kName + name.size(), at::kRest - at::kName - name.size());
  if (!std::all_of(name.begin(), name.end(), &is_plain) || !all_zero(behind) || name.size() < kShortestName)
    findings.push_back({"name_form", number, false, shown_name(name) + ": its name has not the usual form"});
  return true;
}

class Reader {
 public:
  explicit Reader(ByteView card) : bytes_(card) {}

  Card read() {
    if (is_unformatted()) return std::move(card_);
    if (!read_head_frames()) return std::move(card_);
    read_broken_list();
    for (unsigned f = 1; f <= kSaveBlocks; ++f) check_frame(f);
    for (unsigned f = 1; f <= kSaveBlocks; ++f)
      if (state_of(frame(f)) == kFirst) read_save(f);
    find_orphans();
    find_same_names();
    read_deleted();
    return std::move(card_);
  }

 private:
  ByteView frame(unsigned number) const { return frame_of(bytes_, number); }
  void error(const char* code, std::optional<unsigned> frame, std::string message) {
    card_.findings.push_back({code, frame, true, std::move(message)});
  }
  void warn(const char* code, unsigned frame, std::string message) {
    card_.findings.push_back({code, frame, false, std::move(message)});
  }

  bool is_unformatted() {
    const std::byte fill = bytes_[0];
    if (fill != std::byte{0} && fill != std::byte{0xFF}) return false;
    if (std::any_of(bytes_.begin(), bytes_.end(), [&](std::byte b) { return b != fill; })) return false;
    error("unformatted", {}, "the card was never formatted: there is nothing on it");
    return true;
  }

  bool read_head_frames() {
    if (as_text(bytes_.first(2)) != "MC") {
      error("magic", 0, "the card does not begin with its mark");
      card_.recognised = false;
      for (unsigned f = 1; f <= kSaveBlocks; ++f)
        card_.recognised = card_.recognised || (is_known_state(state_of(frame(f))) && is_sealed(frame(f)));
      if (!card_.recognised) return false;
    }
    if (!is_sealed(frame(0))) error("header_checksum", 0, "the checksum of the first frame is wrong");
    if (!std::equal(frame(0).begin(), frame(0).end(), frame(kTestFrame).begin()))
      warn("test_frame", kTestFrame, "the frame of the write test is no copy of the first one");
    return true;
  }

  void read_broken_list() {
    for (unsigned i = 0; i < kBrokenCount; ++i) {
      const unsigned f = kBrokenList + i;
      const std::uint32_t listed = load_le32(frame(f), 0);
      const bool sealed = is_sealed(frame(f));
      if (!sealed) warn("broken_checksum", f, "the checksum of an entry of the broken frames is wrong: it is ignored");
      if (!sealed || listed == UINT32_MAX || all_zero(frame(f))) continue;
      if (listed < kFramesABlock || listed >= 16 * kFramesABlock)
        error("broken_range", f, fmt::format("frame {} is said to be broken, which cannot be replaced", listed));
      else
        warn("broken_frame", listed, fmt::format("frame {} is broken: it is read from its replacement", listed));
    }
  }

  void check_frame(unsigned f) {
    const std::uint32_t state = state_of(frame(f));
    if (!is_sealed(frame(f))) error("dir_checksum", f, fmt::format("the checksum of entry {} is wrong", f));
    if (!is_known_state(state))
      error("state", f, fmt::format("entry {} is in a state that there is not (0x{:X})", f, state));
    if (state < kFree || state > kDeletedLast) return;
    ++card_.free_blocks;
    if (state == kFree) ++card_.never_used;
    if (!has_broken_frame(bytes_, f)) ++card_.usable_blocks;
  }

  void spoil(Save& save, const char* why) {
    if (save.flaw.empty()) save.flaw = why;
  }

  void read_save(unsigned f) {
    Save save{.first = f, .name = name_in(frame(f)), .size_field = load_le32(frame(f), at::kSize)};
    save.frame.assign(frame(f).begin(), frame(f).end());
    const bool named = check_name(frame(f), f, card_.findings);
    const std::string shown = named ? shown_name(save.name) : fmt::format("the save of entry {}", f);
    const bool size_good = save.size_field != 0 && save.size_field % kSaveBlockBytes == 0 &&
                           save.size_field <= kSaveBlocks * kSaveBlockBytes;
    if (!size_good) {
      error("size_field", f, fmt::format("{} is said to have {} bytes", shown, save.size_field));
      spoil(save, "its size is none");
    }
    owner_[f] = card_.saves.size() + 1;
    save.chain = {f};
    const bool whole = follow(save, shown);
    if (whole && size_good && save.chain.size() != save.size_field / kSaveBlockBytes) {
      error("size_chain", f,
            fmt::format("{} is said to have {} blocks and has {}", shown, save.size_field / kSaveBlockBytes,
                        save.chain.size()));
      spoil(save, "its size and its blocks contradict each other");
    }
    read_head(head_of(f), f, save.chain.size(), save, card_.findings);
    card_.saves.push_back(std::move(save));
  }

  /// The first frames of a block, wherever they are.
  Bytes head_of(unsigned block) const {
    Bytes head;
    for (unsigned i = 0; i < 4; ++i) {
      const ByteView f = frame(replaced(bytes_, block * kFramesABlock + i));
      head.insert(head.end(), f.begin(), f.end());
    }
    return head;
  }

  /// True if it ended as a chain does.
  bool follow(Save& save, const std::string& shown) {
    const auto broken = [&](const char* code, unsigned f, std::string message) {
      error(code, f, std::move(message));
      spoil(save, "the chain of its blocks is broken");
      return false;
    };
    for (unsigned f = save.first;;) {
      const std::uint32_t state = state_of(frame(f));
      const unsigned next = next_of(frame(f));
      if (state == kLast && next != kNoNext)
        return broken("chain_state", f, fmt::format("entry {} is the last of {}, and names another one", f, shown));
      if (next == kNoNext) {
        if (state == kMiddle)
          return broken("chain_state", f, fmt::format("{} ends with entry {}, which is none to end with", shown, f));
        return true;
      }
      if (next >= kSaveBlocks)
        return broken("chain_range", f,
                      fmt::format("entry {} of {} names entry {}, which there is not", f, shown, next + 1));
      const unsigned to = next + 1;
      if (std::find(save.chain.begin(), save.chain.end(), to) != save.chain.end())
        return broken("chain_loop", to, fmt::format("the blocks of {} lead in a circle", shown));
      if (owner_[to] != 0) {
        spoil(card_.saves[owner_[to] - 1], "another save has a block of it, too");
        return broken("cross_link", to, fmt::format("block {} belongs to {} and to another save", to, shown));
      }
      const std::uint32_t there = state_of(frame(to));
      if (there != kMiddle && there != kLast)
        return broken("chain_state", to, fmt::format("entry {} follows in {}, and is none that follows", to, shown));
      owner_[to] = card_.saves.size() + 1;
      save.chain.push_back(to);
      f = to;
    }
  }

  void find_orphans() {
    for (unsigned f = 1; f <= kSaveBlocks; ++f) {
      const std::uint32_t state = state_of(frame(f));
      if ((state == kMiddle || state == kLast) && owner_[f] == 0)
        error("orphan", f, fmt::format("entry {} is a part of a save, and nothing leads to it", f));
    }
  }

  void find_same_names() {
    std::set<std::string> names;
    for (const Save& save : card_.saves)
      if (!save.name.empty() && !names.insert(save.name).second)
        error("duplicate_name", save.first, fmt::format("a second save is called {}", shown_name(save.name)));
  }

  // ---- deleted saves

  void read_deleted() {
    std::array<unsigned, kSaveBlocks + 1> users{};
    for (unsigned f = 1; f <= kSaveBlocks; ++f) {
      if (state_of(frame(f)) != kDeletedFirst) continue;
      Save save{.first = f, .name = name_in(frame(f)), .size_field = load_le32(frame(f), at::kSize)};
      save.frame.assign(frame(f).begin(), frame(f).end());
      if (!follow_deleted(save)) save.flaw = "a part of it is gone";
      for (const unsigned b : save.chain) ++users[b];
      card_.deleted.push_back(std::move(save));
    }
    for (Save& save : card_.deleted) {
      std::vector<Finding> ignored;
      read_head(head_of(save.first), save.first, save.chain.size(), save, ignored);
      const bool shared = std::any_of(save.chain.begin(), save.chain.end(), [&](unsigned b) { return users[b] > 1; });
      if (shared) save.flaw = "another deleted save has a part of it, too";
      if (!save.flaw.empty())
        warn(shared ? "deleted_shared" : "deleted_partial", save.first,
             fmt::format("{} was deleted and cannot come back: {}", shown_name(save.name), save.flaw));
    }
  }
  /// True if all of it is there.
  bool follow_deleted(Save& save) const {
    save.chain = {save.first};
    for (unsigned f = save.first;;) {
      const unsigned next = next_of(frame(f));
      if (next == kNoNext) {
        if (state_of(frame(f)) == kDeletedMiddle) return false;
        return std::uint64_t{save.size_field} == save.chain.size() * kSaveBlockBytes;
      }
      if (next >= kSaveBlocks || state_of(frame(f)) == kDeletedLast) return false;
      const std::uint32_t there = state_of(frame(next + 1));
      if (there != kDeletedMiddle && there != kDeletedLast) return false;
      if (std::find(save.chain.begin(), save.chain.end(), next + 1) != save.chain.end()) return false;
      f = next + 1;
      save.chain.push_back(f);
    }
  }

  ByteView bytes_;
  Card card_;
  std::array<std::size_t, kSaveBlocks + 1> owner_{};  // number of the save + 1
};

}  // namespace

std::string Save::region() const { return name.substr(0, kCodeAt); }
std::string Save::code() const { return name.size() < kCodeEnd ? "" : name.substr(kCodeAt, kCodeEnd - kCodeAt); }

bool Card::damaged() const {
  return std::any_of(findings.begin(), findings.end(), [](const Finding& f) { return f.error; });
}

unsigned replaced(ByteView card, unsigned number) {
  for (unsigned i = 0; i < kBrokenCount; ++i) {
    const ByteView entry = frame_of(card, kBrokenList + i);
    if (load_le32(entry, 0) == number && number >= kFramesABlock && is_sealed(entry)) return kReplacements + i;
  }
  return number;
}

bool has_broken_frame(ByteView card, unsigned block) {
  for (unsigned i = 0; i < kFramesABlock; ++i)
    if (replaced(card, block * kFramesABlock + i) != block * kFramesABlock + i) return true;
  return false;
}

Kind kind_of(ByteView image) {
  const std::size_t size = image.size();
  if (size % kCardBytes == 0 && size >= kCardBytes && size <= kMostCards * kCardBytes) return Kind::cards;
  const auto blocks = size / kSaveBlockBytes;
  if (blocks < 1 || blocks > kSaveBlocks) return Kind::none;
  if (size % kSaveBlockBytes == kFrameBytes) return Kind::single;
  if (size % kSaveBlockBytes == 0 && as_text(image.first(2)) == "SC") return Kind::bare;
  return Kind::none;
}

Card read_card(ByteView card) { return Reader(card).read(); }

Card read_single(ByteView image) {
  Card card;
  const ByteView frame = image.first(kFrameBytes), blocks = image.subspan(kFrameBytes);
  Save save{.first = 1, .name = name_in(frame), .size_field = load_le32(frame, at::kSize)};
  save.frame.assign(frame.begin(), frame.end());
  for (unsigned i = 1; i <= blocks.size() / kSaveBlockBytes; ++i) save.chain.push_back(i);
  const auto error = [&](const char* code, std::string message) {
    card.findings.push_back({code, 1, true, std::move(message)});
  };
  if (!is_sealed(frame)) error("dir_checksum", "the checksum of its entry is wrong");
  const std::uint32_t state = state_of(frame);
  if (state != kFirst && state != kDeletedFirst) error("state", "its entry is not the first of a save");
  check_name(frame, 1, card.findings);
  if (save.size_field != blocks.size()) {
    error("size_chain", fmt::format("it is said to have {} bytes, and has {}", save.size_field, blocks.size()));
    save.flaw = "a part of it is missing";
  }
  read_head(blocks, 1, save.chain.size(), save, card.findings);
  card.saves.push_back(std::move(save));
  return card;
}

Card read_bare(ByteView image) {
  Card card;
  Save save{.first = 1, .name = {}, .size_field = static_cast<std::uint32_t>(image.size())};
  for (unsigned i = 1; i <= image.size() / kSaveBlockBytes; ++i) save.chain.push_back(i);
  read_head(image, 1, save.chain.size(), save, card.findings);
  card.saves.push_back(std::move(save));
  return card;
}

Bytes contents_of(ByteView card, const Save& save) {
  Bytes contents;
  contents.reserve(save.chain.size() * kSaveBlockBytes);
  for (const unsigned block : save.chain)
    for (unsigned i = 0; i < kFramesABlock; ++i) {
      const ByteView f = frame_of(card, replaced(card, block * kFramesABlock + i));
      contents.insert(contents.end(), f.begin(), f.end());
    }
  return contents;
}

Bytes header_for_single(const Save& save, std::size_t blocks) {
  Bytes frame = save.frame;
  frame.resize(kFrameBytes);
  Fields f(frame);
  f.le(at::kState, kFirst, 4);
  f.le(at::kSize, blocks * kSaveBlockBytes, 4);
  f.le(at::kNext, kNoNext, 2);
  seal(frame);
  return frame;
}

Bytes make_card() {
  Bytes card(kCardBytes);
  Fields f(card);
  const auto seal_frame = [&](unsigned n) { seal(std::span(card).subspan(n * kFrameBytes, kFrameBytes)); };
  for (const unsigned n : {0U, kTestFrame}) {
    f.bytes(n * kFrameBytes, as_view("MC"));
    seal_frame(n);
  }
  for (unsigned n = 1; n <= kSaveBlocks; ++n) {
    f.le(n * kFrameBytes + at::kState, kFree, 4);
    f.le(n * kFrameBytes + at::kNext, kNoNext, 2);
    seal_frame(n);
  }
  for (unsigned n = kBrokenList; n < kBrokenList + kBrokenCount; ++n) {
    f.le(n * kFrameBytes, UINT32_MAX, 4);
    f.le(n * kFrameBytes + 8, 0xFFFF, 2);
  }
  return card;
}

std::string shown_name(std::string_view name) {
  std::string text;
  for (const char c : name)
    text += c >= 0x20 && c <= 0x7E && c != '\\' && c != '/' ? std::string(1, c)
                                                            : fmt::format("\\x{:02X}", static_cast<unsigned char>(c));
  return text;
}

}  // namespace opifex::ps1card
