#include "lines.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/lists/read_list.hpp"

#include "builder.hpp"
#include "code_page.hpp"

namespace opifex {
namespace {

constexpr std::size_t kPiece = 1 << 20;

/// Appends a code point that is no surrogate.
void append_utf8(std::string& out, char32_t c) {
  const auto put = [&](char32_t v) { out.push_back(static_cast<char>(v)); };
  if (c < 0x80) return put(c);
  if (c < 0x800) {
    put(0xC0 | c >> 6);
  } else {
    if (c < 0x10000) {
      put(0xE0 | c >> 12);
    } else {
      put(0xF0 | c >> 18);
      put(0x80 | (c >> 12 & 0x3F));
    }
    put(0x80 | (c >> 6 & 0x3F));
  }
  put(0x80 | (c & 0x3F));
}

/// False if a surrogate stands alone, or half a unit at the end.
bool decode_utf16(std::string_view raw, bool big, std::string& out) {
  if (raw.size() % 2 != 0) return false;
  const auto unit = [&](std::size_t i) {
    const auto a = static_cast<unsigned char>(raw[i]), b = static_cast<unsigned char>(raw[i + 1]);
    return static_cast<char32_t>(big ? a << 8 | b : b << 8 | a);
  };
  for (std::size_t i = 0; i < raw.size(); i += 2) {
    char32_t c = unit(i);
    if (c >= 0xDC00 && c < 0xE000) return false;
    if (c >= 0xD800 && c < 0xDC00) {
      if (i + 2 >= raw.size()) return false;
      const char32_t low = unit(i += 2);
      if (low < 0xDC00 || low >= 0xE000) return false;
      c = 0x10000 + ((c - 0xD800) << 10) + (low - 0xDC00);
    }
    append_utf8(out, c);
  }
  return true;
}

/// Bytes at the end of `text` that may be the beginning of a character.
std::size_t open_tail(std::string_view text) {
  for (std::size_t n = 1; n <= 3 && n <= text.size(); ++n) {
    const auto c = static_cast<unsigned char>(text[text.size() - n]);
    if (c >= 0xC0) return n;
    if (c < 0x80) return 0;
  }
  return 0;
}

}  // namespace

ListLines::ListLines(const ByteSource& source, std::string file) : source_(source), file_(std::move(file)) {
  find_encoding();
}

void ListLines::find_encoding() {
  const Bytes mark = read_up_to(source_, 0, 3);
  const std::string_view head = as_text(mark);
  if (head.starts_with("\xFF\xFE") || head.starts_with("\xFE\xFF")) {
    encoding_ = head[0] == '\xFF' ? Encoding::utf16_le : Encoding::utf16_be;
    at_ = 2;
    return;
  }
  if (head == "\xEF\xBB\xBF") at_ = 3;
  std::string open;
  for (std::uint64_t at = at_; at < source_.size(); at += kPiece) {
    open += as_text(read_up_to(source_, at, kPiece));
    const bool last = at + kPiece >= source_.size();
    const std::size_t tail = last ? 0 : open_tail(open);
    if (!is_utf8(std::string_view(open).substr(0, open.size() - tail))) {
      encoding_ = Encoding::windows_1252;
      return;
    }
    open.erase(0, open.size() - tail);
  }
}

bool ListLines::fill() {
  if (at_ >= source_.size()) return false;
  buffer_.erase(0, used_);
  used_ = 0;
  const Bytes piece = read_up_to(source_, at_, kPiece);
  at_ += piece.size();
  buffer_ += as_text(piece);
  return !piece.empty();
}

std::optional<std::string_view> ListLines::next_raw() {
  const bool wide = encoding_ == Encoding::utf16_le || encoding_ == Encoding::utf16_be;
  const std::string_view end = !wide                             ? std::string_view("\n", 1)
                               : encoding_ == Encoding::utf16_le ? std::string_view("\n\0", 2)
                                                                 : std::string_view("\0\n", 2);
  std::size_t seen = 0;
  for (;;) {
    const std::string_view rest = std::string_view(buffer_).substr(used_);
    std::size_t at = rest.find(end, seen);
    while (wide && at != std::string_view::npos && at % 2 != 0) at = rest.find(end, at + 1);  // across two characters
    const bool found = at != std::string_view::npos;
    const std::size_t size = found ? at : rest.size();
    if (size > ListLimits::kToken * (wide ? 2 : 1))
      refuse_list(file_, "token_too_long", line_ + 1, "a line of this list is longer than 64 KiB",
                  "it is damaged, or no list");
    if (found) {
      used_ += at + end.size();
      return rest.substr(0, at);
    }
    seen = wide ? rest.size() / 2 * 2 : rest.size();
    if (fill()) continue;
    if (used_ == buffer_.size()) return std::nullopt;
    return std::string_view(buffer_).substr(std::exchange(used_, buffer_.size()));
  }
}

std::optional<std::string_view> ListLines::next() {
  const auto raw = next_raw();
  if (!raw) return std::nullopt;
  ++line_;
  std::string_view line = *raw;
  if (encoding_ == Encoding::windows_1252) {
    decoded_.clear();
    for (const char c : line) decoded_ += windows_1252(static_cast<unsigned char>(c));
    line = decoded_;
  } else if (encoding_ != Encoding::utf8) {
    decoded_.clear();
    if (!decode_utf16(line, encoding_ == Encoding::utf16_be, decoded_))
      refuse_list(file_, "bad_encoding", line_, "this line is no UTF-16, which the file claims to be");
    line = decoded_;
  }
  if (line.ends_with('\r')) line.remove_suffix(1);
  return line;
}

}  // namespace opifex
