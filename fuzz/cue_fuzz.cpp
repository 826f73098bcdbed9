// Sheet text under every encoding, then the disc it would make of files of a few sizes.
#include "opifex/core/formats/cue/build.hpp"
#include "opifex/core/formats/cue/sheet.hpp"

#include "fuzz.hpp"

using namespace opifex;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string_view text(reinterpret_cast<const char*>(data), size);
  cue::looks_like_sheet(text);
  fuzz::tolerate([&] {
    for (const std::string& encoding : cue::candidate_encodings(text, "fuzz.cue")) {
      fuzz::tolerate([&] {
        const cue::Sheet sheet = cue::parse(text, encoding, "fuzz.cue");
        for (const std::size_t sectors : {1u, 40u, 2000u}) {
          std::vector<cue::TrackFile> files(sheet.files.size());
          for (cue::TrackFile& file : files) file.data = memory_source(Bytes(sectors * cd::kRawBytes + 7), "fuzz.bin");
          if (files.size() > 3) files[1].data = nullptr;  // missing
          for (const auto absent : {cue::Absent::refuse, cue::Absent::allow})
            fuzz::tolerate([&] {
              std::vector<Warning> warnings;
              const CdImagePtr disc = cue::build_disc(sheet, files, "fuzz.cue", warnings, absent);
              fuzz::read_some(*disc);
            });
        }
      });
    }
  });
  return 0;
}
