#include "opifex/core/volumes/file_system.hpp"

#include <algorithm>

#include "opifex/core/base/disc_marks.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/image/shared_settings.hpp"
#include "opifex/core/volumes/iso9660/volume.hpp"
#include "opifex/core/volumes/iso9660/writer.hpp"

namespace opifex {
namespace {

namespace fs = std::filesystem;
using enum SettingType;

constexpr std::uint64_t kBlock = 2048, kDescriptorsAt = 16;

/// A second layer begins where the volume ends, with a descriptor in its first sector.
std::optional<std::uint64_t> second_layer(const ByteSource& disc, const Volume& volume) {
  if (volume.blocks <= kDescriptorsAt) return std::nullopt;
  const Bytes head = read_up_to(disc, volume.blocks * kBlock, 6);
  const bool descriptor = head.size() == 6 && head[0] == std::byte{1} && as_text(head).substr(1) == kIsoMark;
  return descriptor ? std::optional(volume.blocks - kDescriptorsAt) : std::nullopt;
}

std::string variant(std::string_view system) {
  return system.ends_with("+joliet") ? "ISO 9660 with Joliet names" : "ISO 9660";
}

constexpr Setting kNames{
    .name = "names",
    .type = choice,
    .help = "plain names: level1 (8 + 3), level2 (default, 30 characters) or relaxed (as they are)",
    .value = "RULE",
    .preset = "level2",
    .words = [] {
      return std::vector<std::string>{"level1", "level2", "relaxed"};
    }};
constexpr Setting kNoJoliet{.name = "no-joliet", .help = "leave out the second tree with the names as they are"};
constexpr Setting kPadding{.name = "padding",
                           .type = number,
                           .help = "empty sectors at the end",
                           .value = "N",
                           .range = {0, UINT32_MAX},
                           .unit = "sectors"};
constexpr Setting kOrder{
    .name = "order", .type = reads, .help = "a list of paths, one a line, whose data comes first", .value = "FILE"};
constexpr Setting kBootArea{
    .name = "boot-area", .type = reads, .help = "up to 32768 bytes for the first 16 sectors", .value = "FILE"};
constexpr std::array kSettings = {&kLabel, &kNames, &kNoJoliet, &kFixedDates, &kPadding, &kOrder, &kBootArea};

std::vector<std::string> lines_of(const fs::path& path) {
  const SourcePtr file = open_file(path);
  constexpr std::size_t kMost = 16 << 20;
  const Bytes bytes = read_up_to(*file, 0, kMost);
  std::vector<std::string> lines;
  std::string_view rest = as_text(bytes);
  while (!rest.empty()) {
    const std::size_t end = std::min(rest.find('\n'), rest.size());
    const std::string_view line = trim(rest.substr(0, end));
    if (!line.empty()) lines.emplace_back(line);
    rest.remove_prefix(std::min(end + 1, rest.size()));
  }
  return lines;
}

FolderImage plan_folder(const fs::path& folder, const fs::path& out, const Settings& settings, std::int64_t) {
  IsoBuild build = plan_iso(folder, out, iso_options(settings));
  return {std::move(build.plan), std::move(build.notices)};
}

constexpr FolderBuilder kBuilder{.settings = kSettings, .plan = &plan_folder};

}  // namespace

IsoOptions iso_options(const Settings& settings) {
  IsoOptions options;
  options.volume_id = settings.text(kLabel);
  options.names = settings.choice<IsoNames>(kNames);
  options.joliet = !settings.flag(kNoJoliet);
  options.fixed_time = settings.day(kFixedDates);
  options.padding_sectors = static_cast<std::uint32_t>(settings.number(kPadding).value_or(0));
  if (const std::string order = settings.text(kOrder); !order.empty()) options.first_files = lines_of(order);
  options.system_area = settings.text(kBootArea);
  return options;
}

extern const FileSystem kIso9660 = {
    .id = "iso9660",
    .title = "ISO 9660",
    .short_id = "iso",
    .anywhere = true,
    .tells_size = true,
    .read = [](const VolumePlace& place) { return read_iso9660(place.disc, place.start); },
    .name_of = &variant,
    .next = &second_layer,
    .build = &kBuilder};

}  // namespace opifex
