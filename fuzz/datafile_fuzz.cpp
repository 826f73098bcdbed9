// XML datafiles: whatever they claim, they are read in little memory or refused.
#include "opifex/core/lists/read_list.hpp"

#include "fuzz.hpp"
#include "lists.hpp"

using namespace opifex;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  fuzz::tolerate([&] { fuzz::use_list(*read_list(*memory_source(fuzz::bytes_of(data, size), "list"), "list.dat")); });
  return 0;
}
