#include "opifex/core/jobs/edit.hpp"

#include <algorithm>
#include <cstring>
#include <tuple>

#include <sys/stat.h>
#include <unistd.h>

#include "opifex/core/base/dates.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/image/inputs.hpp"
#include "opifex/core/io/output.hpp"
#include "opifex/core/jobs/settings.hpp"
#include "opifex/core/volumes/kept_facts.hpp"

namespace opifex::jobs {

namespace fs = std::filesystem;

namespace {

[[noreturn]] void usage(std::string what, std::string hint, std::string found = {}) {
  throw Error({.fault = Fault::usage,
               .code = "usage",
               .what = std::move(what),
               .found = printable(found),
               .hint = std::move(hint)});
}

/// "A=B"; the first = that parts them.
std::pair<std::string, std::string> parted(const std::string& text, const Setting& setting) {
  const std::size_t at = text.find('=');
  if (at == std::string::npos || at == 0)
    usage(fmt::format("{} takes two words with = between them", setting.name), std::string(setting.value), text);
  return {text.substr(0, at), text.substr(at + 1)};
}

Bytes bytes_of_digits(const std::string& digits) {
  Bytes bytes;
  if (digits.size() % 2 != 0 || digits.find_first_not_of("0123456789abcdefABCDEF") != std::string::npos)
    usage("these are no hexadecimal digits", "two digits a byte", digits);
  for (std::size_t i = 0; i < digits.size(); i += 2)
    bytes.push_back(static_cast<std::byte>(std::stoul(digits.substr(i, 2), nullptr, 16)));
  return bytes;
}

/// "PATH@OFFSET:OLD=NEW"
VolumeEdit change_of_bytes(const std::string& text) {
  const std::size_t colon = text.rfind(':'), at = text.rfind('@', colon);
  const std::size_t equals = text.find('=', colon == std::string::npos ? 0 : colon);
  if (colon == std::string::npos || at == std::string::npos || equals == std::string::npos || at == 0)
    usage("bytes takes a file, a place in it, and the old and the new bytes", "PATH@OFFSET:OLD=NEW, as SAVE@768:00=63",
          text);
  VolumeEdit edit{.kind = VolumeEdit::Kind::bytes, .path = text.substr(0, at)};
  const std::string offset = text.substr(at + 1, colon - at - 1);
  std::size_t used = 0;
  try {
    edit.offset = std::stoull(offset, &used, 0);
  } catch (const std::exception&) {
    used = 0;
  }
  if (used == 0 || used != offset.size()) usage("this is no place in a file", "a number, as 768 or 0x300", offset);
  edit.old_bytes = bytes_of_digits(text.substr(colon + 1, equals - colon - 1));
  edit.new_bytes = bytes_of_digits(text.substr(equals + 1));
  return edit;
}

VolumeEdit boot_of(const std::string& word) {
  VolumeEdit edit{.kind = VolumeEdit::Kind::boot, .path = {}, .text = word};
  if (word == "none") return edit;
  if (word != "standard") edit.contents = open_file(word);
  return edit;
}

}  // namespace

EditJob EditJob::of(const std::vector<std::string>& words, const Settings& settings, EditVerb verb) {
  using Kind = VolumeEdit::Kind;
  EditJob job{.image = words.front()};
  job.card = static_cast<std::size_t>(settings.number(kCard).value_or(0));
  job.at = settings.text(kAt);
  job.name = settings.text(kName);
  job.replace = settings.flag(kOverwrite);
  job.history = settings.text(kHistory);
  if (settings.has(kKeepOld)) job.keep_old = settings.text(kKeepOld) == "yes";
  job.plan_only = settings.flag(kPlan);
  job.puts = settings.all(kPut);
  std::vector<std::string> drops = settings.all(kDrop);
  const std::vector<std::string> rest(words.begin() + 1, words.end());
  if (verb == EditVerb::put) job.puts.insert(job.puts.end(), rest.begin(), rest.end());
  if (verb == EditVerb::drop) drops.insert(drops.end(), rest.begin(), rest.end());
  if (verb == EditVerb::edit && !rest.empty())
    usage("edit takes one image", "what is to be done stands in options", rest[0]);
  for (const std::string& name : settings.all(kUndelete)) job.before.push_back({.kind = Kind::undelete, .path = name});
  for (const std::string& path : drops) {
    VolumeEdit edit{.kind = Kind::drop, .path = path};
    edit.with_all = settings.flag(kWithAll);
    job.before.push_back(std::move(edit));
  }
  for (const std::string& path : settings.all(kFolder)) job.before.push_back({.kind = Kind::make_folder, .path = path});
  for (const std::string& text : settings.all(kMove)) {
    const auto [from, to] = parted(text, kMove);
    job.before.push_back({.kind = Kind::move, .path = from, .text = to});
  }
  for (const Setting* each : {&kComment, &kProtect})
    for (const std::string& text : settings.all(*each)) {
      const auto [path, value] = parted(text, *each);
      job.after.push_back({.kind = each == &kComment ? Kind::comment : Kind::protect, .path = path, .text = value});
    }
  for (const std::string& text : settings.all(kBytes)) job.after.push_back(change_of_bytes(text));
  if (settings.has(kLabel)) job.after.push_back({.kind = Kind::relabel, .path = {}, .text = settings.text(kLabel)});
  if (settings.has(kBootCode)) job.after.push_back(boot_of(settings.text(kBootCode)));
  if (job.puts.empty() && job.before.empty() && job.after.empty())
    usage("nothing is named that should be changed", "<job help> edit lists what can be");
  if (!job.name.empty() && job.puts.size() != 1)
    usage("a name is for one file", "put the others in a call of their own", job.name);
  return job;
}

namespace {

/// Whole images are compared: byte by byte that took a third of the time.
bool same_bytes(const Bytes& a, const Bytes& b) {
  return a.size() == b.size() && (a.empty() || std::memcmp(a.data(), b.data(), a.size()) == 0);
}

/// How many bytes of an image another one has instead, and in how many of its blocks.
std::pair<std::uint64_t, std::uint64_t> count_changes(ByteView before, ByteView after, std::size_t block_bytes) {
  std::uint64_t bytes = 0, blocks = 0;
  for (std::size_t at = 0; at < after.size(); at += block_bytes) {
    const std::size_t n = std::min(block_bytes, after.size() - at);
    const unsigned char *x = raw_bytes(before.subspan(at, n)), *y = raw_bytes(after.subspan(at, n));
    if (std::memcmp(x, y, n) == 0) continue;
    ++blocks;
    for (std::size_t i = 0; i < n; ++i) bytes += x[i] != y[i] ? 1U : 0U;
  }
  return {bytes, blocks};
}

/// An image on the drive, as it is now.
class OpenedImage {
 public:
  explicit OpenedImage(const std::string& word) : named_(word) {
    if (fs::is_directory(word)) usage("this is a folder, not an image", "name an image in it", word);
    if (open_archive(word, {}))
      throw Error({.code = "packed",
                   .what = "what is packed is not changed",
                   .file = word,
                   .hint = "<job convert> writes the image itself, which can be"});
    image_ = open_image(word);
    if (!image_.parts.empty())
      throw Error({.code = "packed",
                   .what = "an image in parts is not changed",
                   .file = word,
                   .hint = "<job merge> makes one file of it"});
    const auto* blocks = std::get_if<BlockContent>(&image_.content);
    const bool small = blocks && !blocks->is_disc();
    if (!small || blocks->bytes->size() > kMostBytes) refuse_kind();
    target_ = fs::canonical(word);  // a link stays one: what it leads to is changed
    // Its folder would let it be replaced: its owner said that it is not to be.
    if (::access(target_.c_str(), W_OK) != 0)
      throw Error({.fault = Fault::needs_word,
                   .code = "read_only",
                   .what = "the image may not be written",
                   .file = word,
                   .hint = "change its permissions, or work on a copy"});
    bytes_ = read_up_to(*blocks->bytes, 0, static_cast<std::size_t>(blocks->bytes->size()));
    if (!image_.complete)
      throw Error({.code = "damaged",
                   .what = "the image is not complete: it is never changed so",
                   .file = word,
                   .found = image_.warnings.empty() ? "" : image_.warnings.front().message});
  }

  const fs::path& named() const { return named_; }
  const fs::path& target() const { return target_; }
  const Bytes& bytes() const { return bytes_; }
  std::size_t block_bytes() const { return std::get<BlockContent>(image_.content).block_bytes; }
  bool is_card() const { return std::get<BlockContent>(image_.content).medium == BlockMedium::memory_card; }

  /// The same image with other bytes.
  std::vector<Volume> volumes(Bytes bytes) const {
    Image other = image_;
    std::get<BlockContent>(other.content).bytes = memory_source(std::move(bytes), named_.string());
    return read_volumes(other);
  }
  [[noreturn]] void refuse_kind() const {
    throw Error({.code = "not_editable",
                 .what = "files can be put into floppies and memory cards, not into this",
                 .file = named_.string(),
                 .found = describe(image_.content),
                 .hint = "<job extract>, and <job build> makes an image of the folder"});
  }

 private:
  static constexpr std::uint64_t kMostBytes = 4 << 20;
  fs::path named_, target_;
  Image image_;
  Bytes bytes_;
};

class Editing {
 public:
  explicit Editing(const EditJob& job) : job_(job), image_(job.image), volumes_(image_.volumes(image_.bytes())) {
    if (volumes_.empty()) image_.refuse_kind();
    choose();
    told_.path = job.image;
    told_.system = name_of(volume());
    told_.planned_only = job.plan_only;
    plan();
    prove();
  }

  void run(Listener& listener) {
    if (!job_.plan_only && told_.changed_bytes != 0) {
      if (job_.keep_old.value_or(image_.is_card()))
        told_.kept = SaveHistory(image_.target(), job_.history).store(image_.bytes(), "before it was changed");
      replace();
    }
    listener.result(told_);
  }

 private:
  const Volume& volume() const { return volumes_[number_]; }

  void choose() {
    if (job_.card > volumes_.size())
      usage("there is no card of this number", fmt::format("the file has {}", plural(volumes_.size(), "card")),
            std::to_string(job_.card));
    if (job_.card == 0 && volumes_.size() > 1)
      throw Error({.fault = Fault::usage,
                   .code = "several_cards",
                   .what = "there are several cards in this file",
                   .file = job_.image,
                   .found = plural(volumes_.size(), "card"),
                   .hint = "<card> N says which one"});
    number_ = job_.card == 0 ? 0 : job_.card - 1;
    if (!volume().unlisted.empty())
      throw Error({.code = "not_editable",
                   .what = "nothing can be put on this disk",
                   .file = job_.image,
                   .found = volume().unlisted});
    system_ = file_system_of(volume());
    if (!system_ || !system_->edit) image_.refuse_kind();
  }

  void collect() {
    edits_ = job_.before;
    for (const std::string& from : job_.puts) {
      std::vector<std::string> notices;
      PutRequest request{.from = from, .at = job_.at, .name = job_.name, .replace = job_.replace};
      for (VolumeEdit& e : edits_for(request, {&volume()}, notices)) {
        // A folder that an earlier one of the same call has made already.
        const bool again = e.kind == VolumeEdit::Kind::make_folder &&
                           std::any_of(edits_.begin(), edits_.end(), [&](const VolumeEdit& other) {
                             return other.kind == e.kind && fold_case(other.path) == fold_case(e.path);
                           });
        if (!again) edits_.push_back(std::move(e));
      }
      for (std::string& notice : notices) told_.warnings.push_back({"left_out", std::move(notice)});
    }
    edits_.insert(edits_.end(), job_.after.begin(), job_.after.end());
  }

  /// What the change does, in memory.
  void plan() {
    collect();
    const VolumePlace place{memory_source(image_.bytes(), job_.image), number_, nullptr};
    EditPlan plan;
    try {
      plan = system_->edit(place, edits_, seconds_now());
    } catch (const Error& e) {
      ErrorDetails d = e.details;
      if (d.file.empty()) d.file = job_.image;
      throw Error(std::move(d));
    }
    after_ = image_.bytes();
    apply_ranges(after_, plan.ranges);
    told_.steps = std::move(plan.steps);
    std::tie(told_.changed_bytes, told_.changed_blocks) = count_changes(image_.bytes(), after_, image_.block_bytes());
    told_.sha1 = digest_of("sha1", after_);
    const bool of_bytes = std::any_of(edits_.begin(), edits_.end(),
                                      [](const VolumeEdit& e) { return e.kind == VolumeEdit::Kind::bytes; });
    if (of_bytes)
      told_.warnings.push_back(
          {"own_checksum", "a game may have a checksum of its own in its save: it is not made anew"});
  }

  [[noreturn]] void not_as_planned(const char* otherwise) const {
    throw Error({.fault = Fault::device,
                 .code = "proof_failed",
                 .what = fmt::format("the changed image does not read as it should: {}", otherwise),
                 .file = job_.image,
                 .hint = "check the drive and the memory of this computer"});
  }

  /// What the planned bytes read as: only they are ever put in place.
  void prove() {
    const std::vector<Volume> now = image_.volumes(after_);
    if (now.size() != volumes_.size()) not_as_planned("nothing was written");
    require_edited(volume(), now[number_], edits_, told_.steps);
    if (volume().space) told_.before = *volume().space;
    if (now[number_].space) told_.after = *now[number_].space;
  }

  void replace() {
    const fs::path& target = image_.target();
    struct stat facts {};
    const bool known = ::stat(target.c_str(), &facts) == 0;
    OutputSet set(Existing::replace);
    OutputFile& copy = set.add(target);
    copy.write(after_);
    set.finish_writing();
    // As far as this user may: the copy belongs to whom the image belonged.
    if (known && ::chown(copy.temporary().c_str(), facts.st_uid, facts.st_gid) != 0)
      told_.warnings.push_back({"owner", "the image belongs to you now: its former owner cannot be set"});
    if (known) ::chmod(copy.temporary().c_str(), facts.st_mode & 07777);
    const SourcePtr written = open_file(copy.temporary());
    if (!same_bytes(read_up_to(*written, 0, after_.size() + 1), after_)) not_as_planned("nothing was put in place");
    const SourcePtr now = open_file(target);
    if (now->size() != image_.bytes().size() || !same_bytes(read_up_to(*now, 0, image_.bytes().size()), image_.bytes()))
      throw Error({.code = "image_changed",
                   .what = "somebody else changed the image in between: nothing was put in place",
                   .file = job_.image,
                   .hint = "run the job again"});
    set.commit();
  }

  const EditJob& job_;
  OpenedImage image_;
  std::vector<Volume> volumes_;
  std::size_t number_ = 0;
  const FileSystem* system_ = nullptr;
  std::vector<VolumeEdit> edits_;
  Bytes after_;
  Edited told_;
};

}  // namespace

Outcome run(const EditJob& job, Listener& listener, JobContext&) {
  Editing(job).run(listener);
  return {};
}

}  // namespace opifex::jobs
