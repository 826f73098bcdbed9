#include "opifex/core/platforms/unrecognised.hpp"

#include <algorithm>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/platforms/identity.hpp"
#include "opifex/core/volumes/volume.hpp"

namespace opifex {
namespace {

using namespace std::string_view_literals;

struct KnownMark {
  const char* what;
  std::uint64_t offset;
  std::string_view bytes;
};
constexpr std::array kMarks = {KnownMark{"a WBFS container", 0, "WBFS"sv},
                               KnownMark{"a CHD", 0, kChdMark},
                               KnownMark{"the game partition of an Xbox disc", kXdvdfsMarkAt, kXdvdfsMark},
                               KnownMark{"an ISO 9660 file system", 0x8000,
                                         "\x01"
                                         "CD001\x01"sv},
                               KnownMark{"a UDF file system", 0x8801, "BEA01"sv},
                               KnownMark{"a Wii disc", kWiiMarkAt, "\x5D\x1C\x9E\xA3"sv},
                               KnownMark{"a GameCube disc", kGameCubeMarkAt, "\xC2\x33\x9F\x3D"sv}};

/// The mark of which at least two thirds of the bytes stand in their place.
const KnownMark* nearest_mark(const ByteSource& source) {
  for (const KnownMark& mark : kMarks) {
    const Bytes there = read_up_to(source, mark.offset, mark.bytes.size());
    if (there.size() < mark.bytes.size()) continue;
    std::size_t same = 0;
    for (std::size_t i = 0; i < there.size(); ++i) same += as_text(there)[i] == mark.bytes[i] ? 1u : 0u;
    if (3 * same >= 2 * there.size()) return &mark;
  }
  return nullptr;
}

/// Nothing but its length says that these are sectors.
bool only_by_size(const Image& image) {
  if (image.container || image.files.size() != 1 || !image.files.front().source) return false;
  if (image.files.front().path != image.path) return false;  // a sheet says what it is
  if (!image.cd()) return image.blocks() != nullptr;
  const auto& extents = image.cd()->extents();
  return std::all_of(extents.begin(), extents.end(), [](const Extent& e) {
    return e.form == StoredForm::mode1_user || e.form == StoredForm::form1_user;
  });
}

}  // namespace

std::optional<std::string> why_unrecognised(const Image& image) {
  if (!only_by_size(image) || !identify_platform(image).platform.empty()) return std::nullopt;
  try {
    if (!read_volumes(image).empty()) return std::nullopt;
  } catch (const Error& e) {
    if (e.details.fault != Fault::refused) throw;
    return std::nullopt;  // there is one, and what is wrong with it is told
  }
  const KnownMark* const mark = nearest_mark(*image.files.front().source);
  return mark ? fmt::format("nothing in it is recognised; it is nearly {}, but the mark at {:#x} is damaged",
                            mark->what, mark->offset)
              : "nothing in it is recognised: only its size would fit an image of 2048-byte blocks";
}

}  // namespace opifex
