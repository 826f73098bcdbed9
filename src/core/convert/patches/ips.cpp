// IPS: "PATCH", records of three bytes of offset and two of length (0: two of count and one byte), "EOF", and perhaps
// three bytes of the length to cut to.
#include <algorithm>
#include <functional>

#include "codec.hpp"

namespace opifex::patches {
namespace {

constexpr std::size_t kMagic = 5, kOffset = 3, kLength = 2;
constexpr std::uint64_t kEnd = 0x454F46;  // "EOF", where an offset is due
constexpr std::uint64_t kMostOffset = 0xFFFFFF, kMostLength = 0xFFFF;

struct Record {
  std::uint64_t offset = 0, bytes = 0;
  ByteView data = {};  // empty: `fill` so many times
  std::byte fill = {};
};

/// What is to be cut to; nothing: all stays.
std::optional<std::uint64_t> walk(ByteView patch, const std::string& file,
                                  const std::function<void(const Record&)>& each) {
  Cursor c(patch, kMagic, file);
  while (true) {
    const std::uint64_t offset = c.big(kOffset, "an offset, or EOF");
    // A record may begin at that very place: then others follow, and the end comes later.
    if (offset == kEnd && (c.at_end() || c.left() == kOffset)) break;
    const std::uint64_t length = c.big(kLength, "a length");
    Record record{.offset = offset, .bytes = length};
    if (length == 0) {
      record.bytes = c.big(kLength, "a count");
      record.fill = c.take(1, "a byte")[0];
    } else {
      record.data = c.take(length, "the bytes of a record");
    }
    each(record);
  }
  if (c.at_end()) return std::nullopt;
  return c.big(kOffset, "the length to cut to");
}

void append_record(Bytes& out, ByteView target, std::size_t from, std::size_t end) {
  constexpr std::size_t kWorthFilling = 9;
  while (from < end) {
    // "EOF" must not be an offset: the record begins a byte earlier, with what is there anyway.
    if (from == kEnd) --from;
    const std::size_t most = std::min<std::size_t>(end - from, kMostLength);
    std::size_t run = 1;
    while (run < most && target[from + run] == target[from]) ++run;
    std::size_t n = 0;
    if (run >= kWorthFilling) {
      n = run;
      append_big(out, from, kOffset);
      append_big(out, 0, kLength);
      append_big(out, n, kLength);
      out.push_back(target[from]);
    } else {
      // Up to the next run that is worth a record of its own.
      n = run;
      for (std::size_t alike = 1; n < most; ++n) {
        alike = target[from + n] == target[from + n - 1] ? alike + 1 : 1;
        if (alike >= kWorthFilling) {
          n -= alike - 1;
          break;
        }
      }
      append_big(out, from, kOffset);
      append_big(out, n, kLength);
      out.insert(out.end(), target.begin() + static_cast<std::ptrdiff_t>(from),
                 target.begin() + static_cast<std::ptrdiff_t>(from + n));
    }
    from += n;
  }
}

}  // namespace

PatchFacts read_ips(ByteView patch, const std::string& file) {
  PatchFacts facts{.kind = PatchKind::ips};
  facts.truncates_to = walk(patch, file, [&](const Record& r) {
    ++facts.records;
    facts.changed_bytes += r.bytes;
  });
  return facts;
}

std::uint64_t ips_target_bytes(ByteView patch, std::uint64_t source_bytes, const std::string& file) {
  std::uint64_t end = source_bytes;
  const auto cut = walk(patch, file, [&](const Record& r) { end = std::max(end, r.offset + r.bytes); });
  return cut ? std::min(*cut, end) : end;
}

void apply_ips(ByteView patch, const ByteSource& source, Output& out, const std::string& file) {
  const std::uint64_t end = ips_target_bytes(patch, source.size(), file);
  copy_source(source, end, out);
  walk(patch, file, [&](const Record& r) {
    if (r.offset >= end) return;  // what is cut off
    const auto n = static_cast<std::size_t>(std::min(r.bytes, end - r.offset));
    if (r.data.empty())
      out.rewrite(r.offset, Bytes(n, r.fill));
    else
      out.rewrite(r.offset, r.data.first(n));
  });
}

Bytes make_ips(ByteView source, ByteView target) {
  if (target.size() > kMostOffset + 1)
    throw Error({.code = "ips_cannot",
                 .what = "an IPS patch reaches no further than 16 MiB",
                 .found = fmt::format("{} bytes", target.size()),
                 .hint = "make it as bps"});
  Bytes out = to_bytes("PATCH");
  constexpr std::size_t kJoin = 6;  // a record costs five bytes: nearer ones are one
  for (std::size_t at = 0; at < target.size();) {
    const auto differs = [&](std::size_t i) { return i >= source.size() || source[i] != target[i]; };
    while (at < target.size() && !differs(at)) ++at;
    if (at == target.size()) break;
    std::size_t end = at + 1, same = 0;
    for (std::size_t i = end; i < target.size() && same < kJoin; ++i) {
      same = differs(i) ? 0 : same + 1;
      if (same == 0) end = i + 1;
    }
    append_record(out, target, at, end);
    at = end;
  }
  append_big(out, kEnd, kOffset);
  if (target.size() < source.size()) append_big(out, target.size(), kOffset);
  return out;
}

}  // namespace opifex::patches
