#include "opifex/core/convert/patch.hpp"

#include <algorithm>

#include <libdeflate.h>

#include "opifex/core/base/text.hpp"

#include "codec.hpp"

namespace opifex {
namespace patches {

std::uint32_t crc32_of(ByteView bytes) { return libdeflate_crc32(0, bytes.data(), bytes.size()); }

void refuse(const std::string& file, std::uint64_t at, std::string found, std::string expected) {
  throw Error({.code = "bad_patch",
               .what = "the patch is damaged",
               .file = file,
               .offset = at,
               .found = std::move(found),
               .expected = std::move(expected),
               .hint = "download it again; nothing was written"});
}

unsigned Cursor::byte(const char* what) { return std::to_integer<unsigned>(take(1, what)[0]); }

std::uint64_t Cursor::number(const char* what) {
  std::uint64_t value = 0, shift = 1;
  constexpr std::uint64_t kMost = std::uint64_t{1} << 56;
  while (true) {
    const unsigned x = byte(what);
    value += (x & 0x7F) * shift;
    if ((x & 0x80) != 0) return value;
    shift <<= 7;
    value += shift;
    if (shift >= kMost) refuse(file_, at_, fmt::format("a number without end ({})", what), "at most eight bytes");
  }
}

ByteView Cursor::take(std::uint64_t n, const char* what) {
  if (n > left()) refuse(file_, at_, "the end of the file", what);
  const ByteView taken = bytes_.subspan(at_, static_cast<std::size_t>(n));
  at_ += static_cast<std::size_t>(n);
  return taken;
}

std::uint64_t Cursor::big(std::size_t n, const char* what) {
  std::uint64_t value = 0;
  for (const std::byte b : take(n, what)) value = value << 8 | std::to_integer<std::uint64_t>(b);
  return value;
}

void append_number(Bytes& out, std::uint64_t n) {
  while (true) {
    const auto x = static_cast<unsigned>(n & 0x7F);
    n >>= 7;
    if (n == 0) {
      out.push_back(static_cast<std::byte>(0x80 | x));
      return;
    }
    out.push_back(static_cast<std::byte>(x));
    --n;
  }
}

void append_le32(Bytes& out, std::uint32_t n) {
  for (unsigned shift = 0; shift < 32; shift += 8) out.push_back(static_cast<std::byte>(n >> shift & 0xFF));
}

void append_big(Bytes& out, std::uint64_t n, std::size_t bytes) {
  for (std::size_t i = bytes; i-- > 0;) out.push_back(static_cast<std::byte>(n >> 8 * i & 0xFF));
}

void read_footer(ByteView patch, PatchFacts& facts, const std::string& file) {
  const std::size_t at = patch.size() - kFooter;
  facts.source_crc32 = load_le32(patch, at);
  facts.target_crc32 = load_le32(patch, at + 4);
  const std::uint32_t told = load_le32(patch, at + 8), own = crc32_of(patch.first(at + 8));
  if (told != own) refuse(file, at + 8, fmt::format("a checksum of {:08X}", told), fmt::format("{:08X}", own));
}

void append_footer(Bytes& patch, ByteView source, ByteView target) {
  append_le32(patch, crc32_of(source));
  append_le32(patch, crc32_of(target));
  append_le32(patch, crc32_of(patch));
}

void copy_source(const ByteSource& source, std::uint64_t bytes, Output& out) {
  const std::uint64_t there = std::min(bytes, source.size());
  for (std::uint64_t at = 0; at < there; at += kStep)
    out.write(read_up_to(source, at, static_cast<std::size_t>(std::min<std::uint64_t>(kStep, there - at))));
  if (bytes > there) out.skip(bytes - there);
}

void refuse_size(std::uint64_t bytes, std::uint64_t most, const std::string& file) {
  if (bytes <= most) return;
  throw Error({.code = "too_large",
               .what = "this is too large to be patched",
               .file = file,
               .found = human_size(bytes),
               .expected = "at most " + human_size(most)});
}

namespace {

/// `read` gives the bytes at a place.
template <typename Read>
std::uint32_t crc32_over(std::uint64_t size, const Read& read) {
  std::uint32_t crc = 0;
  for (std::uint64_t at = 0; at < size; at += kStep) {
    const Bytes step = read(at, static_cast<std::size_t>(std::min<std::uint64_t>(kStep, size - at)));
    crc = libdeflate_crc32(crc, step.data(), step.size());
  }
  return crc;
}

}  // namespace

std::uint32_t crc32_of(const ByteSource& file) {
  return crc32_over(file.size(), [&](std::uint64_t at, std::size_t n) {
    Bytes step(n);
    file.read_at(at, step);
    return step;
  });
}

std::uint32_t crc32_of(const Output& out) {
  return crc32_over(out.size(), [&](std::uint64_t at, std::size_t n) {
    Bytes step(n);
    out.read_back(at, step);
    return step;
  });
}

namespace {

/// Somebody else's bytes, without a copy of them.
class ViewSource final : public ByteSource {
 public:
  ViewSource(ByteView bytes, const std::string& name) : bytes_(bytes), name_(name) {}
  std::uint64_t size() const override { return bytes_.size(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (offset > bytes_.size() || out.size() > bytes_.size() - offset)
      throw Error({.code = "truncated", .what = "the file ends too early", .file = name_});
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
  }
  std::string name() const override { return name_; }

 private:
  ByteView bytes_;
  const std::string& name_;
};

/// For patches that are looked at before anything is written.
class MemoryOutput final : public Output {
 public:
  void write(ByteView data) override { bytes.insert(bytes.end(), data.begin(), data.end()); }
  void skip(std::uint64_t n) override { bytes.resize(bytes.size() + static_cast<std::size_t>(n)); }
  void rewrite(std::uint64_t offset, ByteView data) override {
    std::copy(data.begin(), data.end(), bytes.begin() + static_cast<std::ptrdiff_t>(offset));
  }
  void read_back(std::uint64_t offset, std::span<std::byte> out) const override {
    std::copy_n(bytes.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
  }
  std::uint64_t size() const override { return bytes.size(); }

  Bytes bytes;
};

}  // namespace
}  // namespace patches

std::string_view to_string(PatchKind kind) {
  return kind == PatchKind::ips ? "ips" : kind == PatchKind::ups ? "ups" : "bps";
}
std::vector<std::string> patch_kinds() { return {"ips", "ups", "bps"}; }

PatchFacts read_patch(ByteView patch, const std::string& file) {
  const std::string_view text = as_text(patch);
  if (text.starts_with("PATCH")) return patches::read_ips(patch, file);
  if (text.starts_with("UPS1")) return patches::read_ups(patch, file);
  if (text.starts_with("BPS1")) return patches::read_bps(patch, file);
  throw Error({.code = "not_a_patch",
               .what = "this is no patch of a known kind",
               .file = file,
               .found = patch.empty() ? "0 bytes" : hex(patch.first(std::min<std::size_t>(5, patch.size()))),
               .expected = "PATCH, UPS1 or BPS1 at its beginning"});
}

PatchFit fit_of(const PatchFacts& facts, const ByteSource& file) {
  if (!facts.source_crc32) return PatchFit::unknown;
  const bool may_be_source = file.size() == *facts.source_bytes, may_be_target = file.size() == *facts.target_bytes;
  if (!may_be_source && !may_be_target) return PatchFit::other;
  const std::uint32_t crc = patches::crc32_of(file);
  if (may_be_source && crc == *facts.source_crc32) return PatchFit::source;
  return may_be_target && crc == *facts.target_crc32 ? PatchFit::target : PatchFit::other;
}

std::uint64_t patched_bytes(const PatchFacts& facts, ByteView patch, std::uint64_t source_bytes, bool turned_back) {
  if (facts.kind == PatchKind::ips) return patches::ips_target_bytes(patch, source_bytes, "");
  return turned_back ? *facts.source_bytes : *facts.target_bytes;
}

void require_fit(const PatchFacts& facts, PatchFit fit, const ByteSource& source, const std::string& file) {
  if (fit == PatchFit::target && facts.kind != PatchKind::ups)
    throw Error(
        {.code = "patched_already", .what = "the file is what this patch makes: it was patched already", .file = file});
  if (fit == PatchFit::other)
    throw Error({.code = "wrong_source",
                 .what = "the patch is for another file",
                 .file = file,
                 .found = fmt::format("{} bytes, crc32 {:08x}", source.size(), patches::crc32_of(source)),
                 .expected = fmt::format("{} bytes, crc32 {:08x}", *facts.source_bytes, *facts.source_crc32),
                 .hint = "<among> FOLDER looks for the right one among your files"});
}

bool apply_patch(ByteView patch, const ByteSource& source, Output& out, const std::string& file) {
  const PatchFacts facts = read_patch(patch, file);
  patches::refuse_size(source.size(), kMostTargetBytes, file);
  const PatchFit fit = fit_of(facts, source);
  require_fit(facts, fit, source, file);
  if (fit == PatchFit::unknown) {
    patches::apply_ips(patch, source, out, file);
    return false;
  }
  const bool back = fit == PatchFit::target;
  if (facts.kind == PatchKind::ups)
    patches::apply_ups(patch, source, back, out, file);
  else
    patches::apply_bps(patch, source, out, file);
  const std::uint32_t wanted = back ? *facts.source_crc32 : *facts.target_crc32, came = patches::crc32_of(out);
  if (came != wanted)
    throw Error({.code = "wrong_target",
                 .what = "what comes out is not what the patch promises: the patch contradicts itself",
                 .file = file,
                 .found = fmt::format("crc32 {:08x}", came),
                 .expected = fmt::format("{:08x}", wanted),
                 .hint = "nothing was written"});
  return back;
}

Patched apply_patch(ByteView patch, ByteView source, const std::string& file) {
  const PatchFacts facts = read_patch(patch, file);
  if (facts.target_bytes) patches::refuse_size(*facts.target_bytes, kMostPatchedBytes, file);
  patches::MemoryOutput out;
  out.bytes.reserve(static_cast<std::size_t>(patched_bytes(facts, patch, source.size(), false)));
  const bool back = apply_patch(patch, patches::ViewSource(source, file), out, file);
  return {std::move(out.bytes), back};
}

Bytes make_patch(PatchKind kind, ByteView source, ByteView target) {
  patches::refuse_size(std::max(source.size(), target.size()), kMostPatchedBytes, "");
  switch (kind) {
    case PatchKind::ips:
      return patches::make_ips(source, target);
    case PatchKind::ups:
      return patches::make_ups(source, target);
    case PatchKind::bps:
      break;
  }
  return patches::make_bps(source, target);
}

namespace {

[[noreturn]] void bad_replacement(std::string found, std::string expected) {
  throw Error({.fault = Fault::usage,
               .code = "usage",
               .what = "a replacement is OLD=NEW, both of one length",
               .found = std::move(found),
               .expected = std::move(expected)});
}

Bytes digits(std::string_view text) {
  Bytes out;
  std::string hex_text;
  for (const char c : text)
    if (c != ' ') hex_text += c;
  for (std::size_t i = 0; i < hex_text.size(); ++i) {
    const char c = hex_text[i];
    const int value = c >= '0' && c <= '9'   ? c - '0'
                      : c >= 'a' && c <= 'f' ? c - 'a' + 10
                      : c >= 'A' && c <= 'F' ? c - 'A' + 10
                                             : -1;
    if (value < 0 || hex_text.size() % 2 != 0) bad_replacement(printable(text), "pairs of hexadecimal digits");
    if (i % 2 == 0)
      out.push_back(static_cast<std::byte>(value << 4));
    else
      out.back() |= static_cast<std::byte>(value);
  }
  return out;
}

}  // namespace

Replacement parse_replacement(std::string_view text, bool hexadecimal) {
  const auto equals = text.find('=');
  if (equals == std::string_view::npos) bad_replacement(printable(text), "a = between the two");
  const std::string_view from = text.substr(0, equals), to = text.substr(equals + 1);
  Replacement r{hexadecimal ? digits(from) : to_bytes(from), hexadecimal ? digits(to) : to_bytes(to)};
  if (r.what.empty()) bad_replacement("nothing to look for", "what stands there now");
  if (r.what.size() != r.with.size())
    bad_replacement(fmt::format("{} and {} bytes", r.what.size(), r.with.size()), "one length: nothing may move");
  return r;
}

std::vector<std::uint64_t> find_all(ByteView bytes, const Replacement& replacement) {
  std::vector<std::uint64_t> found;
  const std::string_view text = as_text(bytes), what = as_text(replacement.what);
  for (std::size_t at = text.find(what); at != std::string_view::npos; at = text.find(what, at + what.size()))
    found.push_back(at);
  return found;
}

}  // namespace opifex
