/// Text: encodings of files written by many programs, case folding, and numbers as people read them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace opifex {

/// True if `s` is well-formed UTF-8 (no surrogates, no overlong forms).
bool is_utf8(std::string_view s);

/// `s` in `code_page` ("windows-1252", "windows-31j", "UTF-16LE", ...) as UTF-8; nothing if a byte has no meaning
/// there.
std::optional<std::string> decode(std::string_view s, const char* code_page);
/// UTF-8 to a code page; nothing if it has no place for a character.
std::optional<std::string> encode(std::string_view s, const char* code_page);

/// Full Unicode case folding, for comparing file names without case. Ill-formed UTF-8 folds its ASCII letters only.
std::string fold_case(std::string_view s);

/// UTF-16 code units `s` needs: the unit in which FAT, exFAT and NTFS limit names.
std::size_t utf16_units(std::string_view s);

std::string to_upper_ascii(std::string_view s);
std::string_view trim(std::string_view s);
std::vector<std::string_view> split_words(std::string_view s);

/// "1 234 567": groups of three, for tables.
std::string grouped(std::uint64_t n);
/// "1 file", "1 204 files".
std::string plural(std::uint64_t n, std::string_view word);
/// "999 bytes", "4.7 GB (4 707 319 808 bytes)".
std::string bytes_text(std::uint64_t n);

/// "7.3 MiB", at most three digits before the point.
std::string human_size(std::uint64_t bytes);

/// "4GiB", "650MB", "700000", "fat32" (4 GiB - 1) -> bytes; nothing if not a size.
std::optional<std::uint64_t> parse_size(std::string_view s);

/// The nearest of `known` to a misspelt `word` (edit distance at most a third of its length), or empty.
std::string nearest_word(std::string_view word, const std::vector<std::string>& known);

/// Control characters, marks that turn the direction of writing around, and ill-formed UTF-8 made visible as \xNN, so
/// that a hostile name cannot steer a terminal or forge a line. What is printable already stays as it is.
std::string printable(std::string_view s);

/// The same for whole texts: their line ends stay.
std::string printable_lines(std::string_view s);

/// True for a code point that printable() does not let through.
bool steers_terminal(char32_t c);

}  // namespace opifex
