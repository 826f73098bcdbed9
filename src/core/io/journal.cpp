#include "opifex/core/io/journal.hpp"

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <optional>
#include <set>

#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include "opifex/core/base/bytes.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/io/byte_source.hpp"
#include "opifex/core/io/file_descriptor.hpp"
#include "opifex/core/io/output.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

constexpr std::string_view kSuffix = ".opifex-journal";
constexpr std::string_view kFirstLine = "opifex journal 1";

bool is_there(const fs::path& path) {
  struct stat facts {};
  return ::lstat(path.c_str(), &facts) == 0;
}

/// Size and date of a file: what a journal means by a name. Renaming changes neither.
std::string stamp_of(const fs::path& path) {
  struct stat facts {};
  if (::lstat(path.c_str(), &facts) != 0 || !S_ISREG(facts.st_mode)) return {};
  return fmt::format("{}/{}.{:09}", facts.st_size, facts.st_mtim.tv_sec, facts.st_mtim.tv_nsec);
}

/// What a journal says: names relative to its own folder, so that a drive may be mounted elsewhere by then.
struct Plan {
  std::vector<Placing> files;
  std::vector<fs::path> remove;
  std::vector<std::string> file_stamps = {}, remove_stamps = {};

  void stamp() {
    for (const Placing& p : files) file_stamps.push_back(stamp_of(p.from));
    for (const fs::path& r : remove) remove_stamps.push_back(stamp_of(r));
  }
  /// Every file is where it was or where it goes to, and still the one that was meant.
  bool can_go_on() const {
    for (std::size_t i = 0; i < files.size(); ++i)
      if (stamp_of(is_there(files[i].from) ? files[i].from : files[i].to) != file_stamps[i]) return false;
    for (std::size_t i = 0; i < remove.size(); ++i)
      if (is_there(remove[i]) && stamp_of(remove[i]) != remove_stamps[i]) return false;
    return true;
  }
};

/// Names may hold any byte but NUL: each stands in hexadecimal.
std::string encoded(const fs::path& path) { return path.empty() ? "-" : hex(as_view(path.string())); }

std::optional<fs::path> decoded(std::string_view text) {
  if (text == "-") return fs::path();
  if (text.empty() || text.size() % 2 != 0) return std::nullopt;
  std::string name;
  for (std::size_t i = 0; i < text.size(); i += 2) {
    unsigned value = 0;
    for (const char c : text.substr(i, 2)) {
      const std::size_t digit = std::string_view("0123456789abcdef").find(c);
      if (digit == std::string_view::npos) return std::nullopt;
      value = value << 4 | static_cast<unsigned>(digit);
    }
    if (value == 0) return std::nullopt;
    name += static_cast<char>(value);
  }
  return fs::path(name);
}

fs::path relative_to(const fs::path& path, const fs::path& folder) {
  return fs::absolute(path).lexically_normal().lexically_relative(fs::absolute(folder).lexically_normal());
}

/// A journal may come from a stranger: it has no say about other folders.
bool leads_out(const fs::path& name) {
  return name.is_absolute() || std::find(name.begin(), name.end(), "..") != name.end();
}

std::string print(const Plan& plan, const fs::path& folder) {
  std::string text = std::string(kFirstLine) + "\n";
  for (std::size_t i = 0; i < plan.files.size(); ++i) {
    const Placing& p = plan.files[i];
    text += fmt::format("place {} {} {} {}\n", plan.file_stamps[i], encoded(relative_to(p.from, folder)),
                        encoded(relative_to(p.to, folder)),
                        encoded(p.aside.empty() ? p.aside : relative_to(p.aside, folder)));
  }
  for (std::size_t i = 0; i < plan.remove.size(); ++i)
    text += fmt::format("remove {} {}\n", plan.remove_stamps[i], encoded(relative_to(plan.remove[i], folder)));
  // Cut off in the middle it must not be taken for whole.
  return text + fmt::format("end {}\n", digest_of("sha1", as_view(text)));
}

/// Nothing if it is not whole: then nothing of it was begun.
std::optional<Plan> parse(const std::string& text, const fs::path& folder) {
  const std::size_t end = text.rfind("end ");
  if (!text.starts_with(kFirstLine) || end == std::string::npos ||
      text.substr(end) != fmt::format("end {}\n", digest_of("sha1", as_view(std::string_view(text).substr(0, end)))))
    return std::nullopt;
  Plan plan;
  for (std::size_t at = text.find('\n') + 1; at < end; at = text.find('\n', at) + 1) {
    const std::vector<std::string_view> words =
        split_words(std::string_view(text).substr(at, text.find('\n', at) - at));
    if (words.size() < 3) return std::nullopt;
    std::vector<fs::path> names;
    for (std::size_t i = 2; i < words.size(); ++i) {
      const auto name = decoded(words[i]);
      if (!name || leads_out(*name)) return std::nullopt;
      names.push_back(name->empty() ? fs::path() : folder / *name);
    }
    if (words[0] == "place" && names.size() == 3) {
      plan.files.push_back({names[0], names[1], names[2]});
      plan.file_stamps.emplace_back(words[1]);
    } else if (words[0] == "remove" && names.size() == 1) {
      plan.remove.push_back(names[0]);
      plan.remove_stamps.emplace_back(words[1]);
    } else {
      return std::nullopt;
    }
  }
  return plan;
}

[[noreturn]] void in_the_way(const fs::path& path) {
  throw Error({.fault = Fault::needs_word,
               .code = "exists",
               .cause = Cause::exists,
               .what = "a file of this name is there already",
               .file = path.string(),
               .hint = "<overwrite> replaces it; <out> gives another name"});
}

/// One file, from where it is.
void place_now(const Placing& p) {
  if (!p.aside.empty() && !is_there(p.aside) && is_there(p.to)) rename_without_replacing(p.to, p.aside);
  rename_without_replacing(p.from, p.to);
}

/// One file, from wherever an interruption left it.
void place(const Placing& p) {
  if (is_there(p.from)) place_now(p);  // else it was placed before
}

/// What was put aside for a file that did not get its name.
void restore_aside(const Placing& p) {
  if (!p.aside.empty() && is_there(p.aside) && !is_there(p.to)) rename_without_replacing(p.aside, p.to);
}

void take_back(const Placing& p) {
  if (!is_there(p.from) && is_there(p.to)) rename_without_replacing(p.to, p.from);
  restore_aside(p);
}

/// A file that went since the plan was made was not placed before, as after an interruption.
void require_all(const std::vector<Placing>& files) {
  for (const Placing& p : files)
    if (!is_there(p.from))
      throw Error({.code = "missing_file",
                   .what = "a file that was to get its name is gone",
                   .file = p.from.string(),
                   .hint = "nothing was renamed: see what became of it, and run the command again"});
}

std::set<fs::path> folders_of(const Plan& plan) {
  std::set<fs::path> folders;
  for (const Placing& p : plan.files) {
    folders.insert(p.from.parent_path());
    folders.insert(p.to.parent_path());
  }
  for (const fs::path& r : plan.remove) folders.insert(r.parent_path());
  return folders;
}

void finish(const Plan& plan, const fs::path& journal) {
  for (const Placing& p : plan.files)
    if (!p.aside.empty() && ::unlink(p.aside.c_str()) != 0 && errno != ENOENT)
      throw_system_error("cannot remove the replaced file", p.aside.string(), errno);
  for (const fs::path& r : plan.remove)
    if (::unlink(r.c_str()) != 0 && errno != ENOENT)
      throw_system_error("cannot remove the file that has another name now", r.string(), errno);
  ::unlink(journal.c_str());
  for (const fs::path& folder : folders_of(plan)) sync_folder(folder);
}

/// The journal of a job, locked while it runs.
class OpenJournal {
 public:
  OpenJournal(fs::path path, const std::string& text) : path_(std::move(path)) {
    fd_ = FileDescriptor(::open(path_.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0666));
    if (fd_ < 0) throw_system_error("cannot create the journal", path_.string(), errno);
    ::flock(fd_, LOCK_EX | LOCK_NB);  // best effort: some network drives have no locks
    try {
      for (std::string_view left = text; !left.empty();) {
        const ssize_t n = ::write(fd_, left.data(), left.size());
        if (n < 0 && errno == EINTR) continue;
        if (n < 0) throw_system_error("cannot write the journal", path_.string(), errno);
        left.remove_prefix(static_cast<std::size_t>(n));
      }
      if (::fsync(fd_) != 0) throw_system_error("cannot finish the journal", path_.string(), errno);
      sync_folder(path_.parent_path());
    } catch (...) {
      ::unlink(path_.c_str());
      throw;
    }
  }
  OpenJournal(const OpenJournal&) = delete;
  OpenJournal& operator=(const OpenJournal&) = delete;
  const fs::path& path() const { return path_; }

 private:
  fs::path path_;
  FileDescriptor fd_;
};

fs::path journal_for(const fs::path& lead) {
  std::string name = "." + lead.filename().string();
  constexpr std::size_t kLongestName = 255;
  if (name.size() + kSuffix.size() > kLongestName) name = "." + digest_of("md5", as_view(name));
  return lead.parent_path() / (name + std::string(kSuffix));
}

/// Read under its lock. Nothing if another job finished it in the meantime.
std::vector<fs::path> finish_one(const fs::path& journal, const fs::path& folder) {
  const FileDescriptor fd(::open(journal.c_str(), O_RDWR | O_CLOEXEC | O_NOFOLLOW));
  if (fd < 0 && errno == ENOENT) return {};
  if (fd < 0) throw_system_error("cannot open the journal of an interrupted job", journal.string(), errno);
  if (::flock(fd, LOCK_EX | LOCK_NB) != 0 && errno == EWOULDBLOCK)
    throw Error({.fault = Fault::needs_word,
                 .code = "busy",
                 .what = "another job is putting its files in place here",
                 .file = journal.string(),
                 .hint = "wait for it, or give another folder with <out>"});
  constexpr std::size_t kMostText = 64 << 20;
  const Bytes bytes = read_up_to(*open_file(journal), 0, kMostText);
  const auto plan = parse(std::string(as_text(bytes)), folder);
  if (!plan) {  // it was being written: nothing was moved yet
    ::unlink(journal.c_str());
    return {};
  }
  if (!plan->can_go_on()) {  // a file of it is gone or another: what was replaced comes back
    for (std::size_t i = plan->files.size(); i-- > 0;) {
      // Only the very file that was placed: a name may stand for something else by now.
      const bool own = stamp_of(plan->files[i].to) == plan->file_stamps[i];
      if (own || !is_there(plan->files[i].to)) take_back(plan->files[i]);
    }
    ::unlink(journal.c_str());
    return {};
  }
  std::vector<fs::path> placed;
  try {
    for (const Placing& p : plan->files) {
      place(p);
      placed.push_back(p.to);
    }
    for (const fs::path& changed : folders_of(*plan)) sync_folder(changed);
  } catch (const Error& e) {
    ErrorDetails d = e.details;
    d.fault = Fault::needs_word;
    d.code = "unfinished";
    d.what = "an interrupted job cannot be finished: " + d.what;
    d.hint = fmt::format("move that file elsewhere and run the command again; the names are in {}", journal.string());
    throw Error(std::move(d));
  }
  finish(*plan, journal);
  return placed;
}

}  // namespace

void sync_folder(const fs::path& folder) {
  const fs::path place = folder.empty() ? fs::path(".") : folder;
  const FileDescriptor fd(::open(place.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (fd < 0) {
    if (errno == EACCES) return;  // a folder one may write to but not list cannot be synced by us
    throw_system_error("cannot sync the folder", place.string(), errno);
  }
  const int result = ::fsync(fd);
  const int why = errno;
  // Not every file system can sync folders.
  if (result != 0 && why != EINVAL && why != ENOTSUP && why != ENOSYS && why != EROFS)
    throw_system_error("cannot sync the folder", place.string(), why);
}

void rename_without_replacing(const fs::path& from, const fs::path& to) {
  if (::renameat2(AT_FDCWD, from.c_str(), AT_FDCWD, to.c_str(), RENAME_NOREPLACE) == 0) return;
  if (errno == EEXIST) in_the_way(to);
  // Some drives (FAT by an older driver, network shares) do not know RENAME_NOREPLACE: look, then rename.
  const bool unsupported = errno == EINVAL || errno == ENOSYS;
  if (unsupported && is_there(to)) in_the_way(to);
  if (!unsupported || ::rename(from.c_str(), to.c_str()) != 0)
    throw_system_error("cannot put the file in place", to.string(), errno);
}

void place_together(const std::vector<Placing>& files, const std::vector<fs::path>& remove) {
  if (files.empty()) return;
  Plan plan{files, remove};
  require_all(files);
  plan.stamp();
  for (const Placing& p : files)
    if (!p.aside.empty() && is_there(p.aside)) in_the_way(p.aside);
  const fs::path lead = journal_for(files.back().to);
  const OpenJournal journal(lead, print(plan, lead.parent_path().empty() ? "." : lead.parent_path()));
  std::size_t done = 0;
  try {
    for (; done < files.size(); ++done) place_now(files[done]);
    // Before what they replace is gone, their names have to be on the drive.
    for (const fs::path& folder : folders_of(plan)) sync_folder(folder);
  } catch (...) {
    // As it was before. If even that fails the journal stays, and the next job finishes it.
    // Of the one that failed nothing but its aside was moved: what stands under its name is not ours.
    if (done < files.size()) restore_aside(files[done]);
    for (std::size_t i = done; i-- > 0;) take_back(files[i]);
    ::unlink(journal.path().c_str());
    throw;
  }
  finish(plan, journal.path());
}

std::vector<fs::path> finish_interrupted(const fs::path& folder) {
  const fs::path place = folder.empty() ? fs::path(".") : folder;
  std::vector<fs::path> journals, placed;
  std::error_code ignored;  // a folder that is not there yet holds none
  for (fs::directory_iterator i(place, ignored), end; i != end; i.increment(ignored))
    if (i->path().filename().string().ends_with(kSuffix)) journals.push_back(i->path());
  std::sort(journals.begin(), journals.end());
  for (const fs::path& journal : journals)
    for (fs::path& p : finish_one(journal, place)) placed.push_back(std::move(p));
  return placed;
}

}  // namespace opifex
