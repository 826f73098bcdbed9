// Records: whatever they claim, they are read or refused; one that was read is written and read as the same.
#include <cstdlib>

#include "opifex/core/jobs/record.hpp"

#include "fuzz.hpp"

using namespace opifex;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const Bytes bytes = fuzz::bytes_of(data, size);
  fuzz::tolerate([&] {
    const std::string text = jobs::record_text(jobs::parse_record(as_text(bytes), "/record.json"), "/");
    if (jobs::record_text(jobs::parse_record(text, "/record.json"), "/") != text) std::abort();
  });
  return 0;
}
