#include "opifex/core/jobs/patch.hpp"

#include <algorithm>
#include <chrono>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/rom/rom.hpp"
#include "opifex/core/io/folder_tree.hpp"
#include "opifex/core/io/output.hpp"
#include "opifex/core/io/target.hpp"

#include "patch_sources.hpp"

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
  const CivilTime t = civil_time(seconds_now());
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

namespace {

using Fill = std::function<void(OutputFile&)>;

/// Writes a file, and reads it back before it has its name: `proves` sees what lies on the drive.
void write_proved(OutputSet& set, const fs::path& target, const Fill& fill,
                  const std::function<bool(const ByteSource&)>& proves) {
  OutputFile& file = set.add(target);
  fill(file);
  set.finish_writing();
  if (!proves(*open_file(file.temporary())))
    throw Error({.fault = Fault::device,
                 .code = "proof_failed",
                 .what = "what was written is not what it should be",
                 .file = target.string(),
                 .hint = "nothing was put in place; check the drive"});
  set.commit();
}

bool are_alike(const ByteSource& a, const ByteSource& b) {
  constexpr std::size_t kStep = 1 << 20;
  if (a.size() != b.size()) return false;
  for (std::uint64_t at = 0; at < a.size(); at += kStep)
    if (read_up_to(a, at, kStep) != read_up_to(b, at, kStep)) return false;
  return true;
}

fs::path write_by(const fs::path& input, const fs::path& out, const Fill& fill,
                  const std::function<bool(const ByteSource&)>& proves, const ChangeRules& rules) {
  if (!rules.replace) {
    OutputSet set(Existing::keep, rules.inputs);
    write_proved(set, out, fill, proves);
    return {};
  }
  // The old one is safe under its other name before the new one takes its place.
  const fs::path kept = dated_name(input);
  const SourcePtr old = open_file(input);
  OutputSet before(Existing::keep);
  write_proved(
      before, kept,
      [&](OutputFile& file) {
        constexpr std::size_t kStep = 1 << 20;
        for (std::uint64_t at = 0; at < old->size(); at += kStep) file.write(read_up_to(*old, at, kStep));
      },
      [&](const ByteSource& there) { return are_alike(there, *old); });
  OutputSet set(Existing::replace);
  write_proved(set, input, fill, proves);
  return kept;
}

}  // namespace

fs::path write_change(const fs::path& input, const fs::path& out, ByteView bytes, const ChangeRules& rules) {
  return write_by(
      input, out, [&](OutputFile& file) { file.write(bytes); },
      [&](const ByteSource& there) {
        const Bytes back = read_up_to(there, 0, static_cast<std::size_t>(there.size()));
        return std::equal(back.begin(), back.end(), bytes.begin(), bytes.end());
      },
      rules);
}

namespace {

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

namespace {

/// What lies on the drive, once: its checksums, and how much of it is new.
struct Looked {
  std::string sha1, crc32;
  std::uint64_t changed = 0;
};
Looked look_at(const ByteSource& file, const ByteSource& before) {
  constexpr std::size_t kStep = 1 << 20;
  Digest sha1("sha1"), crc32("crc32");
  Looked looked;
  for (std::uint64_t at = 0; at < std::max(file.size(), before.size()); at += kStep) {
    const Bytes now = at < file.size() ? read_up_to(file, at, kStep) : Bytes(),
                old = at < before.size() ? read_up_to(before, at, kStep) : Bytes();
    sha1.update(now);
    crc32.update(now);
    looked.changed += differing(old, now);
  }
  looked.sha1 = sha1.finish();
  looked.crc32 = crc32.finish();
  return looked;
}

class Applying {
 public:
  Applying(const PatchApplyJob& job, JobContext& context)
      : patch_(read_whole(job.patch)),
        facts_(read_patch(patch_, job.patch.string())),
        input_(job.source.empty() ? found_among(job.among, facts_, job.patch, context) : job.source),
        all_(patch_sources(input_)),
        chosen_(choose(all_, facts_)),
        rules_(job.rules) {
    rules_.inputs.add(std::vector<fs::path>{job.patch, input_});
  }

  void run(Listener& listener) {
    const PatchSource& source = chosen_.source;
    told_ = {.what = turns_back() ? "turned back" : "patched", .input = {}, .out = {}, .inside = source.inside};
    told_.patch = facts_;
    if (!facts_.source_crc32)
      told_.warnings.push_back(
          {"no_checksum", "an IPS patch has no checksum: nobody can tell whether this was the right file"});
    if (turns_back()) told_.warnings.push_back({"turned_back", "this is what the patch makes: it was taken out again"});
    refuse_in_place();
    const std::uint64_t most =
        std::max(source.bytes->size(), patched_bytes(facts_, patch_, source.bytes->size(), false));
    if (source.packed || (rules_.plan_only && most <= kMostPatchedBytes)) return in_memory(listener);
    told_.input = input_;
    told_.out = rules_.replace ? input_ : rules_.out;
    told_.planned_only = rules_.plan_only;
    if (!rules_.replace) refuse_existing({rules_.out}, rules_.inputs, Existing::keep);
    require_fit(facts_, chosen_.fit, *source.bytes, input_.string());
    told_.size_bytes = patched_bytes(facts_, patch_, source.bytes->size(), turns_back());
    check_fits({{told_.out, told_.size_bytes}}, target_facts(told_.out.parent_path()));
    if (rules_.plan_only)
      told_.bytes_changed = facts_.changed_bytes;  // what comes out shows when it is made
    else
      stream();
    listener.result(told_);
  }

 private:
  bool turns_back() const { return chosen_.fit == PatchFit::target && facts_.kind == PatchKind::ups; }

  /// What comes out is no container, and no archive: it does not take the place of one.
  void refuse_in_place() const {
    if (!rules_.replace || chosen_.source.inside.empty() || chosen_.source.packed) return;
    throw Error({.code = "not_in_place",
                 .what = "what the patch is for is inside this file, and comes out of it",
                 .file = input_.string(),
                 .found = chosen_.source.inside,
                 .hint = "<out> NEW writes it; <job convert> packs it again"});
  }

  void in_memory(Listener& listener) {
    const Bytes before = read_up_to(*chosen_.source.bytes, 0, static_cast<std::size_t>(chosen_.source.bytes->size()));
    Patched patched = apply_patch(patch_, before, input_.string());
    told_.bytes_changed = differing(before, patched.bytes);
    if (chosen_.source.packed) patched.bytes = chosen_.source.packed(std::move(patched.bytes));
    finish(told_, input_, patched.bytes, rules_, listener);
  }

  void stream() {
    told_.kept = write_by(
        input_, told_.out, [&](OutputFile& file) { apply_patch(patch_, *chosen_.source.bytes, file, input_.string()); },
        [&](const ByteSource& there) { return is_promised(there); }, rules_);
  }

  bool is_promised(const ByteSource& there) {
    const Looked looked = look_at(there, *chosen_.source.bytes);
    told_.sha1 = looked.sha1;
    told_.bytes_changed = looked.changed;
    const auto wanted = turns_back() ? facts_.source_crc32 : facts_.target_crc32;
    return there.size() == told_.size_bytes && (!wanted || looked.crc32 == fmt::format("{:08x}", *wanted));
  }

  Bytes patch_;
  PatchFacts facts_;
  fs::path input_;
  std::vector<PatchSource> all_;
  ChosenSource chosen_;
  ChangeRules rules_;
  Changed told_;
};

}  // namespace

Outcome run(const PatchApplyJob& job, Listener& listener, JobContext& context) {
  Applying(job, context).run(listener);
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
