/// What the demo shows, step by step.
#pragma once

#include <string>
#include <vector>

namespace opifex::cli {

struct DemoStep {
  const char* says;
  std::vector<std::string> words;  ///< behind an @ a path in the workshop
  int expected;                    ///< exit code
};
const std::vector<DemoStep>& demo_steps();

}  // namespace opifex::cli
