// Detection of a bare image, the walk over its sectors, and the file system inside.
#include "opifex/core/formats/bin/detect.hpp"
#include "opifex/core/volumes/iso9660/descriptors.hpp"

#include "fuzz.hpp"

using namespace opifex;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const SourcePtr source = memory_source(fuzz::bytes_of(data, size), "fuzz.bin");
  fuzz::tolerate([&] {
    const bin::Detected detected = bin::detect(*source);
    std::vector<Warning> warnings;
    const CdImagePtr disc = bin::build_disc(source, detected, warnings);
    fuzz::read_some(*disc);
    if (const cd::Track* track = disc->layout().first_data_track())
      if (const auto volume = Iso9660::open(user_data_source(disc, track->number))) volume->find("DIR/SYSTEM.CNF");
  });
  fuzz::tolerate([&] {
    if (const auto volume = Iso9660::open(source)) volume->find("SYSTEM.CNF");
  });
  return 0;
}
