#include "opifex/core/base/error.hpp"

#include <cerrno>
#include <system_error>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"

namespace opifex {

std::string Error::text(const ErrorDetails& d) {
  // Names and values come from outside: none of them may look like a line of ours.
  std::string s = printable(d.what);
  std::string place = printable(d.file);
  if (d.offset) place += fmt::format("{}@ 0x{:X}", place.empty() ? "" : " ", *d.offset);
  if (d.line) place += fmt::format("{}line {}", place.empty() ? "" : " ", *d.line);
  std::string facts;
  if (!d.found.empty()) facts = "found " + printable(d.found);
  if (!d.expected.empty()) facts += (facts.empty() ? "expected " : ", expected ") + printable(d.expected);
  if (!place.empty() && !facts.empty()) place += ": ";
  if (const std::string where = place + facts; !where.empty()) s += "\n  where: " + where;
  return d.hint.empty() ? s : s + "\n  try: " + printable(d.hint);
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
    d.hint = "make room on the drive, or give another place with <out>";
  } else if (errno_value == EROFS) {
    d.hint = "the drive is read-only; give another place with <out>";
  }
  throw Error(std::move(d));
}

}  // namespace opifex
