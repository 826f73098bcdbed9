#include "opifex/core/io/output.hpp"

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <system_error>

#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include "opifex/core/base/hash.hpp"

namespace opifex {
namespace {

constexpr std::string_view kSuffix = ".opifex-part";
constexpr std::size_t kLongestName = 255;
constexpr std::size_t kHoleBytes =
    64 << 10;  // shorter zero runs are written: a hole each would cost more than it saves
constexpr std::uint64_t kStartEvery =
    16 << 20;  // start writing back early, so that the last sync has little to wait for

std::filesystem::path temporary_for(const std::filesystem::path& target) {
  std::string name = target.filename().string();
  if (name.size() + kSuffix.size() > kLongestName) name = digest_of("md5", as_view(name));
  return target.parent_path() / (name + std::string(kSuffix));
}

/// Creates the file; a leftover of a job that was killed is replaced, one that a running job holds is not.
int create_locked(const std::filesystem::path& path) {
  for (int attempt = 0; attempt < 3; ++attempt) {
    const int fd = ::open(path.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0666);
    if (fd >= 0) {
      ::flock(fd, LOCK_EX | LOCK_NB);  // best effort: some network drives have no locks
      return fd;
    }
    if (errno != EEXIST) throw_system_error("cannot create the output file", path.string(), errno);
    const int old = ::open(path.c_str(), O_RDWR | O_CLOEXEC | O_NOFOLLOW);
    const bool stale = old >= 0 && ::flock(old, LOCK_EX | LOCK_NB) == 0;
    if (stale) ::unlink(path.c_str());
    if (old >= 0) ::close(old);
    if (!stale) break;
  }
  throw Error({.fault = Fault::needs_word,
               .code = "busy",
               .what = "another job is writing this file",
               .file = path.string(),
               .hint = "wait for it, or give another name with --out"});
}

void sync_folder(const std::filesystem::path& folder) {
  const int fd = ::open(folder.empty() ? "." : folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  if (fd < 0) return;  // the data is safe; only the name could be lost, and not every file system can sync folders
  ::fsync(fd);
  ::close(fd);
}

[[noreturn]] void already_there(const std::filesystem::path& target) {
  throw Error({.fault = Fault::needs_word,
               .code = "exists",
               .what = "a file of this name is there already",
               .file = target.string(),
               .hint = "--overwrite replaces it; --out gives another name"});
}

}  // namespace

OutputFile::OutputFile(std::filesystem::path target)
    : target_(std::move(target)), temporary_(temporary_for(target_)), fd_(create_locked(temporary_)) {}

OutputFile::OutputFile(std::filesystem::path target, std::filesystem::path finished)
    : target_(std::move(target)), temporary_(std::move(finished)), adopted_(true) {
  fd_ = ::open(temporary_.c_str(), O_RDWR | O_CLOEXEC | O_NOFOLLOW);
  struct stat facts {};
  if (fd_ < 0 || ::fstat(fd_, &facts) != 0)
    throw_system_error("cannot open the finished file", temporary_.string(), errno);
  size_ = started_ = static_cast<std::uint64_t>(facts.st_size);
}

OutputFile::~OutputFile() {
  if (fd_ >= 0) ::close(fd_);
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

void OutputFile::put_in_place(Existing existing) {
  const unsigned how = existing == Existing::keep ? RENAME_NOREPLACE : 0;
  if (::renameat2(AT_FDCWD, temporary_.c_str(), AT_FDCWD, target_.c_str(), how) != 0) {
    if (errno == EEXIST) already_there(target_);
    // Some drives (FAT by an older driver, network shares) do not know RENAME_NOREPLACE: look, then rename.
    const bool unsupported = errno == EINVAL && how != 0;
    struct stat facts {};
    if (unsupported && ::lstat(target_.c_str(), &facts) == 0) already_there(target_);
    if (!unsupported || ::rename(temporary_.c_str(), target_.c_str()) != 0)
      throw_system_error("cannot put the output file in place", target_.string(), errno);
  }
  placed_ = true;
  ::close(std::exchange(fd_, -1));
}

void OutputFile::take_back() {
  if (adopted_)
    ::rename(target_.c_str(), temporary_.c_str());
  else
    ::unlink(target_.c_str());
}

OutputSet::~OutputSet() {
  files_.clear();
  if (committed_) return;
  std::error_code ignored;
  for (auto folder = made_folders_.rbegin(); folder != made_folders_.rend(); ++folder)
    std::filesystem::remove(*folder, ignored);  // only if empty
}

OutputFile& OutputSet::add(const std::filesystem::path& target) {
  refuse_existing({target}, {}, existing_);
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
  refuse_existing({target}, {}, existing_);
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

void OutputSet::commit() {
  // All start on their way to the drive before the first is waited for.
  for (const auto& file : files_) file->start_writing();
  for (const auto& file : files_) file->sync();
  std::size_t placed = 0;
  try {
    for (; placed < files_.size(); ++placed) files_[placed]->put_in_place(existing_);
  } catch (const Error&) {
    if (existing_ == Existing::keep)
      for (std::size_t i = 0; i < placed; ++i) files_[i]->take_back();
    throw;
  }
  committed_ = true;
  std::filesystem::path last;
  for (const auto& file : files_) {
    const auto folder = file->target().parent_path();
    if (&file == &files_.front() || folder != last) sync_folder(folder);
    last = folder;
  }
}

void refuse_existing(const std::vector<std::filesystem::path>& targets,
                     const std::vector<std::filesystem::path>& inputs, Existing existing) {
  for (const auto& target : targets) {
    struct stat facts {};
    if (::stat(target.c_str(), &facts) != 0) {
      if (::lstat(target.c_str(), &facts) != 0) continue;  // a dangling link is not ours to replace silently
    }
    for (const auto& input : inputs) {
      struct stat other {};
      if (::stat(input.c_str(), &other) == 0 && other.st_dev == facts.st_dev && other.st_ino == facts.st_ino)
        throw Error({.fault = Fault::needs_word,
                     .code = "output_is_input",
                     .what = "the output would overwrite its own input",
                     .file = target.string(),
                     .hint = "give another name or folder with --out"});
    }
    if (S_ISDIR(facts.st_mode))
      throw Error({.fault = Fault::needs_word,
                   .code = "exists",
                   .what = "a folder of this name is there already",
                   .file = target.string(),
                   .hint = "give a file name with --out"});
    if (existing == Existing::keep) already_there(target);
  }
}

void write_whole_file(const std::filesystem::path& target, std::string_view text, Existing existing) {
  OutputSet set(existing);
  set.add(target).write(as_view(text));
  set.commit();
}

}  // namespace opifex
