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

/// What callers act upon. Everything else of an error, a warning or a problem is for people.
enum class Cause {
  other,
  unknown_format,  ///< no format fits
  empty_file,
  unknown_layout,     ///< bare bytes that no detection can tell: audio perhaps
  no_image,           ///< in a folder or an archive
  archive,            ///< the archive around it is damaged, encrypted or empty
  missing_part,       ///< of a file that was cut
  uneven_part,        ///< a part of another size than the first: it may be cut off
  missing_data_file,  ///< of a package
  incomplete,         ///< something of the image is not there
  truncated,          ///< the same, told by the size its file system says it has
  not_a_disc,         ///< a container of plain data
  bad_sectors,        ///< the scan of the input found some
  parent_chain,       ///< containers that need each other without end
  no_key,             ///< encrypted, and the key is not there
  wrong_key,          ///< a key is there, and does not fit
  bad_region_map,     ///< of an encrypted disc
  outside_image,      ///< a table points to what is not there
  nothing_to_repair,
  exists,      ///< a file that must not be replaced
  no_space,    ///< on the target drive
  unreadable,  ///< the medium, not the computer, failed to give a block
  not_a_drive
};

constexpr bool is_incomplete(Cause c) { return c == Cause::incomplete || c == Cause::truncated; }

struct ErrorDetails {
  Fault fault = Fault::refused;
  std::string code = {};  ///< stable identifier of the failure ("missing_file"); may be empty
  Cause cause = Cause::other;
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
  Cause cause = Cause::other;
  Fault fault = Fault::refused;  ///< of something that could not be read: device
};

}  // namespace opifex
