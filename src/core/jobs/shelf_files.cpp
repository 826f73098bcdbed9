#include "shelf_files.hpp"

#include <algorithm>
#include <cerrno>
#include <chrono>

#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

namespace opifex::jobs {

namespace {

constexpr std::int64_t kSecond = 1'000'000'000;
constexpr int kDeepest = 24;  // as a survey

ShelfFile file_of(std::string path, const struct stat& s) {
  return {.path = std::move(path),
          .size_bytes = static_cast<std::uint64_t>(s.st_size),
          .modified_ns = s.st_mtim.tv_sec * kSecond + s.st_mtim.tv_nsec,
          .inode = s.st_ino,
          .device = s.st_dev};
}

class Scanner {
 public:
  Scanner(const std::vector<std::string>& left_out, JobContext& context) : left_out_(left_out), context_(context) {}

  void folder(const std::string& path, int depth) {
    context_.progress.check_stop();
    DIR* const dir = ::opendir(path.c_str());
    if (!dir) return not_seen(path, errno);
    std::vector<std::string> folders;
    while (true) {
      errno = 0;
      const dirent* entry = ::readdir(dir);
      if (!entry) break;
      const std::string_view name = entry->d_name;
      if (name == "." || name == "..") continue;
      std::string place = path == "/" ? "/" + std::string(name) : path + "/" + std::string(name);
      if (entry->d_type == DT_LNK) continue;
      if (entry->d_type == DT_DIR) {
        folders.push_back(std::move(place));
        continue;
      }
      struct stat s {};
      if (::fstatat(::dirfd(dir), entry->d_name, &s, AT_SYMLINK_NOFOLLOW) != 0) {
        if (errno != ENOENT) not_seen(place, errno);
        continue;
      }
      if (S_ISDIR(s.st_mode)) folders.push_back(std::move(place));
      if (!S_ISREG(s.st_mode)) continue;
      if (std::find(left_out_.begin(), left_out_.end(), place) != left_out_.end()) continue;
      scan.files.try_emplace(place, file_of(place, s));
    }
    const int error = errno;
    ::closedir(dir);
    if (error != 0) not_seen(path, error);
    for (const std::string& f : folders) {
      if (depth < kDeepest)
        folder(f, depth + 1);
      else
        scan.unseen.push_back({f, {"too_deep", f + " lies too deep: what is in it was not looked at"}});
    }
  }

  FileScan scan;

 private:
  void not_seen(const std::string& path, int error) {
    scan.unseen.push_back({path,
                           {"unreadable_folder",
                            path + " cannot be read: " + std::generic_category().message(error),
                            {},
                            Cause::other,
                            Fault::device}});
  }

  const std::vector<std::string>& left_out_;
  JobContext& context_;
};

}  // namespace

std::optional<ShelfFile> look_at(const std::string& path) {
  struct stat s {};
  if (::stat(path.c_str(), &s) == 0) return file_of(path, s);
  if (errno == ENOENT || errno == ENOTDIR) return std::nullopt;
  throw_system_error("cannot look at a file", path, errno);
}

std::uint64_t names_of(const std::string& path) {
  struct stat s {};
  return ::stat(path.c_str(), &s) == 0 ? s.st_nlink : 0;
}

bool is_too_young(const ShelfFile& file, std::int64_t now_ns) {
  // The clock of file systems ticks with the kernel's; drives for cameras and consoles have whole or even seconds.
  constexpr std::int64_t kTick = 10'000'000;
  const std::int64_t slack = file.modified_ns % kSecond == 0 ? 2 * kSecond : kTick;
  return file.modified_ns + slack > now_ns;
}

std::int64_t nanoseconds_now() {
  return std::chrono::duration_cast<std::chrono::nanoseconds>(std::chrono::system_clock::now().time_since_epoch())
      .count();
}

FileScan scan_files(const std::string& place, const std::vector<std::string>& left_out, JobContext& context) {
  Scanner scanner(left_out, context);
  const auto file = look_at(place);
  struct stat s {};
  if (file && ::stat(place.c_str(), &s) == 0 && S_ISREG(s.st_mode))
    scanner.scan.files.emplace(place, *file);
  else
    scanner.folder(place, 0);
  return std::move(scanner.scan);
}

void drop_cached(const std::string& path) {
  const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (fd < 0) return;  // whoever reads it will say so
  ::fdatasync(fd);     // what is not on the drive yet stays in memory
  ::posix_fadvise(fd, 0, 0, POSIX_FADV_DONTNEED);
  ::close(fd);
}

std::string why_stale(const ShelfItem& item) {
  for (const ShelfFile& recorded : item.files) {
    const auto now = look_at(recorded.path);
    if (!now) return "it is gone";
    if (!recorded.same_state(*now)) return "it was changed since";
  }
  return {};
}

}  // namespace opifex::jobs
