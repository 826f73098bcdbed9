/// What a file may be called: below a folder at all, on a given kind of drive, on every drive.
#pragma once

#include <string>
#include <string_view>

namespace opifex {

inline constexpr std::size_t kLongestName = 255;       ///< UTF-16 units: FAT, exFAT, NTFS
inline constexpr std::size_t kLongestNameBytes = 255;  ///< bytes: the file systems of this computer

/// Whose names are made.
enum class NameRules {
  host,   ///< of any file system of this computer: what has a meaning in a path, and control characters, cannot stand
  drive,  ///< of FAT, exFAT and NTFS
  fatx    ///< of a console's disk
};

/// True if the name is one component of a path and means itself: not empty, no separator, no control character, not
/// "." or "..", well-formed UTF-8. What an image calls its files is not taken for a path unless this holds.
bool is_safe_name(std::string_view name);

/// What keeps a file name from being copied to a FAT, exFAT or NTFS drive; empty if nothing does.
std::string name_fault(std::string_view name);

/// A name that can be created: what cannot stand in it becomes `_`. Never empty, whatever comes in.
std::string made_safe(std::string_view name, NameRules rules);

/// A name that can be created anywhere, and tells what it was: bytes that cannot stand in it, and those for which
/// `plain` is false, become %XX; so does the first letter of a device's name. `latin1`: a byte each letter; others stay
/// as UTF-8.
std::string escaped_name(std::string_view latin1, bool (*plain)(unsigned char));

/// At most so many UTF-16 units and bytes, cut in front of the extension, never within a character.
std::string shortened(const std::string& name, std::size_t most_units, std::size_t most_bytes = kLongestNameBytes);

/// What the name of an archive's member is good for as a path below a folder; empty: good.
std::string member_path_fault(std::string_view name);

}  // namespace opifex
