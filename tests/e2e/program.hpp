/// The built program, run in a folder of its own with the demo discs.
#pragma once

#include <gtest/gtest.h>

#include "opifex/demo/workshop.hpp"

#include "testkit.hpp"

namespace opifex::testkit {

class Program : public testing::Test {
 protected:
  Outcome cli(const std::vector<std::string>& words) { return run_program(OPIFEX_PROGRAM, words, folder.path()); }
  fs::path operator/(const std::string& name) const { return folder / name; }
  /// Moth & Lantern (a bin a track), Kestrel Circuit disc 1 (one bin) and disc 2 (lone bin).
  void make_workshop() { demo::build_workshop(folder.path(), Existing::keep); }

  TempFolder folder;
  const std::string moth = "Moth & Lantern.cue", kestrel1 = "Kestrel Circuit (Disc 1).cue",
                    kestrel2 = "Kestrel Circuit (Disc 2).bin";
};

inline bool contains(const std::string& text, const std::string& part) { return text.find(part) != std::string::npos; }

}  // namespace opifex::testkit
