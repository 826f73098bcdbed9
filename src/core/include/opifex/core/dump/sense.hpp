/// What a drive says when a command fails (SPC-4, 4.5; MMC-6, annex F).
#pragma once

#include <optional>
#include <string>

#include "opifex/core/dump/transport.hpp"

namespace opifex::dump {

struct Sense {
  int key = 0, asc = 0, ascq = 0;
  std::optional<std::uint32_t> lba = {};  ///< where a read failed, if the drive says
};
/// Fixed (70h) and descriptor (72h) format; nothing if the bytes are neither.
std::optional<Sense> parse_sense(ByteView bytes);

/// What has to be done about it.
enum class Trouble {
  none,
  read_error,        ///< the damaged-sector path
  not_ready,         ///< becoming ready: wait
  needs_start,       ///< send START
  no_medium,         ///< no disc in the drive
  unsupported_disc,  ///< the drive cannot read this kind
  hardware,          ///< drive trouble: pause and try again
  unknown_command,
  out_of_range,  ///< LBA behind the readable area
  bad_field,     ///< the drive lacks this option
  wrong_type,    ///< sector of another type
  video_protection,
  medium_changed,
  reset,
  eject_pressed,
  aborted,
  timeout,
  gone  ///< the drive does not answer any more
};
Trouble classify(const CommandReply& reply);
/// "read error (03/11/05)"
std::string describe(const CommandReply& reply);

}  // namespace opifex::dump
