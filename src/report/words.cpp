#include "opifex/report/words.hpp"

#include <algorithm>

#include <fmt/format.h>

#include "opifex/core/base/text.hpp"
#include "opifex/report/terminal.hpp"

namespace opifex::report {
namespace {

bool is_name(std::string_view word) {
  return !word.empty() && std::all_of(word.begin(), word.end(), [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-';
  });
}

/// What stands between the brackets; empty if it is neither a setting nor a job.
std::string reference(std::string_view inside) {
  constexpr std::string_view kJob = "job ";
  if (inside.starts_with(kJob) && is_name(inside.substr(kJob.size())))
    return "opifex " + std::string(inside.substr(kJob.size()));
  return is_name(inside) ? "--" + std::string(inside) : std::string{};
}

}  // namespace

std::string hint_text(std::string_view hint) {
  std::string text;
  for (std::size_t at = 0; at < hint.size();) {
    const std::size_t end = hint[at] == '<' ? hint.find('>', at) : std::string_view::npos;
    const std::string word = end == std::string_view::npos ? "" : reference(hint.substr(at + 1, end - at - 1));
    text += word.empty() ? std::string(1, hint[at]) : word;
    at = word.empty() ? at + 1 : end + 1;
  }
  return text;
}

std::string error_text(const ErrorDetails& error) {
  ErrorDetails shown = error;
  shown.hint = hint_text(error.hint);
  return Error::text(shown);
}

std::string warning_text(const Warning& warning) {
  return warning.hint.empty() ? warning.message : warning.message + "; " + hint_text(warning.hint);
}

std::string warning_lines(const std::vector<Warning>& warnings) {
  std::string text;
  for (const Warning& w : warnings)
    text += fmt::format("  {} {} [{}]\n", state_text("warning", 11), printable(warning_text(w)), w.code);
  return text;
}

std::string loss_lines(const std::vector<Loss>& losses) {
  std::string text;
  for (const Loss& loss : losses) {
    const char* state = !is_content_loss(loss.kind) ? "filler" : loss.accepted ? "accepted" : "refused";
    text +=
        fmt::format("  loss        {} ({}): {}: {}\n", loss.kind, state, printable(loss.where), printable(loss.detail));
  }
  return text;
}

}  // namespace opifex::report
