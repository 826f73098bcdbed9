/// What known lists say of an image, in short.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace opifex::jobs {

/// From best to worst.
enum class KnownVerdict {
  known,           ///< complete, under the list's name
  renamed,         ///< complete, called otherwise
  extra,           ///< complete, and something lies beside it that is none of it
  duplicate,       ///< a further copy of what another file has
  known_bad,       ///< complete, and the list itself says that this dump is damaged
  part_missing,    ///< some of the set is here
  differs,         ///< its name is known, its content is not
  not_comparable,  ///< parts of the disc were left out of it: its own hash cannot come out
  not_known
};
std::string_view to_string(KnownVerdict verdict);
/// True where all of it is known to be right.
bool is_known(KnownVerdict verdict);

/// What one list says of one image, to be kept.
struct KnownAnswer {
  std::string list;        ///< its file
  std::string list_title;  ///< its name and version, as far as it has them
  KnownVerdict verdict = KnownVerdict::not_known;
  std::string set = {};      ///< the list's name for it; empty: none
  std::string through = {};  ///< as in KnownAs
  bool by_crc = false;
  std::vector<std::string> why = {};  ///< what keeps it from being known, in plain words
  bool other_name = false;            ///< the list has another name for it than the file
};

/// Some list knows it, and all of it is right.
bool is_known(const std::vector<KnownAnswer>& answers);

}  // namespace opifex::jobs
