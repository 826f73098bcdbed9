#include "opifex/core/base/error.hpp"

#include <cerrno>
#include <system_error>

#include <fmt/format.h>

namespace opifex {

std::string Error::text(const ErrorDetails& d) {
  std::string s = d.what;
  const bool placed = !d.file.empty() || !d.found.empty() || !d.expected.empty();
  if (placed) s += "\n  where: " + d.file;
  if (d.offset) s += fmt::format(" @ 0x{:X}", *d.offset);
  if (d.line) s += fmt::format(" line {}", *d.line);
  if (!d.found.empty()) s += fmt::format("{}found {}", d.file.empty() ? "" : ": ", d.found);
  if (!d.expected.empty()) s += fmt::format("{}expected {}", d.found.empty() ? ": " : ", ", d.expected);
  return d.hint.empty() ? s : s + "\n  try: " + d.hint;
}

void throw_system_error(const std::string& what, const std::string& file, int errno_value) {
  ErrorDetails d;
  d.fault = errno_value == EEXIST ? Fault::needs_word : Fault::device;
  d.what = what + ": " + std::generic_category().message(errno_value);
  d.file = file;
  if (errno_value == ENOENT) {
    d.fault = Fault::refused;
    d.code = "no_such_file";
    d.hint = "check the name; put it in quotes if it holds spaces or &";
  } else if (errno_value == EACCES || errno_value == EPERM) {
    d.hint = "check the permissions of the file and its folder";
  } else if (errno_value == ENOSPC || errno_value == EDQUOT) {
    d.hint = "make room on the drive, or give another place with --out";
  } else if (errno_value == EROFS) {
    d.hint = "the drive is read-only; give another place with --out";
  }
  throw Error(std::move(d));
}

}  // namespace opifex
