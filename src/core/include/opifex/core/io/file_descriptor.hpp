/// An open file of the system, closed when it goes out of scope.
#pragma once

#include <utility>

#include <unistd.h>

namespace opifex {

class FileDescriptor {
 public:
  FileDescriptor() = default;
  /// Takes what open() returned; negative: none.
  explicit FileDescriptor(int fd) : fd_(fd) {}
  FileDescriptor(FileDescriptor&& other) noexcept : fd_(std::exchange(other.fd_, -1)) {}
  FileDescriptor& operator=(FileDescriptor&& other) noexcept {
    if (this != &other) {
      close();
      fd_ = std::exchange(other.fd_, -1);
    }
    return *this;
  }
  ~FileDescriptor() { close(); }

  /// For calls of the system.
  operator int() const { return fd_; }
  void close() {
    if (fd_ >= 0) ::close(std::exchange(fd_, -1));
  }

 private:
  int fd_ = -1;
};

}  // namespace opifex
