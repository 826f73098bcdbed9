#include "writer.hpp"

#include <algorithm>
#include <mutex>

#include "opifex/core/base/crc16.hpp"
#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/hash.hpp"

#include "decoder.hpp"
#include "hunk_coder.hpp"
#include "map_writer.hpp"
#include "parent_windows.hpp"
#include "stored_hunks.hpp"

namespace opifex::chd {
namespace {

constexpr std::size_t kHeaderBytes = 124, kMapHead = 16, kSlots = 4;

/// A hunk on its way into the file.
struct Coded {
  std::optional<std::uint64_t> parent_unit = {};
  std::uint16_t crc = 0;
  Sha1 sha1 = {};
  CodedHunk form = {};
};

/// Coders that are not in use: as many as threads ever code at once.
class Coders {
 public:
  explicit Coders(const WriteRequest& request) : request_(request) {}
  std::unique_ptr<HunkCoder> take() {
    const std::lock_guard lock(mutex_);
    if (free_.empty()) return std::make_unique<HunkCoder>(request_.codecs, request_.effort);
    auto coder = std::move(free_.back());
    free_.pop_back();
    return coder;
  }
  void give(std::unique_ptr<HunkCoder> coder) {
    const std::lock_guard lock(mutex_);
    free_.push_back(std::move(coder));
  }

 private:
  const WriteRequest& request_;
  std::mutex mutex_;
  std::vector<std::unique_ptr<HunkCoder>> free_;
};

/// One run over all hunks: coded side by side, written in order.
class HunkRun {
 public:
  HunkRun(const WriteRequest& request, Output& file, JobContext& context)
      : r_(request),
        file_(file),
        context_(context),
        size_(r_.logical->size()),
        total_((size_ + r_.hunk_bytes - 1) / r_.hunk_bytes),
        batch_(std::max<std::uint64_t>(1, kFlowBlockBytes / 4 / r_.hunk_bytes)),
        coders_(request) {
    if (r_.sheet) sheet_.emplace(*r_.sheet, r_.runs);
  }

  void run() {
    if (r_.parent) {
      windows_.emplace(r_.parent, r_.hunk_bytes, context_);
      context_.progress.begin("writing", size_);
    }
    // Empty space is coded once: a sparse disc would spend all its time on it.
    auto coder = coders_.take();
    zeros_.assign(r_.hunk_bytes, std::byte{0});
    empty_ = code(zeros_, 0, *coder);
    empty_.parent_unit.reset();
    coders_.give(std::move(coder));
    FlowOf<std::vector<Coded>> flow;
    flow.next = [&](Block& block) {
      const std::uint64_t first = block.index * batch_;
      if (first >= total_) return false;
      block.data.resize(static_cast<std::size_t>(std::min(batch_, total_ - first) * r_.hunk_bytes));
      return true;
    };
    flow.work = [&](Block& block) { code_block(block); };
    flow.consume.emplace_back([&](Block& block) { write_block(block); });
    flow.consume.emplace_back([&](Block& block) { hash_block(block); });
    run_flow(flow, context_);
    raw_sha1 = sha1_from_hex(raw_.finish());
    if (sheet_) file_sums = sheet_->finish();
  }

  HunkMap hunks;
  Sha1 raw_sha1 = {};
  std::vector<std::string> file_sums;

 private:
  using Block = FlowOf<std::vector<Coded>>::Block;

  std::uint64_t place_of(const FlowBlock& block) const { return block.index * batch_ * r_.hunk_bytes; }
  std::size_t used_of(const FlowBlock& block) const {
    return static_cast<std::size_t>(std::min<std::uint64_t>(block.data.size(), size_ - place_of(block)));
  }

  Coded code(ByteView hunk, std::uint64_t number, HunkCoder& coder) const {
    Coded coded;
    coded.crc = crc16(hunk, kCrcStart);
    coded.sha1 = sha1_from_hex(digest_of("sha1", hunk));
    if (windows_) coded.parent_unit = windows_->find(number, hunk);
    if (!coded.parent_unit) coded.form = coder.code(hunk);
    return coded;
  }

  void code_block(Block& block) {
    const std::size_t there = used_of(block);
    r_.logical->read_at(place_of(block), std::span(block.data).first(there));
    std::fill(block.data.begin() + static_cast<std::ptrdiff_t>(there), block.data.end(), std::byte{0});
    auto coder = coders_.take();
    std::vector<Coded>& out = block.carried;
    out.clear();
    for (std::size_t h = 0; h < block.data.size(); h += r_.hunk_bytes) {
      const ByteView hunk = ByteView(block.data).subspan(h, r_.hunk_bytes);
      const bool is_empty = !windows_ && all_zero(hunk);
      out.push_back(is_empty ? empty_ : code(hunk, block.index * batch_ + out.size(), *coder));
    }
    coders_.give(std::move(coder));
  }

  void write_block(const Block& block) {
    const std::vector<Coded>& in = block.carried;
    for (std::size_t i = 0; i < in.size(); ++i) {
      const Coded& hunk = in[i];
      if (hunk.parent_unit) {
        hunks.push_back({HunkKind::parent, false, 0, 0, *hunk.parent_unit});
        continue;
      }
      const auto number = static_cast<std::uint32_t>(block.index * batch_ + i);
      if (const std::uint32_t first = stored_.find_or_add(hunk.sha1, number); first != number) {
        hunks.push_back({HunkKind::same, false, 0, 0, first});
        continue;
      }
      const bool as_it_is = hunk.form.slot < 0;
      const ByteView bytes =
          as_it_is ? ByteView(block.data).subspan(i * r_.hunk_bytes, r_.hunk_bytes) : ByteView(hunk.form.bytes);
      hunks.push_back({static_cast<HunkKind>(as_it_is ? kStored : hunk.form.slot), true,
                       static_cast<std::uint32_t>(bytes.size()), hunk.crc, file_.size()});
      file_.write(bytes);
    }
    context_.progress.done_bytes += used_of(block);
  }

  void hash_block(const FlowBlock& block) {
    const ByteView bytes = ByteView(block.data).first(used_of(block));
    raw_.update(bytes);
    if (sheet_) sheet_->update(place_of(block) / kFrameBytes, bytes);
  }

  const WriteRequest& r_;
  Output& file_;
  JobContext& context_;
  std::uint64_t size_, total_, batch_;
  Coders coders_;
  std::optional<ParentWindows> windows_;
  StoredHunks stored_;
  Bytes zeros_;
  Coded empty_;
  Digest raw_{"sha1"};
  std::optional<SheetHasher> sheet_;
};

class ChdPacker final : public Packer {
 public:
  explicit ChdPacker(WriteRequest request) : r_(std::move(request)) {}

  std::uint64_t source_bytes() const override { return r_.logical->size(); }
  std::uint64_t most_bytes() const override {
    // Nothing compresses: every hunk as it is, and a map of about four bytes each.
    const std::uint64_t hunks = (r_.logical->size() + r_.hunk_bytes - 1) / r_.hunk_bytes;
    return kHeaderBytes + tag_block(r_.sheet).size() + hunks * (r_.hunk_bytes + 8) + kMapHead + 64;
  }

  void write(Output& file, JobContext& context) const override {
    file.write(Bytes(kHeaderBytes));
    file.write(tag_block(r_.sheet));
    const std::uint64_t first_offset = file.size();
    HunkRun run(r_, file, context);
    run.run();
    const bool any_stored =
        std::any_of(run.hunks.begin(), run.hunks.end(), [](const Hunk& h) { return h.kind <= HunkKind::stored; });
    const std::uint64_t map_offset = file.size();
    file.write(make_map(run.hunks, any_stored ? first_offset : 0, r_.hunk_bytes / r_.unit_bytes));
    if (r_.sheet && !run.file_sums.empty()) {
      // The hashes are known now; the length stays.
      SheetTag sheet = *r_.sheet;
      for (std::size_t i = 0; i < sheet.files.size(); ++i) sheet.files[i].sha1 = run.file_sums[i];
      file.rewrite(kHeaderBytes, tag_block(sheet));
    }
    file.rewrite(0, header(claimed(run.raw_sha1), map_offset));
  }

 private:
  Bytes tag_block(const std::optional<SheetTag>& sheet) const {
    std::vector<Tag> tags = r_.tags;
    if (sheet) tags.push_back({kSheetTag, 0, 0, print_sheet_tag(*sheet)});
    Bytes block;
    for (std::size_t i = 0; i < tags.size(); ++i) {
      const Tag& t = tags[i];
      const Bytes name = to_bytes(t.name);
      block.insert(block.end(), name.begin(), name.end());
      put_be(block, t.flags, 1);
      put_be(block, t.data.size(), 3);
      const std::uint64_t next = kHeaderBytes + block.size() + 8 + t.data.size();
      put_be(block, i + 1 < tags.size() ? next : 0, 8);
      block.insert(block.end(), t.data.begin(), t.data.end());
    }
    return block;
  }

  struct Claim {
    Sha1 raw, overall;
  };
  /// Of data that are not what their CHD says of them, still what it says. Error (refused, "damaged_source") if the
  /// same cannot be said of them in this form.
  Claim claimed(const Sha1& raw) const {
    const Claim own{raw, overall_sha1_of(raw, r_.tags)};
    if (!r_.origin) return own;
    const Header& from = r_.origin->header();
    const std::string found = r_.origin->watched_hash().value_or("");
    const std::string wanted = from.raw_sha1 ? hex(*from.raw_sha1) : from.md5;
    // What was mended on the way may be right again.
    const bool wrong_data = !found.empty() && !wanted.empty() && found != wanted && hex(raw) != wanted;
    const bool wrong_tags = from.sha1 && from.raw_sha1 && *from.sha1 != r_.origin->overall_sha1(*from.raw_sha1);
    if (wrong_data && found != hex(raw))
      throw Error({.code = "damaged_source",
                   .what = "the data are not what the checksum of this CHD says; a new CHD would vouch for them",
                   .file = r_.origin->name(),
                   .found = found,
                   .expected = wanted,
                   .hint = "another format keeps what is there without vouching for it: <to> cue or <to> iso"});
    const Sha1 said = wrong_data ? *from.raw_sha1 : raw;
    return {said, wrong_tags ? *from.sha1 : overall_sha1_of(said, r_.tags)};
  }

  Bytes header(const Claim& claim, std::uint64_t map_offset) const {
    Bytes h = to_bytes(kChdMark);
    put_be(h, kHeaderBytes, 4);
    put_be(h, 5, 4);
    for (std::size_t slot = 0; slot < kSlots; ++slot) {
      const Bytes name = slot < r_.codecs.size() ? to_bytes(r_.codecs[slot]) : Bytes(4);
      h.insert(h.end(), name.begin(), name.end());
    }
    put_be(h, r_.logical->size(), 8);
    put_be(h, map_offset, 8);
    put_be(h, r_.tags.empty() && !r_.sheet ? 0 : kHeaderBytes, 8);
    put_be(h, r_.hunk_bytes, 4);
    put_be(h, r_.unit_bytes, 4);
    const Sha1 parent = r_.parent ? r_.parent->header().identity().value_or(Sha1{}) : Sha1{};
    for (const Sha1& sha1 : {claim.raw, claim.overall, parent}) h.insert(h.end(), sha1.begin(), sha1.end());
    return h;
  }

  WriteRequest r_;
};

}  // namespace

PackerPtr make_packer(WriteRequest request) { return std::make_shared<ChdPacker>(std::move(request)); }

}  // namespace opifex::chd
