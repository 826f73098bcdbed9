#include <algorithm>
#include <set>

#include "opifex/core/base/flow.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/convert/parts.hpp"
#include "opifex/core/convert/plan.hpp"
#include "opifex/core/io/journal.hpp"

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

std::string hash_written(const Output& file, JobContext& context) {
  Digest digest("sha1");
  Bytes buffer;
  for (std::uint64_t at = 0; at < file.size(); at += buffer.size()) {
    context.progress.check_stop();
    buffer.resize(static_cast<std::size_t>(std::min<std::uint64_t>(kFlowBlockBytes, file.size() - at)));
    file.read_back(at, buffer);
    digest.update(buffer);
  }
  return digest.finish();
}

/// Returns the hash if it is asked for and costs no second look.
std::string write_one(const Image& image, const PlannedOutput& output, Output& file, bool hash, JobContext& context) {
  if (!output.pieces.empty())
    if (const auto* packer = std::get_if<PackerPtr>(&output.pieces.front())) {
      (*packer)->write(file, context);
      return {};
    }
  const std::vector<Share> shares = cut(output, image.cd().get());
  std::optional<Digest> digest;
  if (hash) digest.emplace("sha1");
  Flow flow;
  flow.next = [&](FlowBlock& block) {
    if (block.index >= shares.size()) return false;
    const Share& share = shares[block.index];
    block.data.resize(share.hole ? 0 : static_cast<std::size_t>(share.size_bytes));
    return true;
  };
  flow.work = [&](FlowBlock& block) { fill(shares[block.index], image.cd().get(), block.data); };
  flow.consume.emplace_back([&](const FlowBlock& block) {
    const Share& share = shares[block.index];
    if (share.hole)
      file.skip(share.size_bytes);
    else
      file.write(block.data);
    context.progress.done_bytes += share.size_bytes;
  });
  if (hash)
    flow.consume.emplace_back([&](const FlowBlock& block) {
      const Share& share = shares[block.index];
      share.hole ? digest->update_zeros(share.size_bytes) : digest->update(block.data);
    });
  run_flow(flow, context);
  return hash ? digest->finish() : std::string{};
}

InputFiles inputs_of(const Image& image, const WriteJob& job) {
  InputFiles inputs = job.inputs;
  // A finished output is renamed, not read.
  for (const auto& path : input_paths(image))
    if (std::none_of(job.finished.begin(), job.finished.end(), [&](const auto& f) { return f.second == path; }))
      inputs.add(path);
  return inputs;
}

/// One output as one file or as parts.
void write_output(const Image& image, const PlannedOutput& o, const WriteJob& job, OutputSet& set,
                  std::vector<WrittenFile>& written, JobContext& context) {
  if (o.part_bytes == 0) {
    const bool is_first_part = part_path(o.path, 0, o.part_names) == o.path;
    if (is_first_part) refuse_left_over(o.path, 1, o.part_names);
    OutputFile& file = set.add(o.path);
    std::string sha1 = write_one(image, o, file, job.hash_outputs, context);
    if (job.hash_outputs && sha1.empty()) sha1 = hash_written(file, context);
    written.push_back({o.path, file.size(), std::move(sha1)});
    return;
  }
  PartedOutput parts(
      set, [&](std::size_t n) { return part_path(o.path, n, o.part_names); }, o.part_bytes);
  write_one(image, o, parts, false, context);
  refuse_left_over(o.path, parts.parts().size(), o.part_names);
  // It turned out smaller than it might have been.
  if (parts.parts().size() == 1 && parts.parts().front()->target() != o.path) {
    refuse_existing({o.path}, inputs_of(image, job), job.existing);
    parts.parts().front()->rename(o.path);
  }
  for (const OutputFile* part : parts.parts())
    written.push_back({part->target(), part->size(), job.hash_outputs ? hash_written(*part, context) : std::string{}});
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
  for (const auto& [target, text] : job.texts) targets.push_back(target);
  refuse_existing(targets, inputs_of(image, job), job.existing);
  // Parts of an older split that would be taken for ours: found before an hour of writing, not after it.
  for (const PlannedOutput& o : plan.outputs)
    if (o.part_bytes != 0) refuse_left_over(o.path, files_of(o).size(), o.part_names);
  check_fits(files, job.target);
}

namespace {

/// What an interrupted job left half in place is finished first.
void finish_interrupted_beside(const std::vector<PlannedFile>& files) {
  std::set<std::filesystem::path> folders;
  for (const PlannedFile& f : files) folders.insert(f.path.parent_path());
  for (const auto& folder : folders) finish_interrupted(folder);
}

void inspect(const WriteJob& job, OutputSet& set, const std::vector<WrittenFile>& written) {
  if (!job.inspect) return;
  set.finish_writing();
  std::map<std::filesystem::path, std::filesystem::path> where;
  for (const auto& file : set.files()) where[file->target()] = file->temporary();
  job.inspect(staged_files(where), written);
}

}  // namespace

std::vector<WrittenFile> write_outputs(const Image& image, const WritePlan& plan, const WriteJob& job,
                                       JobContext& context) {
  finish_interrupted_beside(planned_files(plan));
  check_plan(image, plan, job);
  std::uint64_t total = 0;
  for (const PlannedOutput& o : plan.outputs) {
    const auto* packer = o.pieces.empty() ? nullptr : std::get_if<PackerPtr>(&o.pieces.front());
    total += job.finished.contains(o.path) ? 0 : packer ? (*packer)->source_bytes() : o.size_bytes;
  }
  context.progress.begin("writing", total);
  OutputSet set(job.existing, inputs_of(image, job));
  std::vector<WrittenFile> written, beside;  // what only stands beside the image is none of its parts
  for (const auto& [target, text] : job.texts) set.add(target).write(as_view(text));
  for (const auto& [target, finished] : job.adopted) beside.push_back({target, set.adopt(target, finished).size(), ""});
  for (const PlannedOutput& o : plan.outputs) {
    if (const auto finished = job.finished.find(o.path); finished != job.finished.end()) {
      set.adopt(o.path, finished->second);
      written.push_back({o.path, o.size_bytes, ""});
      continue;
    }
    write_output(image, o, job, set, written, context);
  }
  context.progress.check_stop();
  inspect(job, set, written);
  context.progress.stage = "waiting for the drive";
  set.commit();
  written.insert(written.begin(), beside.begin(), beside.end());
  return written;
}

const WrittenFile& leading_file(const WritePlan& plan, const std::vector<WrittenFile>& written) {
  return plan.outputs.size() > 1 ? written.back() : written.front();
}

}  // namespace opifex
