/// The one code page that old lists are written in.
#pragma once

#include <string>

namespace opifex {

/// The character of a byte of windows-1252 as UTF-8; the five bytes without a meaning are U+FFFD.
const std::string& windows_1252(unsigned char byte);
/// Its code point.
int windows_1252_code(unsigned char byte);

}  // namespace opifex
