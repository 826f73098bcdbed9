/// Is it known: the images of a check, and what lies beside them, held against known lists.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "opifex/core/jobs/known_answer.hpp"
#include "opifex/core/lists/close_look.hpp"
#include "opifex/core/lists/match.hpp"
#include "opifex/core/lists/read_list.hpp"

namespace opifex::jobs {

/// Something of it is what a list has, but for something.
struct NearTold {
  int track = 0;  ///< 0: the whole file or disc
  NearMiss miss;
  std::string message;
};

/// How one image stands in one list.
struct KnownAs {
  std::size_t list = 0;  ///< in KnownTold::lists
  KnownVerdict verdict = KnownVerdict::not_known;
  std::optional<std::uint32_t> set = {};
  std::string through = {};             ///< "the disc inside": what was compared; empty: the files as they are
  bool by_crc = false;                  ///< nothing better than a CRC-32 was in the list
  std::vector<std::string> why = {};    ///< in plain words: what is missing, what differs and how
  std::vector<NearTold> near = {};      ///< what it would be known as, but for something
  std::vector<std::string> tried = {};  ///< how it was compared beyond its hashes
};

struct KnownImage {
  std::string name;
  KnownAs best;             ///< of all lists
  std::vector<KnownAs> as;  ///< in each list
  bool checked = true;      ///< false: it is no image, only its bytes were compared
};

/// All that lists know of a collection.
struct KnownTold {
  const std::vector<KnownListPtr>& lists;
  const std::vector<RefusedList>& refused;
  const Collection& collection;
  const std::vector<ListMatch>& matches;  ///< one for each list
  const std::vector<KnownImage>& images;  ///< in the order in which they were told
  bool one_image = false;                 ///< nothing but a single image was asked for
  std::string folder = {};                ///< all lies below it; empty: in several places
};

}  // namespace opifex::jobs
