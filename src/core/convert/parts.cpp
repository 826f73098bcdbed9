#include "opifex/core/convert/parts.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/part_names.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kCluster = 32 << 10;
constexpr std::size_t kMostWbfs = 10, kMostParts = 999;

std::string part_name(const fs::path& file, std::size_t n) {
  const std::string stem = file.stem().string(), extension = fold_case(file.extension().string());
  if (extension == ".wbfs") return n == 0 ? stem + ".wbfs" : fmt::format("{}.wbf{}", stem, n);
  if (extension == ".iso") return fmt::format("{}.part{}.iso", stem, n);
  return fmt::format("{}.{:03}", file.filename().string(), n + 1);
}

[[noreturn]] void refuse(const char* code, std::string what, const fs::path& file, std::string found,
                         std::string hint) {
  throw Error({.fault = Fault::usage,
               .code = code,
               .what = std::move(what),
               .file = file.string(),
               .found = std::move(found),
               .hint = std::move(hint)});
}

}  // namespace

WritePlan plan_split(const fs::path& file, const fs::path& folder, std::uint64_t limit) {
  const SourcePtr source = host_files()->open(file);
  const auto set = part_set_of(file);
  const fs::path whole = set && set->plain_bytes() && set->parts.size() > 1 ? file.parent_path() / set->open : file;
  if (source->size() <= limit)
    refuse("fits_already", "the file fits already", file, human_size(source->size()), "it can be copied as it is");
  const std::uint64_t each = limit / kCluster * kCluster;
  if (each == 0)
    refuse("limit_too_small", "parts this small make no sense", file, human_size(limit), "at least 32 KiB");
  const std::uint64_t parts = (source->size() + each - 1) / each;
  const std::size_t most = fold_case(whole.extension().string()) == ".wbfs" ? kMostWbfs : kMostParts;
  if (parts > most)
    refuse("too_many_parts", "there would be more parts than names for them", file, fmt::format("{} parts", parts),
           fmt::format("parts of at least {}", human_size((source->size() + most - 1) / most)));
  WritePlan plan;
  for (std::uint64_t n = 0; n < parts; ++n) {
    const std::uint64_t at = n * each, size = std::min(each, source->size() - at);
    plan.outputs.push_back(
        {folder / part_name(whole, static_cast<std::size_t>(n)), {SourceRun{source, at, size}}, size});
  }
  plan.steps.push_back(
      fmt::format("cut {} into {} parts of at most {}", file.filename().string(), parts, human_size(each)));
  return plan;
}

bool is_in_parts(const fs::path& file) {
  const auto set = part_set_of(file);
  return set && set->plain_bytes() && (set->parts.size() > 1 || !set->missing.empty());
}

WritePlan plan_join(const fs::path& part, const fs::path& out) {
  const SourcePtr source = host_files()->open(part);
  WritePlan plan;
  plan.steps.push_back(fmt::format("join the parts of {} in {}", part.filename().string(), out.filename().string()));
  plan.outputs.push_back({out, {SourceRun{source, 0, source->size()}}, source->size()});
  return plan;
}

}  // namespace opifex
