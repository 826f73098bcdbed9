// WAVE and AIFF headers.
#include <cstdlib>

#include "opifex/core/formats/cue/files.hpp"

#include "fuzz.hpp"

using namespace opifex;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const SourcePtr source = memory_source(fuzz::bytes_of(data, size), "fuzz.wav");
  for (const auto open : {&cue::open_wave, &cue::open_aiff})
    fuzz::tolerate([&] {
      const cue::AudioFile audio = open(source);
      if (audio.samples->size() % cd::kRawBytes != 0) std::abort();
      read_up_to(*audio.samples, 0, 5000);
    });
  return 0;
}
