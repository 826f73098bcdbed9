#include "opifex/core/formats/chd/chd.hpp"

#include <algorithm>
#include <mutex>

#include <libdeflate.h>

#include "opifex/core/base/crc16.hpp"
#include "opifex/core/base/hash.hpp"

#include "decoder.hpp"
#include "hunk_cache.hpp"
#include "open.hpp"
#include "sequence_digest.hpp"

namespace opifex::chd {
namespace {

constexpr int kDeepestChain = 8;

}  // namespace

std::string Tag::text() const {
  const std::string_view all = as_text(data);
  return std::string(all.substr(0, all.find('\0')));
}

/// Decoders that are not in use: as many as threads ever read at once.
struct Chd::Pool {
  std::mutex mutex;
  std::vector<std::unique_ptr<Decoder>> free;
  std::unique_ptr<Decoder> take() {
    const std::lock_guard lock(mutex);
    if (free.empty()) return std::make_unique<Decoder>();
    auto d = std::move(free.back());
    free.pop_back();
    return d;
  }
  void give(std::unique_ptr<Decoder> d) {
    const std::lock_guard lock(mutex);
    free.push_back(std::move(d));
  }
};

/// Hunks that others are copies of: decoded and proved once, not again for every copy.
struct Chd::Shared {
  explicit Shared(const HunkMap& hunks, std::size_t hunk_bytes) : wanted(hunks.size()), cache(hunk_bytes) {
    hunks.each_run([&](std::uint64_t, std::uint32_t count, const Hunk& h, std::uint64_t step) {
      if (h.kind != HunkKind::same) return;
      const std::uint32_t different = step == 0 ? 1 : count;
      for (std::uint32_t i = 0; i < different; ++i) wanted[h.place + i * step] = true;
    });
  }
  std::vector<bool> wanted;
  HunkCache cache;
};

Chd::Chd(SourcePtr file)
    : file_(std::move(file)), pool_(std::make_unique<Pool>()), watch_(std::make_unique<SequenceDigest>()) {}
Chd::~Chd() = default;

std::shared_ptr<const Chd> Chd::open(SourcePtr file, const FindParent& find_parent, int depth) {
  const std::shared_ptr<Chd> chd(new Chd(std::move(file)));
  Opened opened = read_container(*chd->file_);
  chd->header_ = std::move(opened.header);
  chd->hunks_ = std::move(opened.hunks);
  chd->tags_ = std::move(opened.tags);
  chd->shared_ = std::make_unique<Shared>(chd->hunks_, chd->header_.hunk_bytes);
  chd->self_ = chd;
  const auto fail = [&](const char* code, std::string what, std::string found, std::string expected, std::string hint) {
    throw Error({.code = code,
                 .cause = depth >= kDeepestChain ? Cause::parent_chain : Cause::other,
                 .what = std::move(what),
                 .file = chd->name(),
                 .found = std::move(found),
                 .expected = std::move(expected),
                 .hint = std::move(hint)});
  };
  const auto& wanted = chd->header_.parent_sha1;
  if (!wanted) return chd;
  if (depth >= kDeepestChain) fail("parent_chain", "the chain of parents is too long", "more than 8", "at most 8", "");
  chd->parent_ = find_parent ? find_parent(*wanted) : nullptr;
  const std::string sha1 = hex(*wanted);
  if (!chd->parent_)
    fail("parent_missing", "this CHD is only the difference to another one", "no parent", "the CHD with SHA-1 " + sha1,
         "put its parent beside it, or name it with <parent>");
  if (chd->parent_->header().identity() != wanted)
    fail("parent_mismatch", "this is not the parent of this CHD",
         hex(chd->parent_->header().identity().value_or(Sha1{})), sha1, "");
  return chd;
}

const Tag* Chd::tag(std::string_view name) const {
  for (const Tag& t : tags_)
    if (t.name == name) return &t;
  return nullptr;
}

std::string Chd::kind_name(const Hunk& hunk) const {
  switch (hunk.kind) {
    case HunkKind::codec0:
    case HunkKind::codec1:
    case HunkKind::codec2:
    case HunkKind::codec3:
      return header_.codecs.at(static_cast<std::size_t>(hunk.kind));
    case HunkKind::stored:
      return header_.compressed || header_.version < 5 ? "none" : "plain";
    case HunkKind::same:
      return "self";
    case HunkKind::parent:
      return "parent";
    case HunkKind::parent_hunk:
      return "parent-hunk";
    case HunkKind::repeated:
      return "mini";
    case HunkKind::absent:
      return "absent";
  }
  return "";
}

void Chd::read_parent(std::uint64_t place, std::uint64_t each, std::span<std::byte> out, std::uint64_t hunk) const {
  const std::uint64_t size = std::uint64_t{parent_->header_.hunk_count} * parent_->header_.hunk_bytes;
  // A place that comes round 2^64 is outside, too.
  std::uint64_t offset = checked_mul(place, each).value_or(UINT64_MAX);
  if (offset > size || out.size() > size - offset)
    throw Error({.code = "parent_range",
                 .what = fmt::format("hunk {} refers to bytes behind its parent's end", hunk),
                 .file = name(),
                 .found = fmt::format("byte {}", offset),
                 .expected = fmt::format("at most {}", size)});
  Bytes whole(parent_->header_.hunk_bytes);
  while (!out.empty()) {
    const std::uint64_t number = offset / whole.size();
    const auto inside = static_cast<std::size_t>(offset % whole.size());
    const std::size_t n = std::min(out.size(), whole.size() - inside);
    parent_->read_hunk(number, whole);
    std::copy_n(whole.begin() + static_cast<std::ptrdiff_t>(inside), n, out.begin());
    out = out.subspan(n);
    offset += n;
  }
}

void Chd::decode(std::uint64_t number, std::span<std::byte> out, std::span<std::byte> parity_made) const {
  const Hunk hunk = hunks_[number];
  switch (hunk.kind) {
    case HunkKind::stored:
      return file_->read_at(hunk.place, out);
    case HunkKind::absent:
      return static_cast<void>(std::fill(out.begin(), out.end(), std::byte{0}));
    case HunkKind::repeated:
      for (std::size_t i = 0; i < out.size(); ++i)
        out[i] = static_cast<std::byte>(hunk.place >> (56 - 8 * (i % 8)) & 255);
      return;
    case HunkKind::parent:
      return read_parent(hunk.place, header_.unit_bytes, out, number);
    case HunkKind::parent_hunk:
      return read_parent(hunk.place, header_.hunk_bytes, out, number);
    default:
      break;
  }
  auto decoder = pool_->take();
  const ByteView coded = decoder->read(*file_, hunk.place, hunk.length);
  const bool good = decoder->decode(header_.codecs.at(static_cast<std::size_t>(hunk.kind)), coded, out, parity_made);
  pool_->give(std::move(decoder));
  if (!good)
    throw Error({.code = "hunk_data",
                 .what = fmt::format("hunk {} cannot be decoded", number),
                 .file = name(),
                 .offset = hunk.place,
                 .found = fmt::format("{} bytes of {}", hunk.length, kind_name(hunk)),
                 .expected = fmt::format("{} bytes of data", out.size()),
                 .hint = "<job check> lists everything that is damaged"});
}

void Chd::read_hunk(std::uint64_t number, std::span<std::byte> out, std::span<std::byte> parity_made) const {
  if (const Hunk hunk = hunks_[number]; hunk.kind == HunkKind::same) number = hunk.place;
  const bool shared = shared_->wanted[number];
  if (const auto known = shared ? shared_->cache.find(number) : nullptr) {
    std::copy(known->begin(), known->end(), out.begin());
    return;
  }
  decode(number, out, parity_made);
  check_crc(number, out);
  if (shared) shared_->cache.keep(number, std::make_shared<Bytes>(out.begin(), out.end()));
}

void Chd::check_crc(std::uint64_t number, ByteView bytes) const {
  const Hunk hunk = hunks_[number];
  if (!hunk.crc_known) return;
  const std::uint32_t crc =
      header_.version == 5 ? crc16(bytes, kCrcStart) : libdeflate_crc32(0, bytes.data(), bytes.size());
  if (crc == hunk.crc) return;
  throw Error({.code = "hunk_crc",
               .what = fmt::format("hunk {} is damaged", number),
               .file = name(),
               .offset = hunk.place,
               .found = fmt::format("CRC {:X}", crc),
               .expected = fmt::format("{:X}", hunk.crc),
               .hint = "<job check> lists everything that is damaged"});
}

/// Logical bytes; the hunks read last stay decoded.
class Chd::Logical final : public ByteSource {
 public:
  explicit Logical(std::shared_ptr<const Chd> chd) : chd_(std::move(chd)), cache_(chd_->header_.hunk_bytes) {}
  std::uint64_t size() const override { return chd_->header_.logical_bytes; }
  std::string name() const override { return chd_->name(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (offset > size() || out.size() > size() - offset)
      throw Error({.code = "truncated",
                   .what = "the data of this CHD ends too early",
                   .file = name(),
                   .offset = offset,
                   .found = fmt::format("{} bytes", size()),
                   .expected = fmt::format("{}", offset + out.size())});
    const std::size_t hunk_bytes = chd_->header_.hunk_bytes;
    while (!out.empty()) {
      const std::uint64_t number = offset / hunk_bytes;
      const auto inside = static_cast<std::size_t>(offset % hunk_bytes);
      const std::size_t n = std::min(out.size(), hunk_bytes - inside);
      if (inside == 0 && n == hunk_bytes && !cache_.contains(number)) {
        chd_->read_hunk(number, out.first(n));  // as a whole, straight to where it is wanted
        chd_->watched(number, out.first(n));
      } else {
        const auto hunk = get(number);
        std::copy_n(hunk->begin() + static_cast<std::ptrdiff_t>(inside), n, out.begin());
      }
      out = out.subspan(n);
      offset += n;
    }
  }

 private:
  HunkCache::HunkPtr get(std::uint64_t number) const {
    if (auto hunk = cache_.find(number)) return hunk;
    auto bytes = std::make_shared<Bytes>(chd_->header_.hunk_bytes);
    chd_->read_hunk(number, *bytes);
    chd_->watched(number, *bytes);
    cache_.keep(number, bytes);
    return bytes;
  }

  std::shared_ptr<const Chd> chd_;
  mutable HunkCache cache_;
};

void Chd::watch() const { watch_->start(header_.raw_sha1 || header_.md5.empty() ? "sha1" : "md5"); }

void Chd::watched(std::uint64_t number, ByteView hunk) const {
  const std::uint64_t left = header_.logical_bytes - number * header_.hunk_bytes;
  watch_->add(number, hunk.first(static_cast<std::size_t>(std::min<std::uint64_t>(hunk.size(), left))));
}

std::optional<std::string> Chd::watched_hash() const { return watch_->finish(header_.hunk_count); }

SourcePtr Chd::logical() const { return std::make_shared<Logical>(self_.lock()); }

Sha1 sha1_from_hex(const std::string& text) {
  Sha1 sha1;
  for (std::size_t i = 0; i < sha1.size(); ++i)
    sha1[i] = static_cast<std::byte>(std::stoi(text.substr(2 * i, 2), nullptr, 16));
  return sha1;
}

Sha1 Chd::overall_sha1(const Sha1& raw) const { return overall_sha1_of(raw, tags_); }

Sha1 overall_sha1_of(const Sha1& raw, const std::vector<Tag>& tags) {
  std::vector<Bytes> rows;
  for (const Tag& t : tags) {
    if (!t.hashed()) continue;
    Bytes row = to_bytes(t.name);
    const Sha1 sha1 = sha1_from_hex(digest_of("sha1", t.data));
    row.insert(row.end(), sha1.begin(), sha1.end());
    rows.push_back(std::move(row));
  }
  std::sort(rows.begin(), rows.end());
  Digest digest("sha1");
  digest.update(raw);
  for (const Bytes& row : rows) digest.update(row);
  return sha1_from_hex(digest.finish());
}

}  // namespace opifex::chd
