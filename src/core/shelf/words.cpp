#include "words.hpp"

#include <unicode/normalizer2.h>
#include <unicode/uchar.h>
#include <unicode/unistr.h>

namespace opifex {

namespace {

constexpr std::size_t kLongest = 64;
constexpr std::size_t kMostWords = 256;  // of an item

/// Compatibility decomposition and case folding: full-width letters are letters, accents are marks of their own.
icu::UnicodeString folded(std::string_view text) {
  UErrorCode error = U_ZERO_ERROR;
  const icu::Normalizer2* kd = icu::Normalizer2::getNFKDInstance(error);
  const icu::UnicodeString given =
      icu::UnicodeString::fromUTF8(icu::StringPiece(text.data(), static_cast<int32_t>(text.size())));
  if (U_FAILURE(error)) return given;
  icu::UnicodeString plain = kd->normalize(given, error);
  return U_FAILURE(error) ? given : plain.foldCase();
}

bool is_letter(UChar32 c) { return u_isalnum(c) != 0; }
/// Written without blanks between words.
bool has_no_blanks(UChar32 c) {
  const auto script = u_getIntPropertyValue(c, UCHAR_LINE_BREAK);
  return script == U_LB_IDEOGRAPHIC || script == U_LB_COMPLEX_CONTEXT || script == U_LB_CONDITIONAL_JAPANESE_STARTER;
}

std::string cut(const icu::UnicodeString& word) {
  std::string text;
  word.toUTF8String(text);
  if (text.size() <= kLongest) return text;
  std::size_t end = kLongest;
  while (end > 0 && (static_cast<unsigned char>(text[end]) & 0xC0) == 0x80) --end;
  return text.substr(0, end);
}

/// Runs of letters, each with where the next one begins.
std::vector<icu::UnicodeString> runs_in(std::string_view text) {
  std::vector<icu::UnicodeString> runs;
  icu::UnicodeString run;
  const icu::UnicodeString all = folded(text);
  for (int32_t at = 0; at < all.length(); at = all.moveIndex32(at, 1)) {
    const UChar32 c = all.char32At(at);
    if (u_charType(c) == U_NON_SPACING_MARK || c == '\'') continue;
    if (is_letter(c)) {
      run.append(c);
    } else if (!run.isEmpty()) {
      runs.push_back(std::exchange(run, {}));
    }
  }
  if (!run.isEmpty()) runs.push_back(run);
  return runs;
}

}  // namespace

std::vector<std::string> words_in(std::string_view text) {
  std::vector<std::string> words;
  for (const icu::UnicodeString& run : runs_in(text)) words.push_back(cut(run));
  return words;
}

std::set<std::string> index_words(const std::vector<std::string>& texts) {
  std::set<std::string> words;
  for (const std::string& text : texts) {
    const auto runs = runs_in(text);
    for (const icu::UnicodeString& run : runs) {
      if (words.size() >= kMostWords) break;
      words.insert(cut(run));
      for (int32_t at = run.moveIndex32(0, 1); at < run.length() && words.size() < kMostWords;
           at = run.moveIndex32(at, 1))
        if (has_no_blanks(run.char32At(at))) words.insert(cut(run.tempSubString(at)));
    }
    if (runs.size() == 2) words.insert(cut(icu::UnicodeString(runs[0]).append(runs[1])));
  }
  return words;
}

}  // namespace opifex
