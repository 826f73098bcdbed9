/// Words by which an item is found.
#pragma once

#include <set>
#include <string>
#include <string_view>
#include <vector>

namespace opifex {

/// Letters and digits without case, accents and width, in runs. At most 64 bytes of each.
std::vector<std::string> words_in(std::string_view text);

/// What is kept of a text: its words, those that a stroke joins also as one ("prxs00101"), and of writing without
/// blanks every end of a run, so that whatever stands in it is the beginning of a word.
std::set<std::string> index_words(const std::vector<std::string>& texts);

}  // namespace opifex
