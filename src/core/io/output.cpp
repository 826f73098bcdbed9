#include "opifex/core/io/output.hpp"

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <set>
#include <system_error>

#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include "opifex/core/base/file_names.hpp"
#include "opifex/core/base/hash.hpp"
#include "opifex/core/io/journal.hpp"

namespace opifex {
namespace {

constexpr std::string_view kSuffix = ".opifex-part";
constexpr std::size_t kHoleBytes =
    64 << 10;  // shorter zero runs are written: a hole each would cost more than it saves
constexpr std::uint64_t kStartEvery =
    16 << 20;  // start writing back early, so that the last sync has little to wait for

/// Where what is replaced waits until its whole set is in place.
std::filesystem::path set_aside_for(const std::filesystem::path& target) {
  constexpr std::string_view kAside = ".opifex-old";
  std::string name = target.filename().string();
  if (name.size() + kAside.size() > kLongestNameBytes) name = digest_of("md5", as_view(name));
  return target.parent_path() / (name + std::string(kAside));
}

std::filesystem::path temporary_for(const std::filesystem::path& target) {
  std::string name = target.filename().string();
  if (name.size() + kSuffix.size() > kLongestNameBytes) name = digest_of("md5", as_view(name));
  return target.parent_path() / (name + std::string(kSuffix));
}

/// The open file is what stands under the name.
bool is_named(int fd, const std::filesystem::path& path) {
  struct stat open {
  }, named{};
  return ::fstat(fd, &open) == 0 && ::lstat(path.c_str(), &named) == 0 && open.st_dev == named.st_dev &&
         open.st_ino == named.st_ino;
}

/// Removes what a job that was killed has left. False if a running job holds it.
bool remove_leftover(const std::filesystem::path& path) {
  struct stat facts {};
  if (::lstat(path.c_str(), &facts) != 0) return true;
  if (!S_ISREG(facts.st_mode))
    throw Error({.fault = Fault::needs_word,
                 .code = "exists",
                 .cause = Cause::exists,
                 .what = "what is no plain file has the temporary name of the output",
                 .file = path.string(),
                 .hint = "move it elsewhere, or give another name with <out>"});
  const FileDescriptor old(::open(path.c_str(), O_RDWR | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK));
  if (old < 0) return errno == ENOENT;
  const bool stale = ::flock(old, LOCK_EX | LOCK_NB) == 0;
  // It may have been put in place, and another made, since it was opened.
  if (stale && is_named(old, path)) ::unlink(path.c_str());
  return stale;
}

/// Creates the file; a leftover of a job that was killed is replaced, one that a running job holds is not. Between
/// creating and locking another job may take it for a leftover: it counts only if it still has its name then.
FileDescriptor create_locked(const std::filesystem::path& path) {
  constexpr int kAttempts = 16;
  for (int attempt = 0; attempt < kAttempts; ++attempt) {
    FileDescriptor fd(::open(path.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0666));
    if (fd >= 0) {
      const bool locked = ::flock(fd, LOCK_EX | LOCK_NB) == 0 || errno != EWOULDBLOCK;  // network drives have no locks
      if (locked && is_named(fd, path)) return fd;
      continue;
    }
    if (errno != EEXIST) throw_system_error("cannot create the output file", path.string(), errno);
    if (!remove_leftover(path)) break;
  }
  throw Error({.fault = Fault::needs_word,
               .code = "busy",
               .what = "another job is writing this file",
               .file = path.string(),
               .hint = "wait for it, or give another name with <out>"});
}

[[noreturn]] void already_there(const std::filesystem::path& target) {
  throw Error({.fault = Fault::needs_word,
               .code = "exists",
               .cause = Cause::exists,
               .what = "a file of this name is there already",
               .file = target.string(),
               .hint = "<overwrite> replaces it; <out> gives another name"});
}

}  // namespace

OutputFile::OutputFile(std::filesystem::path target)
    : target_(std::move(target)), temporary_(temporary_for(target_)), fd_(create_locked(temporary_)) {}

OutputFile::OutputFile(std::filesystem::path target, std::filesystem::path finished)
    : target_(std::move(target)), temporary_(std::move(finished)), adopted_(true) {
  fd_ = FileDescriptor(::open(temporary_.c_str(), O_RDWR | O_CLOEXEC | O_NOFOLLOW));
  struct stat facts {};
  if (fd_ < 0 || ::fstat(fd_, &facts) != 0)
    throw_system_error("cannot open the finished file", temporary_.string(), errno);
  size_ = started_ = static_cast<std::uint64_t>(facts.st_size);
}

OutputFile::~OutputFile() {
  if (!placed_ && !adopted_) ::unlink(temporary_.c_str());
}

void OutputFile::write(ByteView data) {
  while (!data.empty()) {
    const ByteView block = data.first(std::min(kHoleBytes, data.size()));
    if (block.size() == kHoleBytes && all_zero(block)) {
      size_ += block.size();
      data = data.subspan(block.size());
      continue;
    }
    // Write as much as possible in one call: up to the next block that could be a hole.
    std::size_t n = block.size();
    while (n < data.size() && (data.size() - n < kHoleBytes || !all_zero(data.subspan(n, kHoleBytes))))
      n += std::min(kHoleBytes, data.size() - n);
    write_data(data.first(n));
    data = data.subspan(n);
  }
}

void OutputFile::write_data(ByteView data) {
  while (!data.empty()) {
    const ssize_t n = ::pwrite(fd_, data.data(), data.size(), static_cast<off_t>(size_));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw_system_error("cannot write the output file", target_.string(), errno);
    size_ += static_cast<std::uint64_t>(n);
    data = data.subspan(static_cast<std::size_t>(n));
  }
  if (size_ - started_ < kStartEvery) return;
  ::sync_file_range(fd_, static_cast<off_t>(started_), static_cast<off_t>(size_ - started_), SYNC_FILE_RANGE_WRITE);
  started_ = size_;
}

void OutputFile::rewrite(std::uint64_t offset, ByteView data) {
  while (!data.empty()) {
    const ssize_t n = ::pwrite(fd_, data.data(), data.size(), static_cast<off_t>(offset));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw_system_error("cannot write the output file", target_.string(), errno);
    offset += static_cast<std::uint64_t>(n);
    data = data.subspan(static_cast<std::size_t>(n));
  }
}

void OutputFile::read_back(std::uint64_t offset, std::span<std::byte> out) const {
  while (!out.empty()) {
    const ssize_t n = ::pread(fd_, out.data(), out.size(), static_cast<off_t>(offset));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw_system_error("cannot read the output file back", target_.string(), errno);
    if (n == 0) {  // a hole at the end is not in the file yet
      std::fill(out.begin(), out.end(), std::byte{0});
      return;
    }
    offset += static_cast<std::uint64_t>(n);
    out = out.subspan(static_cast<std::size_t>(n));
  }
}

void OutputFile::start_writing() {
  // A hole at the end is not in the file yet.
  if (::ftruncate(fd_, static_cast<off_t>(size_)) != 0)
    throw_system_error("cannot finish the output file", target_.string(), errno);
  ::sync_file_range(fd_, 0, 0, SYNC_FILE_RANGE_WRITE);  // a hint: sync() is what counts
}

void OutputFile::sync() {
  if (::fsync(fd_) != 0) throw_system_error("cannot finish the output file", target_.string(), errno);
}

void OutputFile::require_own() const {
  if (adopted_ || is_named(fd_, temporary_)) return;
  throw Error({.fault = Fault::needs_word,
               .code = "busy",
               .what = "something else took the place of the unfinished output",
               .file = temporary_.string(),
               .hint = "see that no other program works in this folder, and run the job again"});
}

void OutputFile::placed() {
  placed_ = true;
  fd_.close();
}

void OutputFile::put_in_place(Existing existing) {
  if (existing == Existing::keep)
    rename_without_replacing(temporary_, target_);
  else if (::rename(temporary_.c_str(), target_.c_str()) != 0)
    throw_system_error("cannot put the output file in place", target_.string(), errno);
  placed();
}

OutputSet::~OutputSet() {
  files_.clear();
  if (committed_) return;
  std::error_code ignored;
  for (auto folder = made_folders_.rbegin(); folder != made_folders_.rend(); ++folder)
    std::filesystem::remove(*folder, ignored);  // only if empty
}

OutputFile& OutputSet::add(const std::filesystem::path& target) {
  refuse_existing({target}, inputs_, existing_);
  std::vector<std::filesystem::path> missing;
  std::error_code ignored;
  for (auto folder = target.parent_path(); !folder.empty() && !std::filesystem::exists(folder, ignored);
       folder = folder.parent_path())
    missing.push_back(folder);
  for (auto folder = missing.rbegin(); folder != missing.rend(); ++folder) {
    if (::mkdir(folder->c_str(), 0777) != 0 && errno != EEXIST)
      throw_system_error("cannot create the folder", folder->string(), errno);
    made_folders_.push_back(*folder);
  }
  files_.push_back(std::make_unique<OutputFile>(target));
  return *files_.back();
}

OutputFile& OutputSet::adopt(const std::filesystem::path& target, const std::filesystem::path& finished) {
  refuse_existing({target}, inputs_, existing_);
  files_.push_back(std::make_unique<OutputFile>(target, finished));
  return *files_.back();
}

OutputFile& PartedOutput::open_part() {
  if (parts_.empty() || parts_.back()->size() == part_bytes_) parts_.push_back(&set_.add(naming_(parts_.size())));
  return *parts_.back();
}

void PartedOutput::write(ByteView data) {
  while (!data.empty()) {
    OutputFile& part = open_part();
    const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(data.size(), part_bytes_ - part.size()));
    part.write(data.first(n));
    size_ += n;
    data = data.subspan(n);
  }
}

void PartedOutput::skip(std::uint64_t bytes) {
  while (bytes > 0) {
    OutputFile& part = open_part();
    const std::uint64_t n = std::min(bytes, part_bytes_ - part.size());
    part.skip(n);
    size_ += n;
    bytes -= n;
  }
}

void PartedOutput::rewrite(std::uint64_t offset, ByteView data) {
  while (!data.empty()) {
    const std::uint64_t inside = offset % part_bytes_;
    const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(data.size(), part_bytes_ - inside));
    parts_.at(static_cast<std::size_t>(offset / part_bytes_))->rewrite(inside, data.first(n));
    offset += n;
    data = data.subspan(n);
  }
}

void PartedOutput::read_back(std::uint64_t offset, std::span<std::byte> out) const {
  while (!out.empty()) {
    const std::uint64_t inside = offset % part_bytes_;
    const auto n = static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), part_bytes_ - inside));
    parts_.at(static_cast<std::size_t>(offset / part_bytes_))->read_back(inside, out.first(n));
    offset += n;
    out = out.subspan(n);
  }
}

void OutputSet::finish_writing() {
  // All start on their way to the drive before the first is waited for.
  for (const auto& file : files_) file->start_writing();
}

void OutputSet::commit() {
  finish_writing();
  for (const auto& file : files_) file->sync();
  for (const auto& file : files_) {
    file->require_own();
    refuse_existing({file->target()}, inputs_, existing_);
  }
  place_all();
  committed_ = true;
  std::set<std::filesystem::path> folders;
  for (const auto& file : files_) folders.insert(file->target().parent_path());
  for (const auto& folder : made_folders_) folders.insert(folder.parent_path());
  for (const auto& folder : folders) sync_folder(folder);
}

void OutputSet::place_all() {
  if (files_.size() == 1 || how_ == Placed::singly) {
    for (const auto& file : files_) file->put_in_place(existing_);
    return;
  }
  std::vector<Placing> placings;
  for (const auto& file : files_) {
    Placing placing{file->temporary_, file->target_, {}};
    if (existing_ == Existing::replace) placing.aside = set_aside_for(file->target_);
    placings.push_back(std::move(placing));
  }
  place_together(placings);
  for (const auto& file : files_) file->placed();
}

void refuse_existing(const std::vector<std::filesystem::path>& targets, const InputFiles& inputs, Existing existing) {
  for (const auto& target : targets) {
    struct stat facts {};
    if (::lstat(target.c_str(), &facts) != 0) continue;
    if (const auto input = inputs.read_as(target))
      throw Error({.fault = Fault::needs_word,
                   .code = "output_is_input",
                   .what = "the output would overwrite its own input",
                   .file = target.string(),
                   .found = *input == target ? std::string{} : fmt::format("the same file as {}", input->string()),
                   .hint = "give another name or folder with <out>"});
    if (S_ISDIR(facts.st_mode))
      throw Error({.fault = Fault::needs_word,
                   .code = "exists",
                   .cause = Cause::exists,
                   .what = "a folder of this name is there already",
                   .file = target.string(),
                   .hint = "give a file name with <out>"});
    if (!S_ISREG(facts.st_mode) && !S_ISLNK(facts.st_mode))
      throw Error({.fault = Fault::needs_word,
                   .code = "not_a_file",
                   .what = "what has this name is no plain file, and is never replaced",
                   .file = target.string(),
                   .hint = "give another name with <out>"});
    if (existing == Existing::keep) already_there(target);
  }
}

void write_whole_file(const std::filesystem::path& target, std::string_view text, Existing existing,
                      const InputFiles& inputs) {
  OutputSet set(existing, inputs);
  set.add(target).write(as_view(text));
  set.commit();
}

}  // namespace opifex
