/// What core says in its own words, as a user of the command line knows it.
#pragma once

#include <string>
#include <vector>

#include "opifex/core/base/error.hpp"
#include "opifex/core/image/loss.hpp"

namespace opifex::report {

/// Settings and jobs of a hint by the names they have on the command line: `<out>` is --out, `<job check>` opifex
/// check.
std::string hint_text(std::string_view hint);
/// At most three lines: what / where / try.
std::string error_text(const ErrorDetails& error);
/// One line: the message, and what can be done.
std::string warning_text(const Warning& warning);
/// "  warning     ... [code]": a line each.
std::string warning_lines(const std::vector<Warning>& warnings);
/// "  loss        audio (accepted): tracks 2 to 4: 10 min of music": a line each.
std::string loss_lines(const std::vector<Loss>& losses);

}  // namespace opifex::report
