// Lines of an exported shelf: whatever they claim, they are read or refused; one that was read is written and read as
// the same.
#include <cstdlib>

#include "../src/core/shelf/lines.hpp"
#include "fuzz.hpp"

using namespace opifex;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const Bytes bytes = fuzz::bytes_of(data, size);
  fuzz::tolerate([&] {
    const std::string line = line_of_item(item_of_line(std::string(as_text(bytes)), "lines", 1));
    if (line_of_item(item_of_line(line, "lines", 1)) != line) std::abort();
  });
  return 0;
}
