// Memory cards of the PS1, and their saves in files of their own.
#include "opifex/core/image/format.hpp"

#include "opifex/core/base/text.hpp"
#include "opifex/core/volumes/file_system.hpp"
#include "opifex/core/volumes/ps1card/card.hpp"

namespace opifex {

extern const Format kPs1CardFormat, kPs1SingleFormat, kPs1BareFormat;

namespace {

namespace ps1 = ps1card;

constexpr std::array<std::string_view, 2> kCardExtensions = {".card", ".mcr"};
constexpr std::array<std::string_view, 1> kSingleExtensions = {".single"}, kBareExtensions = {".bare"};
constexpr std::size_t kMostBytes = ps1::kMostCards * ps1::kCardBytes;

bool is_named(std::string_view name, std::span<const std::string_view> extensions) {
  return std::any_of(extensions.begin(), extensions.end(), [&](std::string_view e) { return name.ends_with(e); });
}

Bytes all_of(const ByteSource& source) { return read_up_to(source, 0, kMostBytes + 1); }
bool may_be(const ByteSource& source, ps1::Kind kind) {
  return source.size() <= kMostBytes && ps1::kind_of(all_of(source)) == kind;
}

int probe_card(const ByteSource& source, std::string_view name) {
  if (!may_be(source, ps1::Kind::cards)) return 0;
  const Bytes image = all_of(source);
  for (std::size_t at = 0; at < image.size(); at += ps1::kCardBytes)
    if (as_text(ByteView(image).subspan(at, 2)) == "MC") return 24;
  const ps1::Card first = ps1::read_card(ByteView(image).first(ps1::kCardBytes));
  const bool unformatted = !first.findings.empty() && std::string_view(first.findings[0].code) == "unformatted";
  // Without its mark, a card is one by its directory; an empty one by its name alone.
  if (first.recognised && !unformatted) return 21;
  return is_named(name, kCardExtensions) ? 6 : 0;
}

int probe_single(const ByteSource& source, std::string_view name) {
  if (!may_be(source, ps1::Kind::single)) return 0;
  const ps1::Card card = ps1::read_single(all_of(source));
  if (!card.damaged()) return card.findings.empty() ? 40 : 24;
  return is_named(name, kSingleExtensions) ? 12 : 0;
}

int probe_bare(const ByteSource& source, std::string_view) {
  if (!may_be(source, ps1::Kind::bare)) return 0;
  return ps1::read_bare(all_of(source)).findings.empty() ? 28 : 16;
}

Image open_as(const Format& format, const std::filesystem::path& path, const OpenOptions& options, ps1::Kind kind) {
  Image image;
  image.format = &format;
  image.path = path;
  const SourcePtr source = options.space().open(path);
  if (!may_be(*source, kind))
    throw Error({.code = "size",
                 .what = "this is no " + std::string(format.title),
                 .file = path.string(),
                 .found = bytes_text(source->size())});
  image.files.push_back({path, std::string(format.id), source->size(), false, source});
  image.content = BlockContent{.bytes = source,
                               .medium = BlockMedium::memory_card,
                               .block_bytes = ps1::kSaveBlockBytes,
                               .system = "ps1",
                               .mark = "its directory"};
  if (source->size() > ps1::kCardBytes)
    image.warnings.push_back(
        {"multi_card", plural(source->size() / ps1::kCardBytes, "card") + " one behind the other"});
  return image;
}

/// The saves of any of the three.
std::vector<Volume> volumes_of(const Image& image) {
  std::vector<Volume> volumes = read_volumes(image);
  if (volumes.empty() || image.format == nullptr || std::get<BlockContent>(image.content).system != "ps1")
    throw Error({.code = "not_a_save", .what = "there is no save of this console in it", .file = image.path.string()});
  return volumes;
}

WritePlan plan_of(const std::filesystem::path& out, Bytes bytes, std::string step) {
  WritePlan plan;
  plan.steps.push_back(std::move(step));
  const std::uint64_t size = bytes.size();
  plan.outputs.push_back({.path = out, .pieces = {std::move(bytes)}, .size_bytes = size});
  return plan;
}

WritePlan copy_of(const Image& image, const std::filesystem::path& out) {
  const SourcePtr& bytes = std::get<BlockContent>(image.content).bytes;
  WritePlan plan;
  plan.copies = true;
  plan.steps.emplace_back("copy it as it is");
  plan.outputs.push_back({.path = out, .pieces = {SourceRun{bytes, 0, bytes->size()}}, .size_bytes = bytes->size()});
  return plan;
}

/// The one save that there is.
const VolumeEntry& only_save(const Image& image, const std::vector<Volume>& volumes) {
  const VolumeEntry* only = nullptr;
  std::size_t count = 0;
  for (const Volume& v : volumes)
    for (const VolumeEntry& e : v.entries) {
      only = &e;
      ++count;
    }
  if (count != 1)
    throw Error({.code = "several_saves",
                 .what = count == 0 ? "there is no save on this card" : "there are several saves on this card",
                 .file = image.path.string(),
                 .found = plural(count, "save"),
                 .expected = "one",
                 .hint = count == 0 ? "" : "<job extract> writes each of them to a file of its own"});
  return *only;
}

Bytes bytes_of(const Volume& volume, const VolumeEntry& e, bool with_header) {
  const SourcePtr source = volume.open(e);
  Bytes bytes = with_header ? e.facts->header : Bytes();
  const Bytes blocks = read_up_to(*source, 0, static_cast<std::size_t>(source->size()));
  bytes.insert(bytes.end(), blocks.begin(), blocks.end());
  return bytes;
}

WritePlan plan_card(const Image& image, const std::filesystem::path& out, const Settings&) {
  const std::vector<Volume> volumes = volumes_of(image);
  if (image.format == &kPs1CardFormat) return copy_of(image, out);
  const bool named = !volumes[0].entries[0].facts->header.empty();
  VolumeEdit put{.kind = VolumeEdit::Kind::put, .path = image.path.filename().string()};
  put.contents = memory_source(bytes_of(volumes[0], volumes[0].entries[0], named), image.path.string());
  ps1::Editor editor(ps1::make_card());
  const EditStep step = editor.apply(put);
  return plan_of(out, editor.image(), fmt::format("make an empty card, and put {} on it", step.path));
}

WritePlan plan_single(const Image& image, const std::filesystem::path& out, const Settings&) {
  const std::vector<Volume> volumes = volumes_of(image);
  if (image.format == &kPs1SingleFormat) return copy_of(image, out);
  const VolumeEntry& save = only_save(image, volumes);
  if (save.facts->header.empty())
    throw Error({.code = "no_name",
                 .what = "bare blocks have no name, and a save in a file of its own needs one",
                 .file = image.path.string(),
                 .hint = fmt::format("<to> {}: the save gets the name of the file", kPs1CardFormat.id)});
  const Volume* holder = &volumes[0];
  for (const Volume& v : volumes)
    if (!v.entries.empty()) holder = &v;
  return plan_of(out, bytes_of(*holder, save, true),
                 fmt::format("write {} with its entry of the directory", save.path));
}

/// What is deleted, and whatever else is on the card, is not in a save alone.
std::vector<Loss> losses_of_single(const Image& image, const Settings&) {
  if (image.format != &kPs1CardFormat) return {};
  std::uint64_t deleted = 0;
  for (const Volume& v : volumes_of(image)) deleted += v.deleted.size();
  if (deleted == 0) return {};
  return {{"files", plural(deleted, "deleted save"), "what could still come back on the card"}};
}

}  // namespace

extern const Format kPs1CardFormat = {
    .id = "ps1-card",
    .title = "PS1 memory card",
    .extensions = kCardExtensions,
    .probe = &probe_card,
    .open = [](const std::filesystem::path& p,
               const OpenOptions& o) { return open_as(kPs1CardFormat, p, o, ps1::Kind::cards); },
    .holds = {.saves = true},
    .plan_write = &plan_card,
    .volume = "ps1-saves"};

extern const Format kPs1SingleFormat = {
    .id = "ps1-single",
    .title = "PS1 save in a file of its own",
    .extensions = kSingleExtensions,
    .probe = &probe_single,
    .open = [](const std::filesystem::path& p,
               const OpenOptions& o) { return open_as(kPs1SingleFormat, p, o, ps1::Kind::single); },
    .holds = {.saves = true},
    .plan_write = &plan_single,
    .own_losses = &losses_of_single};

extern const Format kPs1BareFormat = {
    .id = "ps1-bare",
    .title = "blocks of a PS1 save without a name",
    .extensions = kBareExtensions,
    .probe = &probe_bare,
    .open = [](const std::filesystem::path& p,
               const OpenOptions& o) { return open_as(kPs1BareFormat, p, o, ps1::Kind::bare); },
    .holds = {},
    .plan_write = nullptr};

}  // namespace opifex
