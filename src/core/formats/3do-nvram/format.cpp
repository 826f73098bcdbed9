// Save memory of the 3DO.
#include "opifex/core/image/format.hpp"

#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/nvram/nvram.hpp"

namespace opifex {

extern const Format kNvramFormat;

namespace {

constexpr std::array<std::string_view, 1> kExtensions = {".nvram"};

int probe(const ByteSource& source, std::string_view name) {
  if (source.size() != nvram::kImageBytes) return 0;
  const nvram::Memory memory = nvram::read_memory(read_up_to(source, 0, nvram::kImageBytes));
  const bool unformatted = !memory.findings.empty() && std::string_view(memory.findings[0].code) == "unformatted";
  if (memory.recognised && !unformatted) return 48;
  return name.ends_with(kExtensions.front()) && unformatted ? 6 : 0;
}

Image open(const std::filesystem::path& path, const OpenOptions& options) {
  Image image;
  image.format = &kNvramFormat;
  image.path = path;
  const SourcePtr source = options.space().open(path);
  if (source->size() != nvram::kImageBytes)
    throw Error({.code = "size",
                 .what = "this is no save memory of a 3DO",
                 .file = path.string(),
                 .found = bytes_text(source->size()),
                 .expected = bytes_text(nvram::kImageBytes)});
  image.files.push_back({path, std::string(kNvramFormat.id), source->size(), false, source});
  image.content = BlockContent{
      .bytes = source, .medium = BlockMedium::memory_card, .block_bytes = 1, .system = "3do", .mark = "its label"};
  return image;
}

WritePlan plan_write(const Image& image, const std::filesystem::path& out, const Settings&) {
  const auto& memory = std::get<BlockContent>(image.content);
  if (image.format != &kNvramFormat)
    throw Error({.code = "not_a_save",
                 .what = "these are saves of another console",
                 .file = image.path.string(),
                 .found = std::string(image.format->title)});
  WritePlan plan;
  plan.copies = true;
  plan.steps.emplace_back("copy it as it is");
  plan.outputs.push_back(
      {.path = out, .pieces = {SourceRun{memory.bytes, 0, memory.bytes->size()}}, .size_bytes = memory.bytes->size()});
  return plan;
}

}  // namespace

extern const Format kNvramFormat = {.id = "3do-nvram",
                                    .title = "3DO save memory",
                                    .extensions = kExtensions,
                                    .probe = &probe,
                                    .open = &open,
                                    .holds = {.saves = true},
                                    .plan_write = &plan_write,
                                    .volume = "3do-saves"};

}  // namespace opifex
