/// The one exception type of Opifex: a failure the user can act on.
#pragma once

#include <cstdint>
#include <optional>
#include <stdexcept>
#include <string>

namespace opifex {

/// Whose turn it is; the cli maps each to an exit code (docs/errors.md).
enum class Fault {
  usage,       ///< the request itself is wrong: exit 2
  refused,     ///< the input is not what it claims, corrupt or unsupported: exit 3
  needs_word,  ///< a loss, an existing file or too little space: exit 4
  device,      ///< reading or writing failed: exit 5
  interrupted  ///< stopped on request: exit 130
};

struct ErrorDetails {
  Fault fault = Fault::refused;
  std::string code = {};                     ///< stable identifier of the failure ("missing_file"); may be empty
  std::string what = {};                     ///< "cannot read the block table"
  std::string file = {};                     ///< as the user named it
  std::optional<std::uint64_t> offset = {};  ///< bytes from the start of `file`
  std::optional<std::uint32_t> line = {};    ///< line of a text file, from 1
  std::string found = {}, expected = {};     ///< what stood there, what should have
  /// What the user can do. Settings and jobs stand in it as `<out>` and `<job check>`: the interface writes them as its
  /// users know them.
  std::string hint = {};
};

/// Thrown by every room; caught only to add context, or at the top of main.
struct Error : std::runtime_error {
  explicit Error(ErrorDetails d) : std::runtime_error(text(d)), details(std::move(d)) {}
  /// At most three lines: what / where / try.
  static std::string text(const ErrorDetails& d);
  ErrorDetails details;
};

/// Throws a device Error for a failed system call; `errno_value` as the call left it.
[[noreturn]] void throw_system_error(const std::string& what, const std::string& file, int errno_value);

/// Something the user should know that stops nothing.
struct Warning {
  std::string code;       ///< stable identifier ("wrong_case")
  std::string message;    ///< one sentence
  std::string hint = {};  ///< what the user can do, as in ErrorDetails
};

}  // namespace opifex
