#include "opifex/core/check/check.hpp"

#include <algorithm>
#include <chrono>
#include <numeric>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/core/check/compare.hpp"
#include "opifex/core/check/prove.hpp"
#include "opifex/report/text.hpp"
#include "opifex/report/volume.hpp"

#include "command.hpp"

namespace opifex::cli {
namespace {

void declare_check(po::options_description& options) {
  options.add_options()("hashes", po::value<std::string>()->value_name("LIST")->default_value("crc32,md5,sha1"),
                        "crc32, md5, sha1, sha256, sha512 ..., or none")(
      "same-as", po::value<std::string>()->value_name("OTHER"),
      "only compare the content with another image or with a folder")(
      "repair", po::bool_switch(), "write a copy with everything mended that can be; needs --out")(
      "out", po::value<std::string>()->value_name("PATH"), "where the repaired copy goes")(
      "overwrite", po::bool_switch(), "replace existing files")("fs", po::value<std::string>()->value_name("TYPE"),
                                                                "rules of the target drive");
  declare_read_options(options);
}

CheckOptions check_options(const Session& session) {
  CheckOptions options;
  options.hashes = comma_list(session.text("hashes"));
  if (options.hashes == std::vector<std::string>{"none"}) options.hashes.clear();
  for (const std::string& name : options.hashes)
    if (std::find(digest_names().begin(), digest_names().end(), name) == digest_names().end())
      unknown_word("hash", name, digest_names());
  return options;
}

std::uint64_t left_bad(const CheckResult& result, bool when_repaired) {
  return std::accumulate(
      result.tracks.begin(), result.tracks.end(), std::uint64_t{0},
      [&](std::uint64_t sum, const TrackCheck& t) { return sum + t.bad - (when_repaired ? t.repairable : 0); });
}

/// Writes the copy, proves that it is the input with its sectors mended, and checks it before it gets its name: that is
/// what the user will keep.
void repair(Session& session, const Image& image, const CheckResult& result) {
  const Image repaired = repaired_view(image, result);
  const auto out = leading_output(repaired, *repaired.format, session.text("out"));
  Conversion conversion;
  conversion.plan = plan_repaired_copy(repaired, out);
  report::JobResult done;
  const auto start = std::chrono::steady_clock::now();
  WriteJob job = write_job(session, out.parent_path());
  Image copy;
  CheckResult after;
  job.inspect = [&](const FileSpacePtr& staged, const std::vector<WrittenFile>& written) {
    OpenOptions opening;
    opening.files = staged;
    const auto lead = leading_file(conversion.plan, written).path;
    copy = open_image(lead, opening);
    const bool set = repaired.format->holds.unstored_gaps;
    const Proof proof = set ? prove_same(repaired, copy, {repaired.format->holds}, session.work())
                            : prove_copies(conversion.plan, *staged, written, session.work());
    done.proof_sha1 = proof.sha1;
    done.proof_compared = proof.compared + "; those that were damaged as they were mended";
    after = check_image(copy, check_options(session), session.work());
    if (left_bad(after, false) == left_bad(result, true)) return;
    throw Error({.fault = Fault::device,
                 .code = "proof_failed",
                 .what = "the repaired copy has other bad sectors than it should",
                 .file = lead.string(),
                 .found = plural(left_bad(after, false), "bad sector"),
                 .expected = fmt::format("{}", left_bad(result, true)),
                 .hint = "nothing was put in place; check the memory and the drives of this machine"});
  };
  done.outputs = write_outputs(repaired, conversion.plan, job, session.work());
  done.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  session.result(report::job_json(image, conversion, done), report::job_text(conversion, done));
  session.result(report::check_json(copy, after), report::check_text(copy, after));
  if (after.verdict != Verdict::intact) session.bad_news();
}

/// Is the content the same as that of another image, or of a folder?
void compare(Session& session, const std::string& path, const std::string& other) {
  const Image here = one_image(session, path, open_options(session));
  const Comparison result =
      std::filesystem::is_directory(other)
          ? compare_with_folder(here, other, session.work())
          : compare_images(here, one_image(session, other, open_options(session)), session.work());
  session.result(report::comparison_json(here, other, result), report::comparison_text(here, other, result));
  if (!result.same()) session.bad_news();
}

void run_check(Session& session) {
  if (const std::string other = session.text("same-as"); !other.empty()) {
    for (const std::string& path : session.list("words")) compare(session, path, other);
    return;
  }
  const bool wants_repair = session.flag("repair");
  if (wants_repair && session.text("out").empty())
    throw Error({.fault = Fault::usage,
                 .code = "usage",
                 .what = "check --repair writes a copy and needs --out PATH for it",
                 .hint = "the input is never changed"});
  if (wants_repair && session.list("words").size() != 1)
    throw Error({.fault = Fault::usage, .code = "usage", .what = "check --repair takes one image at a time"});
  const CheckOptions options = check_options(session);
  OpenOptions opening = open_options(session);
  opening.allow_missing = true;
  const auto check = [&](const Input& input) {
    const Image image = open_input(input);
    if (wants_repair) refuse_unrepairable(image);
    const CheckResult result = check_image(image, options, session.work());
    session.result(
        report::check_json(image, result),
        report::check_text(image, result, wants_repair ? report::RepairHint::leave_out : report::RepairHint::give));
    // A repaired copy is good news; what stays broken is told by its own check.
    if (wants_repair)
      repair(session, image, result);
    else if (result.verdict != Verdict::intact)
      session.bad_news();
  };
  for (const std::string& path : session.list("words")) {
    try {
      for (const Input& input : inputs_of(session, path, opening).images) check(input);
    } catch (const Error& e) {
      if (e.details.fault == Fault::interrupted) throw;
      session.failed(e);
    }
  }
}

}  // namespace

extern const Command kCheck = {"check",
                               "INPUT...",
                               "verifies every sector and takes all hashes in one pass: intact? complete?",
                               "Each data sector's sync, address, mode, EDC and ECC is verified, and the Q channel "
                               "where it is stored. Damage is told as\n"
                               "ranges with what can be repaired. Exit code 1 if something is wrong. The hashes of a "
                               "track are those its own bin would have.",
                               "  opifex check 'Moth & Lantern.cue'\n  opifex check game.bin --hashes sha256\n  opifex "
                               "check game.cue --repair --out mended/\n",
                               &declare_check,
                               kSomeWords,
                               &run_check};

}  // namespace opifex::cli
