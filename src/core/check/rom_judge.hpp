// What a ROM's own facts mean for its verdict.
#pragma once

#include "opifex/core/check/check.hpp"
#include "opifex/core/formats/rom/rom.hpp"

namespace opifex {

struct RomJudgement {
  Verdict verdict = Verdict::intact;
  std::vector<Finding> findings;
};

RomJudgement judge_rom(const rom::Examined& rom);

}  // namespace opifex
