#include "opifex/core/io/byte_source.hpp"

#include <algorithm>
#include <cerrno>

#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include "opifex/core/io/file_descriptor.hpp"

namespace opifex {
namespace {

[[noreturn]] void ends_first(const ByteSource& source, std::uint64_t offset, std::size_t wanted) {
  const std::uint64_t left = offset < source.size() ? source.size() - offset : 0;
  throw Error({.code = "truncated",
               .what = "the file ends too early",
               .file = source.name(),
               .offset = offset,
               .found = fmt::format("{} bytes", left),
               .expected = fmt::format("{}", wanted),
               .hint = "compare its size with the original; copy it again"});
}

bool inside(std::uint64_t offset, std::uint64_t count, std::uint64_t size) {
  return offset <= size && count <= size - offset;
}

class FileSource final : public ByteSource {
 public:
  explicit FileSource(const std::filesystem::path& path) : name_(path.string()) {
    // O_NONBLOCK: opening a pipe must not wait for a writer; it changes nothing for files.
    fd_ = FileDescriptor(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK | O_NOCTTY));
    if (fd_ < 0) throw_system_error("cannot open the file", name_, errno);
    struct stat facts {};
    if (::fstat(fd_, &facts) != 0) fail("cannot examine the file");
    if (S_ISBLK(facts.st_mode)) {
      if (::ioctl(fd_, BLKGETSIZE64, &size_) != 0) fail("cannot ask the device for its size");
    } else if (S_ISREG(facts.st_mode)) {
      size_ = static_cast<std::uint64_t>(facts.st_size);
      ::posix_fadvise(fd_, 0, 0, POSIX_FADV_SEQUENTIAL);
    } else {
      throw Error({.code = "not_a_file",
                   .what = "this is not a file that can be read",
                   .file = name_,
                   .found = S_ISDIR(facts.st_mode) ? "a folder" : "a pipe, terminal or other device",
                   .expected = "a file"});
    }
  }
  FileSource(const FileSource&) = delete;
  FileSource& operator=(const FileSource&) = delete;

  std::uint64_t size() const override { return size_; }
  std::string name() const override { return name_; }

  std::uint64_t next_data(std::uint64_t offset) const override {
    if (offset >= size_) return size_;
    const off_t at = ::lseek(fd_, static_cast<off_t>(offset), SEEK_DATA);
    // No data behind; any other failure means that the file system keeps no holes.
    if (at < 0) return errno == ENXIO ? size_ : offset;
    return static_cast<std::uint64_t>(at);
  }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (!inside(offset, out.size(), size_)) ends_first(*this, offset, out.size());
    for (std::size_t done = 0; done < out.size();) {
      const ssize_t n = ::pread(fd_, out.data() + done, out.size() - done, static_cast<off_t>(offset + done));
      if (n < 0 && errno == EINTR) continue;
      if (n < 0) {
        const int e = errno;
        throw Error({.fault = Fault::device,
                     .code = "read_failed",
                     .cause = Cause::unreadable,
                     .what = "the file cannot be read: " + std::generic_category().message(e),
                     .file = name_,
                     .offset = offset + done,
                     .hint = "the drive may be failing: copy what is readable to another drive first"});
      }
      if (n == 0) ends_first(*this, offset + done, out.size() - done);  // shrank while we read it
      done += static_cast<std::size_t>(n);
    }
  }

 private:
  [[noreturn]] void fail(const char* what) {
    const int e = errno;
    throw_system_error(what, name_, e);
  }
  std::string name_;
  FileDescriptor fd_;
  std::uint64_t size_ = 0;
};

class LazyFile final : public ByteSource {
 public:
  LazyFile(std::filesystem::path path, std::uint64_t size) : path_(std::move(path)), size_(size) {}
  std::uint64_t size() const override { return size_; }
  std::string name() const override { return path_.string(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    const SourcePtr file = open_file(path_);
    if (file->size() != size_)
      throw Error({.fault = Fault::device,
                   .code = "file_changed",
                   .what = "a file changed while the image was made",
                   .file = path_.string(),
                   .found = fmt::format("{} bytes", file->size()),
                   .expected = fmt::format("{}", size_)});
    file->read_at(offset, out);
  }

 private:
  std::filesystem::path path_;
  std::uint64_t size_;
};

class MemorySource final : public ByteSource {
 public:
  MemorySource(Bytes bytes, std::string name) : bytes_(std::move(bytes)), name_(std::move(name)) {}
  std::uint64_t size() const override { return bytes_.size(); }
  std::string name() const override { return name_; }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (!inside(offset, out.size(), size())) ends_first(*this, offset, out.size());
    std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
  }

 private:
  Bytes bytes_;
  std::string name_;
};

class SliceSource final : public ByteSource {
 public:
  SliceSource(SourcePtr whole, std::uint64_t offset, std::uint64_t size)
      : whole_(std::move(whole)), offset_(offset), size_(size) {
    if (!inside(offset_, size_, whole_->size())) ends_first(*whole_, offset_, size_);
  }
  std::uint64_t size() const override { return size_; }
  std::string name() const override { return whole_->name(); }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (!inside(offset, out.size(), size_)) ends_first(*this, offset, out.size());
    whole_->read_at(offset_ + offset, out);
  }
  std::uint64_t next_data(std::uint64_t offset) const override {
    if (offset >= size_) return size_;
    return std::min(size_, whole_->next_data(offset_ + offset) - offset_);
  }

 private:
  SourcePtr whole_;
  std::uint64_t offset_, size_;
};

class ConcatSource final : public ByteSource {
 public:
  ConcatSource(std::vector<SourcePtr> parts, std::string name) : parts_(std::move(parts)), name_(std::move(name)) {
    for (const SourcePtr& part : parts_) {
      starts_.push_back(size_);
      const auto sum = checked_add(size_, part->size());
      if (!sum) throw Error({.code = "too_large", .what = "the parts together are too large", .file = name_});
      size_ = *sum;
    }
  }
  std::uint64_t size() const override { return size_; }
  std::string name() const override { return name_; }
  void read_at(std::uint64_t offset, std::span<std::byte> out) const override {
    if (!inside(offset, out.size(), size_)) ends_first(*this, offset, out.size());
    auto index = static_cast<std::size_t>(std::upper_bound(starts_.begin(), starts_.end(), offset) - starts_.begin());
    for (index = index == 0 ? 0 : index - 1; !out.empty(); ++index) {
      const std::uint64_t within = offset - starts_[index];
      const auto n = std::min<std::uint64_t>(out.size(), parts_[index]->size() - within);
      parts_[index]->read_at(within, out.first(n));
      out = out.subspan(n);
      offset += n;
    }
  }
  std::uint64_t next_data(std::uint64_t offset) const override {
    for (std::size_t i = 0; i < parts_.size(); ++i) {
      const std::uint64_t end = starts_[i] + parts_[i]->size();
      if (offset >= end) continue;
      const std::uint64_t within = parts_[i]->next_data(std::max(offset, starts_[i]) - starts_[i]);
      if (within < parts_[i]->size()) return starts_[i] + within;
    }
    return size_;
  }

 private:
  std::vector<SourcePtr> parts_;
  std::vector<std::uint64_t> starts_;
  std::string name_;
  std::uint64_t size_ = 0;
};

}  // namespace

SourcePtr open_file(const std::filesystem::path& path) { return std::make_shared<FileSource>(path); }

SourcePtr file_when_read(const std::filesystem::path& path, std::uint64_t size) {
  return std::make_shared<LazyFile>(path, size);
}

SourcePtr memory_source(Bytes bytes, std::string name) {
  return std::make_shared<MemorySource>(std::move(bytes), std::move(name));
}

namespace {

class ZeroSource final : public ByteSource {
 public:
  explicit ZeroSource(std::uint64_t size) : size_(size) {}
  std::uint64_t size() const override { return size_; }
  std::string name() const override { return "zeros"; }
  void read_at(std::uint64_t, std::span<std::byte> out) const override {
    std::fill(out.begin(), out.end(), std::byte{0});
  }
  std::uint64_t next_data(std::uint64_t) const override { return size_; }

 private:
  std::uint64_t size_;
};

}  // namespace

SourcePtr zero_source(std::uint64_t size) { return std::make_shared<ZeroSource>(size); }

SourcePtr slice_source(SourcePtr whole, std::uint64_t offset, std::uint64_t size) {
  return std::make_shared<SliceSource>(std::move(whole), offset, size);
}

SourcePtr concat_source(std::vector<SourcePtr> parts, std::string name) {
  return std::make_shared<ConcatSource>(std::move(parts), std::move(name));
}

Bytes read_up_to(const ByteSource& source, std::uint64_t at, std::size_t size) {
  if (at >= source.size()) return {};
  Bytes bytes(std::min<std::uint64_t>(size, source.size() - at));
  source.read_at(at, bytes);
  return bytes;
}

}  // namespace opifex
