#include "opifex/core/convert/parts.hpp"

#include <algorithm>

#include "opifex/core/base/text.hpp"
#include "opifex/core/io/part_names.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;

constexpr std::uint64_t kCluster = 32 << 10;

/// NAME.EXT.001, NAME.EXT.002 ..
std::string numbered(std::string_view stem, std::string_view extension, std::size_t part) {
  return fmt::format("{}{}.{:03}", stem, extension, part + 1);
}
constexpr PartNaming kNumbered = {.name = &numbered};

/// That of the format the extension belongs to.
const PartNaming& naming_of(const fs::path& whole) {
  const std::string extension = fold_case(whole.extension().string());
  for (const Format* f : formats())
    if (f->part_names && f->owns(extension)) return *f->part_names;
  return kNumbered;
}

/// A file may belong to a format whatever it is called.
const PartNaming& naming_of(const fs::path& whole, const ByteSource& content) {
  const std::string extension = fold_case(whole.extension().string());
  for (const Format* f : formats())
    if (f->part_names && f->part_names->knows && f->owns(extension) && f->part_names->knows(content))
      return *f->part_names;
  return naming_of(whole);
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

/// Whole clusters of the limit, and that the names suffice.
std::uint64_t part_size(const fs::path& whole, std::uint64_t size, std::uint64_t limit, const PartNaming& names) {
  const std::uint64_t each = round_down(limit, kCluster);
  if (each == 0)
    refuse("limit_too_small", "parts this small make no sense", whole, human_size(limit), "at least 32 KiB");
  const std::uint64_t parts = ceil_div(size, each);
  const std::size_t most = names.most;
  if (parts > most)
    refuse("too_many_parts", "there would be more parts than names for them", whole, fmt::format("{} parts", parts),
           fmt::format("parts of at least {}", human_size(ceil_div(size, most))));
  return each;
}

}  // namespace

fs::path part_path(const fs::path& whole, std::size_t part, const PartNaming* names) {
  const PartNaming& naming = names ? *names : naming_of(whole);
  return whole.parent_path() / naming.name(whole.stem().string(), whole.extension().string(), part);
}

void limit_parts(WritePlan& plan, std::uint64_t limit) {
  const bool fits = std::all_of(plan.outputs.begin(), plan.outputs.end(),
                                [&](const PlannedOutput& o) { return o.size_bytes <= limit; });
  if (fits) return;
  if (plan.outputs.size() != 1)
    refuse("set_not_split", "a sheet and its bins are not cut by size", plan.leading().path,
           fmt::format("{} files", plan.outputs.size()), "<job split> <by> tracks makes smaller files");
  PlannedOutput& output = plan.outputs.front();
  if (!output.part_names) output.part_names = &naming_of(output.path);
  output.part_bytes = part_size(output.path, output.size_bytes, limit, *output.part_names);
  plan.steps.push_back(fmt::format("cut into parts of at most {} as it is written", human_size(output.part_bytes)));
}

void refuse_left_over(const fs::path& whole, std::size_t part, const PartNaming* names) {
  const fs::path next = part_path(whole, part, names);
  if (!fs::exists(next)) return;
  throw Error({.fault = Fault::needs_word,
               .code = "left_over_part",
               .what = "a part of an earlier split is there: it would be taken for one of the new file",
               .file = next.string(),
               .hint = "remove it, or give another name with <out>"});
}

WritePlan plan_split(const fs::path& file, const fs::path& folder, std::uint64_t limit) {
  const SourcePtr source = host_files()->open(file);
  const auto set = part_set_of(file);
  const fs::path whole = set && set->plain_bytes() && set->parts.size() > 1 ? file.parent_path() / set->open : file;
  if (source->size() <= limit)
    refuse("fits_already", "the file fits already", file, human_size(source->size()), "it can be copied as it is");
  const PartNaming& names = naming_of(whole, *source);
  const std::uint64_t each = part_size(whole, source->size(), limit, names);
  const std::uint64_t parts = ceil_div(source->size(), each);
  WritePlan plan;
  plan.copies = true;
  for (std::uint64_t n = 0; n < parts; ++n) {
    const std::uint64_t at = n * each, size = std::min(each, source->size() - at);
    plan.outputs.push_back({part_path(folder / whole.filename(), static_cast<std::size_t>(n), &names),
                            {SourceRun{source, at, size}},
                            size});
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
  plan.copies = true;
  plan.steps.push_back(fmt::format("join the parts of {} in {}", part.filename().string(), out.filename().string()));
  plan.outputs.push_back({out, {SourceRun{source, 0, source->size()}}, source->size()});
  return plan;
}

}  // namespace opifex
