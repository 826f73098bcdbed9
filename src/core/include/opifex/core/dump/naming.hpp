/// What a dump is called when the user names only a folder.
#pragma once

#include <filesystem>

#include "opifex/core/dump/medium.hpp"

namespace opifex::dump {

struct DumpName {
  std::string stem;  ///< "KESTREL_CIRCUIT (Disc 1)"
  std::string set;   ///< "KESTREL_CIRCUIT": the folder that discs of one set share; empty: the disc stands alone
};
/// By title and serial, in characters every drive can store.
DumpName name_of(const Medium& medium);

}  // namespace opifex::dump
