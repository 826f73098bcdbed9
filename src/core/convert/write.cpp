#include <algorithm>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/convert/parts.hpp"
#include "opifex/core/convert/plan.hpp"

namespace opifex {
namespace {

using cd::Lba;

/// A block's share of a piece.
struct Share {
  const Piece* piece = nullptr;
  Lba lba = 0;  // sectors
  std::uint32_t sectors = 0;
  std::uint64_t offset = 0, size_bytes = 0;
  bool hole = false;  // zeros that are neither read nor written
};

void cut_sectors(const Piece& piece, const SectorRun& run, const CdImage* disc, std::vector<Share>& shares) {
  const Extent* e = disc->extent_at(run.lba);
  const std::size_t each = e                              ? sector_bytes(run.form, *e)
                           : run.form == SectorForm::user ? cd::kUserBytes
                                                          : cd::kRawBytes;
  const auto batch = static_cast<std::uint32_t>(kFlowBlockBytes / each);
  for (std::uint32_t done = 0; done < run.sectors; done += batch) {
    const std::uint32_t n = std::min(batch, run.sectors - done);
    shares.push_back({&piece, run.lba + static_cast<Lba>(done), n, 0, n * each});
  }
}

/// Holes of a source are shares of their own, of any length.
void cut_source(const Piece& piece, const SourceRun& run, std::vector<Share>& shares) {
  for (std::uint64_t done = 0; done < run.size_bytes;) {
    const std::uint64_t data = std::min(run.source->next_data(run.offset + done) - run.offset, run.size_bytes);
    const bool hole = data >= done + kFlowBlockBytes || (data == run.size_bytes && data > done);
    const std::uint64_t n = hole ? data - done : std::min<std::uint64_t>(kFlowBlockBytes, run.size_bytes - done);
    shares.push_back({&piece, 0, 0, done, n, hole});
    done += n;
  }
}

/// Cuts pieces into blocks of about kFlowBlockBytes.
std::vector<Share> cut(const PlannedOutput& output, const CdImage* disc) {
  std::vector<Share> shares;
  for (const Piece& piece : output.pieces) {
    if (const auto* run = std::get_if<SectorRun>(&piece)) {
      cut_sectors(piece, *run, disc, shares);
    } else if (const auto* source = std::get_if<SourceRun>(&piece)) {
      cut_source(piece, *source, shares);
    } else {
      const std::uint64_t size = std::get<Bytes>(piece).size();
      for (std::uint64_t done = 0; done < size; done += kFlowBlockBytes)
        shares.push_back({&piece, 0, 0, done, std::min<std::uint64_t>(kFlowBlockBytes, size - done)});
    }
  }
  return shares;
}

void fill(const Share& share, const CdImage* disc, std::span<std::byte> out) {
  if (share.hole) return;
  if (const auto* run = std::get_if<SectorRun>(share.piece)) {
    disc->read(run->form, share.lba, share.sectors, out);
  } else if (const auto* source = std::get_if<SourceRun>(share.piece)) {
    source->source->read_at(source->offset + share.offset, out);
  } else {
    const auto& bytes = std::get<Bytes>(*share.piece);
    std::copy_n(bytes.begin() + static_cast<std::ptrdiff_t>(share.offset), out.size(), out.begin());
  }
}

void hash_zeros(Digest& digest, std::uint64_t bytes) {
  static const Bytes zeros(kFlowBlockBytes);
  for (; bytes > 0; bytes -= std::min<std::uint64_t>(bytes, zeros.size()))
    digest.update(ByteView(zeros).first(static_cast<std::size_t>(std::min<std::uint64_t>(bytes, zeros.size()))));
}

std::string hash_written(const Output& file, Work& work) {
  Digest digest("sha1");
  Bytes buffer;
  for (std::uint64_t at = 0; at < file.size(); at += buffer.size()) {
    work.progress.check_stop();
    buffer.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kFlowBlockBytes, file.size() - at)));
    file.read_back(at, buffer);
    digest.update(buffer);
  }
  return digest.finish();
}

/// Returns the hash if it is asked for and costs no second look.
std::string write_one(const Image& image, const PlannedOutput& output, Output& file, bool hash, Work& work) {
  if (!output.pieces.empty())
    if (const auto* packer = std::get_if<PackerPtr>(&output.pieces.front())) {
      (*packer)->write(file, work);
      return {};
    }
  const std::vector<Share> shares = cut(output, image.cd.get());
  std::optional<Digest> digest;
  if (hash) digest.emplace("sha1");
  Flow flow;
  flow.next = [&](FlowBlock& block) {
    if (block.index >= shares.size()) return false;
    const Share& share = shares[block.index];
    block.data.resize(share.hole ? 0 : static_cast<std::size_t>(share.size_bytes));
    return true;
  };
  flow.work = [&](FlowBlock& block) { fill(shares[block.index], image.cd.get(), block.data); };
  flow.consume.emplace_back([&](const FlowBlock& block) {
    const Share& share = shares[block.index];
    if (share.hole)
      file.skip(share.size_bytes);
    else
      file.write(block.data);
    work.progress.done_bytes += share.size_bytes;
  });
  if (hash)
    flow.consume.emplace_back([&](const FlowBlock& block) {
      const Share& share = shares[block.index];
      share.hole ? hash_zeros(*digest, share.size_bytes) : digest->update(block.data);
    });
  run_flow(flow, work);
  return hash ? digest->finish() : std::string{};
}

/// One output as one file or as parts.
void write_output(const Image& image, const PlannedOutput& o, const WriteJob& job, OutputSet& set,
                  std::vector<WrittenFile>& written, Work& work) {
  if (o.part_bytes == 0) {
    if (fold_case(o.path.extension().string()) == ".wbfs") refuse_left_over(o.path, 1, o.part_names);
    OutputFile& file = set.add(o.path);
    std::string sha1 = write_one(image, o, file, job.hash_outputs, work);
    if (job.hash_outputs && sha1.empty()) sha1 = hash_written(file, work);
    written.push_back({o.path, file.size(), std::move(sha1)});
    return;
  }
  PartedOutput parts(
      set, [&](std::size_t n) { return part_path(o.path, n, o.part_names); }, o.part_bytes);
  write_one(image, o, parts, false, work);
  refuse_left_over(o.path, parts.parts().size(), o.part_names);
  // It turned out smaller than it might have been.
  if (parts.parts().size() == 1 && parts.parts().front()->target() != o.path) {
    refuse_existing({o.path}, {}, job.existing);
    parts.parts().front()->rename(o.path);
  }
  for (const OutputFile* part : parts.parts())
    written.push_back({part->target(), part->size(), job.hash_outputs ? hash_written(*part, work) : std::string{}});
}

/// The files an output may become, for checking names and room ahead.
std::vector<PlannedFile> files_of(const PlannedOutput& o) {
  if (o.part_bytes == 0) return {{o.path, o.size_bytes}};
  std::vector<PlannedFile> files;
  for (std::uint64_t done = 0; done < o.size_bytes; done += o.part_bytes)
    files.push_back({part_path(o.path, files.size(), o.part_names), std::min(o.part_bytes, o.size_bytes - done)});
  return files;
}

}  // namespace

std::vector<PlannedFile> planned_files(const WritePlan& plan) {
  std::vector<PlannedFile> files;
  for (const PlannedOutput& o : plan.outputs)
    for (PlannedFile& f : files_of(o)) files.push_back(std::move(f));
  return files;
}

void check_plan(const Image& image, const WritePlan& plan, const WriteJob& job) {
  std::vector<PlannedFile> files = planned_files(plan);
  std::vector<std::filesystem::path> targets;
  for (PlannedFile& f : files) {
    if (job.finished.contains(f.path)) f.size_bytes = 0;
    targets.push_back(f.path);
  }
  refuse_existing(targets, input_paths(image), job.existing);
  check_fits(files, job.target);
}

std::vector<WrittenFile> write_outputs(const Image& image, const WritePlan& plan, const WriteJob& job, Work& work) {
  check_plan(image, plan, job);
  std::uint64_t total = 0;
  for (const PlannedOutput& o : plan.outputs) {
    const auto* packer = o.pieces.empty() ? nullptr : std::get_if<PackerPtr>(&o.pieces.front());
    total += job.finished.contains(o.path) ? 0 : packer ? (*packer)->source_bytes() : o.size_bytes;
  }
  work.progress.begin("writing", total);
  OutputSet set(job.existing);
  std::vector<WrittenFile> written;
  for (const PlannedOutput& o : plan.outputs) {
    if (const auto finished = job.finished.find(o.path); finished != job.finished.end()) {
      set.adopt(o.path, finished->second);
      written.push_back({o.path, o.size_bytes, ""});
      continue;
    }
    write_output(image, o, job, set, written, work);
  }
  work.progress.check_stop();
  work.progress.stage = "waiting for the drive";
  set.commit();
  return written;
}

namespace {

/// Sectors that have to be alike, at most a block of them.
struct Compared {
  Lba in_source = 0, in_result = 0;
  std::uint32_t sectors = 0;
};

void add_runs(std::vector<Compared>& runs, Lba in_source, Lba in_result, std::uint64_t sectors, std::size_t each) {
  const std::uint64_t batch = kFlowBlockBytes / each;
  for (std::uint64_t done = 0; done < sectors; done += batch)
    runs.push_back({in_source + static_cast<Lba>(done), in_result + static_cast<Lba>(done),
                    static_cast<std::uint32_t>(std::min(batch, sectors - done))});
}

/// Every track with its gaps, from the first sector that both images store; what lies between sessions and areas is on
/// no track.
std::vector<Compared> track_runs(const CdImage& source, const CdImage& result) {
  const Lba first = std::max(source.extents().front().lba, result.extents().front().lba);
  std::vector<Compared> runs;
  for (const cd::Track& t : result.layout().tracks) {
    const Lba from = std::max(first, t.pregap_lba);
    if (from < t.end_lba) add_runs(runs, from, from, static_cast<std::uint64_t>(t.end_lba - from), cd::kRawBytes);
  }
  return runs;
}

std::vector<Compared> user_runs(const Image& source, const ByteSource& result) {
  std::vector<Compared> runs;
  const Lba start = source.cd && !source.blocks ? source.cd->layout().track(source.main_data_track())->start_lba : 0;
  const std::uint64_t there = source.blocks ? std::min(source.blocks->size(), result.size()) : result.size();
  add_runs(runs, start, 0, there / cd::kUserBytes, cd::kUserBytes);
  return runs;
}

/// Holes are not read.
void read_or_zeros(const ByteSource& source, std::uint64_t offset, std::span<std::byte> out) {
  if (source.next_data(offset) >= offset + out.size())
    std::fill(out.begin(), out.end(), std::byte{0});
  else
    source.read_at(offset, out);
}

/// True if there are only zeros from `offset` on. Holes are not read.
bool zeros_behind(const ByteSource& source, std::uint64_t offset) {
  Bytes piece;
  while ((offset = source.next_data(offset)) < source.size()) {
    piece = read_up_to(source, offset, kFlowBlockBytes);
    if (!all_zero(piece)) return false;
    offset += piece.size();
  }
  return true;
}

}  // namespace

std::string prove_same(const Image& source, const Image& result, Work& work) {
  const auto fail = [&](std::string found, std::string expected) {
    throw Error({.fault = Fault::device,
                 .code = "proof_failed",
                 .what = "the output does not decode to the input",
                 .file = result.path.string(),
                 .found = std::move(found),
                 .expected = std::move(expected),
                 .hint = "do not trust this output: delete it, check the drive and run the job again"});
  };
  const bool user_only = source.blocks || result.blocks;
  const SourcePtr a = user_only ? source.user_data() : nullptr, b = user_only ? result.user_data() : nullptr;
  if (source.blocks && b && b->size() > source.blocks->size() &&
      !(result.format->holds.whole_discs && zeros_behind(*b, source.blocks->size())))
    fail(fmt::format("{} bytes", b->size()), fmt::format("{}", source.blocks->size()));
  const std::vector<Compared> runs = user_only ? user_runs(source, *b) : track_runs(*source.cd, *result.cd);
  const std::size_t each = user_only ? cd::kUserBytes : cd::kRawBytes;
  std::uint64_t sectors = 0;
  for (const Compared& run : runs) sectors += run.sectors;
  work.progress.begin("proving", sectors * each);
  Digest digest("sha1");
  Flow flow;
  flow.next = [&](FlowBlock& block) {
    if (block.index >= runs.size()) return false;
    block.data.resize(runs[block.index].sectors * each);
    return true;
  };
  flow.work = [&](FlowBlock& block) {
    Bytes other(block.data.size());
    const Compared& run = runs[block.index];
    if (user_only) {
      read_or_zeros(*a, static_cast<std::uint64_t>(run.in_source) * each, block.data);
      read_or_zeros(*b, static_cast<std::uint64_t>(run.in_result) * each, other);
    } else {
      source.cd->read(SectorForm::raw, run.in_source, run.sectors, block.data);
      result.cd->read(SectorForm::raw, run.in_result, run.sectors, other);
    }
    if (block.data == other) return;
    const auto at =
        static_cast<std::size_t>(std::mismatch(other.begin(), other.end(), block.data.begin()).first - other.begin());
    fail(fmt::format("other bytes in sector {}", run.in_result + static_cast<Lba>(at / each)), "the input's");
  };
  flow.consume.emplace_back([&](const FlowBlock& block) {
    digest.update(block.data);
    work.progress.done_bytes += block.data.size();
  });
  run_flow(flow, work);
  return digest.finish();
}

}  // namespace opifex
