#include "opifex/core/jobs/batch.hpp"

#include <algorithm>
#include <map>
#include <set>

#include <fmt/ranges.h>
#include <sys/stat.h>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

std::uint64_t BatchItem::bytes_out() const {
  std::uint64_t sum = 0;
  for (const PlannedFile& f : files) sum += f.size_bytes;
  return sum;
}

std::string title_mark(std::string_view title) {
  constexpr std::string_view kDigits = "0123456789abcdefghijklmnopqrstuv";
  Digest digest("crc32");
  digest.update(as_view(title));
  const auto crc = static_cast<std::uint32_t>(std::stoul(digest.finish(), nullptr, 16));
  std::string mark;
  for (int shift = 27; shift >= 12; shift -= 5) mark += kDigits[(crc >> shift) & 31];
  return mark;
}

namespace {

/// Of image files, for the ratio.
std::uint64_t bytes_of(const Image& image) {
  std::uint64_t sum = 0;
  for (const ImageFile& f : image.files) sum += f.size_bytes;
  return sum != 0 ? sum : image.size_bytes();
}

/// Files compared as the target tells them apart.
std::string name_key(const fs::path& path, const TargetFacts& target) {
  const std::string name = fs::absolute(path).lexically_normal().string();
  return target.limits_names() ? fold_case(name) : name;
}

/// Device of the folder, or of its nearest parent that is there.
std::uint64_t device_of(fs::path folder) {
  std::error_code ignored;
  folder = fs::absolute(folder.empty() ? "." : folder, ignored);
  while (!fs::exists(folder, ignored) && folder.has_relative_path()) folder = folder.parent_path();
  struct stat facts {};
  return ::stat(folder.c_str(), &facts) == 0 ? static_cast<std::uint64_t>(facts.st_dev) : 0;
}

/// "a.cue, b.cue and 3 more"
std::string some(const std::vector<std::string>& names) {
  constexpr std::size_t kMost = 12;
  const std::vector<std::string> first(names.begin(),
                                       names.begin() + static_cast<std::ptrdiff_t>(std::min(names.size(), kMost)));
  return fmt::format("{}{}", fmt::join(first, "; "),
                     names.size() > kMost ? fmt::format("; and {} more", names.size() - kMost) : "");
}

class Batch {
 public:
  Batch(BatchRequest request, Listener& listener, JobContext& context)
      : request_(std::move(request)), listener_(listener), context_(context) {}

  Outcome run() {
    plan_all();
    tell_names_apart();
    sum_up();
    listener_.planned(plan_);
    refuse_same_outputs();
    refuse_losses_of_all();
    refuse_existing_of_all();
    refuse_full_drives();
    if (!request_.rules.plan_only) write_all();
    for (const LeftOut& left : plan_.left_out)
      if (left.failed) outcome_.failures.push_back(left.why);
    return std::move(outcome_);
  }

 private:
  /// Files that stay open from the planning to the writing: a process may have a thousand.
  static constexpr std::size_t kMostOpen = 256;

  PlannedConversion plan_one(std::size_t i, const std::string& stem) {
    return PlannedConversion(request_.order(request_.sources.images[i], stem), request_.rules, context_);
  }

  void note(std::size_t i, const PlannedConversion& planned) {
    BatchItem& item = items_[i];
    item.name = request_.sources.images[i].name;
    item.out = planned.out();
    item.files = planned_files(planned.conversion().plan);
    item.losses.clear();
    for (const Loss& loss : planned.conversion().losses)
      if (is_content_loss(loss.kind)) item.losses.push_back(loss);
    item.bytes_in = bytes_of(planned.image());
    if (plan_.becomes.empty()) {
      plan_.becomes = planned.target().id;
      plan_.target = request_.rules.target(planned.out().parent_path());
    }
  }

  void leave_out(std::size_t i, const Error& error) {
    left_.insert(i);
    plan_.left_out.push_back({request_.sources.images[i].name, error.details});
    listener_.failed(error);
  }

  void plan_all() {
    for (const LeftOut& left : request_.sources.left_out) {
      plan_.left_out.push_back(left);
      if (left.failed) listener_.failed(Error(left.why));
    }
    items_.resize(request_.sources.images.size());
    for (std::size_t i = 0; i < items_.size(); ++i) plan_input(i, "");
  }

  void plan_input(std::size_t i, const std::string& stem) {
    context_.progress.check_stop();
    try {
      auto planned = std::make_unique<PlannedConversion>(plan_one(i, stem));
      if (is_itself(*planned)) return leave_itself(i, *planned);
      note(i, *planned);
      stems_[i] = stem;
      items_[i].done_already = request_.skip_existing && planned->is_done_already(context_);
      planned->in_batch();
      if (request_.rules.plan_only) planned->tell(request_.rules, listener_);
      const std::size_t files = planned->image().files.size() + 1;
      if (open_files_ + files > kMostOpen || request_.rules.plan_only || items_[i].done_already) return;
      open_files_ += files;
      open_[i] = std::move(planned);
    } catch (const Error& e) {
      // A wrong setting is wrong for all of them.
      if (ends_all(e) || e.details.fault == Fault::usage) throw;
      leave_out(i, e);
    }
  }

  /// An image of this format already, where its output would be: what an earlier batch wrote beside its inputs.
  bool is_itself(const PlannedConversion& planned) const {
    return request_.sources.searched && planned.image().format == &planned.target() &&
           InputFiles(std::vector{planned.image().path}).read_as(planned.out()).has_value();
  }

  void leave_itself(std::size_t i, const PlannedConversion& planned) {
    left_.insert(i);
    plan_.left_out.push_back({request_.sources.images[i].name,
                              {.code = "this_format",
                               .what = fmt::format("it is {} already", planned.target().id),
                               .file = planned.image().path.string()},
                              false});
  }

  /// Indices of inputs by the outputs they share, where several do.
  std::vector<std::vector<std::size_t>> clashes() const {
    std::map<std::string, std::set<std::size_t>> by_name;
    for (std::size_t i = 0; i < items_.size(); ++i) {
      if (left_.contains(i)) continue;
      for (const PlannedFile& f : items_[i].files) by_name[name_key(f.path, plan_.target)].insert(i);
      by_name[name_key(items_[i].out, plan_.target)].insert(i);
    }
    std::set<std::vector<std::size_t>> groups;
    for (const auto& [name, inputs] : by_name)
      if (inputs.size() > 1) groups.insert({inputs.begin(), inputs.end()});
    return {groups.begin(), groups.end()};
  }

  /// Different titles that give one name each get a mark made of the title, so that names do not depend on the order.
  void tell_names_apart() {
    for (const auto& group : clashes()) {
      std::set<std::string> titles;
      for (const std::size_t i : group) titles.insert(items_[i].out.stem().string());
      if (titles.size() != group.size()) continue;  // the same title twice: refused below
      for (const std::size_t i : group) {
        const std::string title = items_[i].out.stem().string();
        open_.erase(i);
        plan_input(i, title + "~" + title_mark(title));
      }
    }
  }

  void refuse_same_outputs() const {
    const auto groups = clashes();
    if (groups.empty()) return;
    std::vector<std::string> found;
    for (const auto& group : groups) {
      std::vector<std::string> names;
      for (const std::size_t i : group) names.push_back(items_[i].name);
      found.push_back(fmt::format("{} = {}", fmt::join(names, " + "), items_[group.front()].out.string()));
    }
    throw Error({.fault = Fault::needs_word,
                 .code = "same_output",
                 .what = "several images would get the same name",
                 .file = items_[groups.front().front()].out.string(),
                 .found = some(found),
                 .expected = "a name for each",
                 .hint = "convert them into different folders with <out>, or rename one: <job rename>"});
  }

  void sum_up() {
    plan_.planned_only = request_.rules.plan_only;
    for (std::size_t i = 0; i < items_.size(); ++i) {
      if (left_.contains(i)) continue;
      plan_.items.push_back(items_[i]);
      plan_.bytes_in += items_[i].bytes_in;
      if (!items_[i].done_already) plan_.bytes_out += items_[i].bytes_out();
    }
  }

  void refuse_losses_of_all() const {
    std::vector<std::string> found;
    std::set<std::string> kinds;
    for (std::size_t i = 0; i < items_.size(); ++i) {
      if (left_.contains(i) || items_[i].done_already) continue;
      std::vector<std::string> lost;
      for (const Loss& loss : items_[i].losses)
        if (!loss.accepted) lost.push_back(fmt::format("{} ({})", loss.kind, loss.where)), kinds.insert(loss.kind);
      if (!lost.empty()) found.push_back(fmt::format("{}: {}", items_[i].name, fmt::join(lost, ", ")));
    }
    if (found.empty()) return;
    throw Error({.fault = Fault::needs_word,
                 .code = "loss",
                 .what = fmt::format("{} would be lost in {}, in {} of {}", fmt::join(kinds, " and "), plan_.becomes,
                                     found.size(), plural(items_.size() - left_.size(), "image")),
                 .found = some(found),
                 .hint = fmt::format("add <accept> {} if that is meant; nothing was written", fmt::join(kinds, ","))});
  }

  void refuse_existing_of_all() {
    std::vector<std::string> found;
    std::string code = "exists", first, hint;
    Cause cause = Cause::exists;
    for (std::size_t i = 0; i < items_.size(); ++i) {
      if (left_.contains(i) || items_[i].done_already) continue;
      std::vector<fs::path> targets;
      for (const PlannedFile& f : items_[i].files) targets.push_back(f.path);
      try {
        refuse_existing(targets, request_.rules.inputs, request_.rules.existing);
        PlannedTotal total(plan_.target);  // a name or a file the drive cannot have
        for (const PlannedFile& f : items_[i].files) total.add(f);
      } catch (const Error& e) {
        if (e.details.fault != Fault::needs_word) throw;
        if (found.empty())
          code = e.details.code, cause = e.details.cause, first = e.details.what, hint = e.details.hint;
        found.push_back(e.details.file);
      }
    }
    if (found.empty()) return;
    if (cause == Cause::exists) hint = "<skip-existing> leaves out those that are right, <overwrite> replaces them";
    throw Error({.fault = Fault::needs_word,
                 .code = code,
                 .cause = cause,
                 .what = found.size() == 1 ? first : fmt::format("{}: {} of the batch", first, found.size()),
                 .file = found.front(),
                 .found = found.size() == 1 ? "" : some(found),
                 .hint = hint});
  }

  /// Room on each drive for all that goes there.
  void refuse_full_drives() {
    std::map<std::uint64_t, std::vector<PlannedFile>> by_drive;
    for (std::size_t i = 0; i < items_.size(); ++i) {
      if (left_.contains(i)) continue;
      if (items_[i].done_already) continue;
      for (const PlannedFile& f : items_[i].files) by_drive[device_of(f.path.parent_path())].push_back(f);
    }
    for (const auto& [device, files] : by_drive)
      check_fits(files, request_.rules.target(files.front().path.parent_path()));
  }

  void write_all() {
    const Stopwatch watch;
    BatchSummary summary;
    summary.left_out = plan_.left_out;
    std::uint64_t total = 0, done = 0;
    std::size_t count = 0, number = 0;
    for (std::size_t i = 0; i < items_.size(); ++i)
      if (!left_.contains(i)) total += items_[i].bytes_in, ++count;
    for (std::size_t i = 0; i < items_.size(); ++i) {
      if (left_.contains(i)) continue;
      listener_.begins({++number, count, items_[i].name, done, items_[i].bytes_in, total});
      write_input(i, summary);
      done += items_[i].bytes_in;
    }
    for (const BatchResult& r : summary.written) summary.bytes_in += r.bytes_in, summary.bytes_out += r.bytes_out;
    summary.seconds = watch.seconds();
    listener_.ended(summary);
  }

  void write_input(std::size_t i, BatchSummary& summary) {
    const BatchItem& item = items_[i];
    if (item.done_already) {
      summary.there.push_back({item.name, item.out, item.bytes_in, 0, 0, false});
      return;
    }
    try {
      auto kept = open_.extract(i);
      const std::unique_ptr<PlannedConversion> planned =
          !kept.empty() ? std::move(kept.mapped()) : std::make_unique<PlannedConversion>(plan_one(i, stems_[i]));
      const PlannedConversion::Done done = planned->run(request_.rules, listener_, context_);
      std::uint64_t bytes = 0;
      for (const WrittenFile& f : done.outputs) bytes += f.size_bytes;
      if (done.damaged) outcome_.good = false;
      summary.written.push_back({item.name, item.out, item.bytes_in, bytes, done.seconds, done.damaged});
    } catch (const Error& e) {
      if (ends_all(e)) throw;
      summary.left_out.push_back({item.name, e.details});
      outcome_.failures.push_back(e.details);
      listener_.failed(e);
    }
  }

  BatchRequest request_;
  Listener& listener_;
  JobContext& context_;
  BatchPlan plan_;
  Outcome outcome_;
  std::vector<BatchItem> items_;
  std::map<std::size_t, std::string> stems_;
  std::set<std::size_t> left_;
  std::map<std::size_t, std::unique_ptr<PlannedConversion>> open_;
  std::size_t open_files_ = 0;
};

}  // namespace

Outcome run_batch(BatchRequest request, Listener& listener, JobContext& context) {
  if (request.sources.images.size() != 1 || request.sources.searched || request.skip_existing)
    return Batch(std::move(request), listener, context).run();
  PlannedConversion planned(request.order(request.sources.images.front(), ""), request.rules, context);
  Outcome outcome;
  if (request.rules.plan_only)
    planned.show(request.rules, listener);
  else
    outcome.good = !planned.run(request.rules, listener, context).damaged;
  return outcome;
}

}  // namespace opifex::jobs
