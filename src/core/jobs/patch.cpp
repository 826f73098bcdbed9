#include "opifex/core/jobs/patch.hpp"

#include <algorithm>
#include <chrono>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/rom/rom.hpp"
#include "opifex/core/io/folder_tree.hpp"
#include "opifex/core/io/output.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

Bytes read_whole(const fs::path& path) {
  const SourcePtr source = open_file(path);
  if (source->size() > kMostPatchedBytes)
    throw Error({.code = "too_large",
                 .what = "this is too large for a patch",
                 .file = path.string(),
                 .found = human_size(source->size()),
                 .expected = "at most " + human_size(kMostPatchedBytes)});
  return read_up_to(*source, 0, static_cast<std::size_t>(source->size()));
}

std::string date_of_now() {
  const CivilTime t = civil_time(
      std::chrono::duration_cast<std::chrono::seconds>(std::chrono::system_clock::now().time_since_epoch()).count());
  return fmt::format("{:04}-{:02}-{:02} {:02}.{:02}.{:02}", t.year, t.month, t.day, t.hour, t.minute, t.second);
}

fs::path dated_name(const fs::path& path) {
  const std::string date = date_of_now();
  for (unsigned n = 1;; ++n) {
    const std::string mark = n == 1 ? date : fmt::format("{} {}", date, n);
    fs::path name =
        path.parent_path() / fmt::format("{} ({}){}", path.stem().string(), mark, path.extension().string());
    if (!fs::exists(fs::symlink_status(name))) return name;
  }
}

fs::path write_change(const fs::path& input, const fs::path& out, ByteView bytes, const ChangeRules& rules) {
  const auto put = [&](OutputSet& set, const fs::path& target, ByteView what) {
    OutputFile& file = set.add(target);
    file.write(what);
    return &file;
  };
  const auto prove = [&](const OutputFile& file, ByteView wanted) {
    const SourcePtr there = open_file(file.temporary());
    const Bytes back = read_up_to(*there, 0, static_cast<std::size_t>(there->size()));
    if (!std::equal(back.begin(), back.end(), wanted.begin(), wanted.end()))
      throw Error({.fault = Fault::device,
                   .code = "proof_failed",
                   .what = "what was written is not what it should be",
                   .file = file.target().string(),
                   .hint = "nothing was put in place; check the drive"});
  };
  if (!rules.replace) {
    OutputSet set(Existing::keep, rules.inputs);
    const OutputFile* file = put(set, out, bytes);
    set.finish_writing();
    prove(*file, bytes);
    set.commit();
    return {};
  }
  // The old one is safe under its other name before the new one takes its place.
  const fs::path kept = dated_name(input);
  const Bytes old = read_whole(input);
  OutputSet before(Existing::keep);
  const OutputFile* copy = put(before, kept, old);
  before.finish_writing();
  prove(*copy, old);
  before.commit();
  OutputSet set(Existing::replace);
  const OutputFile* file = put(set, input, bytes);
  set.finish_writing();
  prove(*file, bytes);
  set.commit();
  return kept;
}

namespace {

/// A file as it is, or what it decodes to.
struct Candidate {
  Bytes bytes;
  std::string inside;  // empty: all of the file
  std::function<Bytes(Bytes)> packed;
};

/// The file itself, and of a ROM what is in it without what a dump program put around it.
std::vector<Candidate> candidates_of(const fs::path& path) {
  std::vector<Candidate> all;
  const SourcePtr file = open_file(path);
  all.push_back({read_whole(path), "", [](Bytes b) { return b; }});
  const auto system = rom::detect_system(*file);
  if (!system) return all;
  const rom::Container container = rom::container_of(*file, system->machine);
  if (container.is_plain()) return all;
  const Bytes& whole = all.front().bytes;
  const Bytes header(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(container.header_bytes));
  all.push_back({rom::unpacked(whole, container), "the ROM alone, without what stands around it",
                 [container, header](const Bytes& b) { return rom::packed(b, container, header); }});
  return all;
}

/// The candidate that the patch is for; the file itself where the patch does not tell.
const Candidate& choose(const std::vector<Candidate>& all, const PatchFacts& facts) {
  for (const PatchFit wanted : {PatchFit::source, PatchFit::target})
    for (const Candidate& c : all)
      if (fit_of(facts, c.bytes) == wanted) return c;
  return all.front();
}

/// Below that folder the file whose contents have the patch's checksum.
fs::path found_among(const fs::path& folder, const PatchFacts& facts, const fs::path& patch, JobContext& context) {
  if (!facts.source_crc32)
    throw Error({.code = "patch_tells_nothing",
                 .what = "an IPS patch does not say what file it is for: it cannot be looked for",
                 .file = patch.string(),
                 .hint = "name the file yourself"});
  std::vector<fs::path> files;
  const std::function<void(const FolderNode&)> collect = [&](const FolderNode& node) {
    for (const FolderNode& child : node.children) {
      if (child.folder) collect(child);
      // With a header of up to a few hundred bytes around it.
      constexpr std::uint64_t kMostAround = 512;
      if (!child.folder && child.size_bytes >= *facts.source_bytes &&
          child.size_bytes <= *facts.source_bytes + kMostAround)
        files.push_back(child.host);
    }
  };
  collect(read_folder(folder).root);
  // One that fits as it is before one that has to be unpacked.
  for (const bool whole : {true, false})
    for (const fs::path& file : files) {
      context.progress.check_stop();
      for (const Candidate& c : candidates_of(file))
        if (c.inside.empty() == whole && fit_of(facts, c.bytes) == PatchFit::source) return file;
    }
  throw Error({.code = "no_file_fits",
               .what = "none of these files is the one that the patch is for",
               .file = folder.string(),
               .found = fmt::format("{} of that size", plural(files.size(), "file")),
               .expected = fmt::format("{} bytes, crc32 {:08x}", *facts.source_bytes, *facts.source_crc32)});
}

std::uint64_t differing(ByteView a, ByteView b) {
  const std::size_t most = std::min(a.size(), b.size());
  std::uint64_t n = std::max(a.size(), b.size()) - most;
  for (std::size_t i = 0; i < most; ++i) n += a[i] != b[i] ? 1u : 0u;
  return n;
}

void finish(Changed& told, const fs::path& input, ByteView bytes, const ChangeRules& rules, Listener& listener) {
  told.input = input;
  told.out = rules.replace ? input : rules.out;
  told.size_bytes = bytes.size();
  told.sha1 = digest_of("sha1", bytes);
  told.planned_only = rules.plan_only;
  if (!rules.replace) refuse_existing({rules.out}, rules.inputs, Existing::keep);
  if (!rules.plan_only) told.kept = write_change(input, told.out, bytes, rules);
  listener.result(told);
}

std::string context_of(ByteView bytes, std::uint64_t at, std::size_t length) {
  constexpr std::uint64_t kAround = 12;
  const std::uint64_t from = at - std::min(at, kAround);
  std::string text;
  for (const std::byte b :
       bytes.subspan(from, std::min<std::size_t>(bytes.size() - from, (at - from) + length + kAround))) {
    const char c = static_cast<char>(b);
    text += c >= 0x20 && c < 0x7F ? c : '.';
  }
  return text;
}

}  // namespace

Outcome run(const PatchIdentifyJob& job, Listener& listener, JobContext&) {
  Outcome outcome;
  for (const std::string& word : job.patches) {
    try {
      listener.result(PatchTold{word, read_patch(read_whole(word), word)});
    } catch (const Error& e) {
      if (job.patches.size() == 1 || ends_all(e)) throw;
      outcome.failures.push_back(e.details);
      listener.failed(e);
    }
  }
  return outcome;
}

Outcome run(const PatchApplyJob& job, Listener& listener, JobContext& context) {
  const Bytes patch = read_whole(job.patch);
  const PatchFacts facts = read_patch(patch, job.patch.string());
  const fs::path source = job.source.empty() ? found_among(job.among, facts, job.patch, context) : job.source;
  const std::vector<Candidate> all = candidates_of(source);
  const Candidate& chosen = choose(all, facts);
  Patched patched = apply_patch(patch, chosen.bytes, source.string());
  Changed told{
      .what = patched.turned_back ? "turned back" : "patched", .input = {}, .out = {}, .inside = chosen.inside};
  told.patch = facts;
  told.bytes_changed = differing(chosen.bytes, patched.bytes);
  if (!facts.source_crc32)
    told.warnings.push_back(
        {"no_checksum", "an IPS patch has no checksum: nobody can tell whether this was the right file"});
  if (patched.turned_back)
    told.warnings.push_back({"turned_back", "this is what the patch makes: it was taken out again"});
  ChangeRules rules = job.rules;
  rules.inputs.add(std::vector<fs::path>{job.patch, source});
  finish(told, source, chosen.packed(std::move(patched.bytes)), rules, listener);
  return {};
}

Outcome run(const PatchMakeJob& job, Listener& listener, JobContext&) {
  const Bytes before = read_whole(job.before), after = read_whole(job.after);
  const Bytes patch = make_patch(job.kind, before, after);
  // Before anybody relies on it.
  if (apply_patch(patch, before, job.before.string()).bytes != after)
    throw Error({.code = "proof_failed",
                 .what = fmt::format("an {} patch cannot say what changed here", to_string(job.kind)),
                 .file = job.after.string(),
                 .hint = "make it as bps"});
  Changed told{.what = "made a patch", .input = {}, .out = {}};
  told.patch = read_patch(patch, job.rules.out.string());
  told.bytes_changed = differing(before, after);
  ChangeRules rules = job.rules;
  rules.replace = false;
  rules.inputs.add(std::vector<fs::path>{job.before, job.after});
  finish(told, job.before, patch, rules, listener);
  return {};
}

Outcome run(const ReplaceJob& job, Listener& listener, JobContext&) {
  Bytes bytes = read_whole(job.file);
  Changed told{.what = "replaced", .input = {}, .out = {}};
  for (const Replacement& r : job.replacements) {
    const std::vector<std::uint64_t> found = find_all(bytes, r);
    if (found.size() != job.count)
      throw Error({.code = found.empty() ? "no_match" : "other_count",
                   .what = found.empty() ? "what is to be replaced does not stand in this file"
                                         : "it stands there another number of times than said",
                   .file = job.file.string(),
                   .found = plural(found.size(), "time"),
                   .expected = fmt::format("{}", job.count),
                   .hint = found.empty() ? "check capitals and blanks; <hex> takes bytes" : "<count> says how often"});
    Replaced one{found, r, {}};
    for (const std::uint64_t at : found) one.context.push_back(context_of(bytes, at, r.what.size()));
    for (const std::uint64_t at : found)
      std::copy(r.with.begin(), r.with.end(), bytes.begin() + static_cast<std::ptrdiff_t>(at));
    told.bytes_changed += differing(r.what, r.with) * found.size();
    told.replaced.push_back(std::move(one));
  }
  ChangeRules rules = job.rules;
  rules.inputs.add(job.file);
  finish(told, job.file, bytes, rules, listener);
  return {};
}

}  // namespace opifex::jobs
