#include "opifex/core/platforms/identity.hpp"

#include <algorithm>
#include <array>

#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/rom/rom.hpp"
#include "opifex/core/image/format.hpp"
#include "opifex/core/volumes/stfs/content_header.hpp"
#include "opifex/core/volumes/udf/volume.hpp"
#include "opifex/core/volumes/volume.hpp"

#include "disc_view.hpp"
#include "sfo_facts.hpp"

namespace opifex {
namespace {

int rank(const Identity& id) {
  return is_kind(id.platform, PlatformKind::plain_data) ? 0
         : id.confidence == "certain"                   ? 3
         : id.confidence == "likely"                    ? 2
                                                        : 1;
}

/// Data tracks, or the disc of blocks.
std::vector<DiscView> views_of(const Image& image) {
  std::vector<DiscView> views;
  const auto add = [&](SourcePtr disc, std::uint64_t start) {
    DiscView view{std::move(disc), start, {}, image.keys.get()};
    view.iso = Iso9660::open(view.disc, start);
    views.push_back(std::move(view));
  };
  if (image.blocks()) {
    add(image.stored_blocks(), 0);
  } else if (image.cd()) {
    for (const cd::Track& t : image.cd()->layout().tracks)
      if (!t.mode.is_audio() && !t.incomplete)
        add(user_data_source(image.cd(), t.number), static_cast<std::uint64_t>(std::max(0, t.start_lba)));
  }
  return views;
}

/// What any disc with a file system is.
std::optional<Identity> plain_volume(const DiscView& view) {
  if (!view.iso) return std::nullopt;
  Identity id;
  id.platform = kIsoDisc.id;
  id.confidence = "certain";
  id.title = id.volume = printable(view.iso->volume_id);
  id.evidence.push_back("a primary volume descriptor at sector 16");
  return id;
}

/// Discs whose files only UDF names.
std::optional<Identity> udf_disc(const DiscView& view) {
  const auto udf = view.start == 0 ? read_udf(view.disc) : std::nullopt;
  if (!udf) return std::nullopt;
  Identity id;
  const bool video = udf->find("BDMV/index.bdmv") != nullptr;
  id.platform = video ? kBluRayVideo.id : kUdfDisc.id;
  id.confidence = "certain";
  id.volume = id.title = printable(udf->label);
  id.evidence.push_back(video ? "UDF with BDMV/index.bdmv" : "a UDF file system");
  return id;
}

Identity of_music(const Image& image) {
  Identity id;
  if (!image.cd() || image.cd()->layout().audio_track_count() == 0) return id;
  if (image.main_data_track() != 0) return id;  // a data track that is missing could tell more
  const bool listed = image.format && image.format->holds.track_list;
  id.platform = kAudioCd.id;
  id.confidence = listed ? "certain" : "guess";
  id.title = cd::find_text(image.cd()->layout().texts, "TITLE").value_or("");
  id.evidence.push_back("all tracks are audio");
  return id;
}

/// Writers disagree by a pause of two seconds about where a volume ends; more than that counts.
std::string state_of(const Image& image, const DiscView& view) {
  constexpr std::uint64_t kPause = 150, kBlock = 2048;
  if (!view.iso || view.iso->sector_count == 0) return {};
  std::uint64_t there = view.disc->size() / kBlock;
  if (!image.blocks()) {
    const cd::Track* track = image.cd()->layout().track(image.main_data_track());
    if (!track || image.cd()->layout().tracks.size() > 1) return {};  // what follows is another track's
    there = static_cast<std::uint64_t>(track->end_lba);
  }
  const std::uint64_t told = view.iso->sector_count + view.start;
  if (there + kPause < told) return "truncated";
  return there > told + 2 * kPause ? "padded" : "full";
}

/// A console's disc before a plain one, then the surer; the others that fit stay as "also".
Identity choose(std::vector<Identity> found) {
  std::stable_sort(found.begin(), found.end(), [](const Identity& a, const Identity& b) { return rank(a) > rank(b); });
  Identity best = std::move(found.front());
  for (std::size_t i = 1; i < found.size(); ++i)
    if (found[i].platform != best.platform) best.also.push_back({found[i].platform, found[i].confidence});
  return best;
}

}  // namespace

Identity known_as(const char* platform, const char* confidence, std::string evidence) {
  Identity id;
  id.platform = platform;
  id.confidence = confidence;
  id.evidence.push_back(std::move(evidence));
  return id;
}

std::string DiscView::field(std::uint64_t at, std::size_t size) const {
  const Bytes bytes = read(at, size);
  std::string text;
  for (const std::string_view word : split_words(as_text(bytes).substr(0, as_text(bytes).find('\0'))))
    text += (text.empty() ? "" : " ") + std::string(word);
  return printable(text);
}

Bytes DiscView::file(std::string_view path, std::size_t most) const {
  const auto found = iso ? iso->find(path) : std::nullopt;
  return found && !found->is_folder ? iso->read(*found, most) : Bytes{};
}

std::string region_of_serial(std::string_view serial) {
  const auto letter = [](char c) { return c >= 'A' && c <= 'Z'; };
  if (serial.size() < 9 || !std::all_of(serial.begin(), serial.begin() + 4, letter)) return {};
  switch (serial[2]) {
    case 'U':
      return "North America";
    case 'E':
      return "Europe";
    case 'P':
    case 'J':
      return "Japan";
    case 'A':
    case 'H':
      return "Asia";
    case 'K':
      return "Korea";
    case 'C':
      return "China";
    default:
      return {};
  }
}

std::string with_hyphen(std::string id) {
  constexpr std::size_t kLetters = 4, kAll = 9;
  const bool fits = id.size() == kAll &&
                    std::all_of(id.begin(), id.begin() + kLetters, [](char c) { return c >= 'A' && c <= 'Z'; }) &&
                    std::all_of(id.begin() + kLetters, id.end(), [](char c) { return c >= '0' && c <= '9'; });
  if (fits) id.insert(kLetters, "-");
  return id;
}

/// Title and version by PARAM.SFO.
void take_sfo(Identity& id, const Sfo& sfo, const char* id_key) {
  if (id.serial.empty()) id.serial = with_hyphen(sfo.text(id_key));
  id.title = printable(sfo.text("TITLE"));
  id.category = printable(sfo.text("CATEGORY"));
}

std::string serial_of_boot_path(std::string_view path) {
  path = path.substr(0, path.find(';'));
  const std::size_t slash = path.find_last_of("\\/:");
  const std::string name = to_upper_ascii(slash == std::string_view::npos ? path : path.substr(slash + 1));
  const auto letter = [](char c) { return c >= 'A' && c <= 'Z'; };
  const auto digit = [](char c) { return c >= '0' && c <= '9'; };
  if (name.size() < 9 || !std::all_of(name.begin(), name.begin() + 4, letter)) return {};
  std::size_t at = name[4] == '_' || name[4] == '-' ? 5 : 4;
  std::string digits;
  for (; at < name.size() && digits.size() < 5; ++at) {
    if (name[at] == '.' && digits.size() == 3) continue;
    if (!digit(name[at])) return {};
    digits += name[at];
  }
  return digits.size() == 5 ? name.substr(0, 4) + "-" + digits : std::string{};
}

namespace {

/// By its contents alone.
Identity identify_disc(const Image& image) {
  std::vector<Identity> found;
  const std::vector<DiscView> views = views_of(image);
  if (views.empty()) return of_music(image);
  for (const Detector* detector : detectors())
    for (const DiscView& view : views)
      if (auto id = detector->identify(view)) {
        if (id->volume.empty() && view.iso) id->volume = printable(view.iso->volume_id);
        if (id->title.empty() && view.iso) id->title = id->volume;
        found.push_back(std::move(*id));
      }
  // A UDF file system is only read where nothing better was found: it takes more than a look.
  if (found.empty())
    if (auto id = udf_disc(views.front())) found.push_back(std::move(*id));
  for (const DiscView& view : views)
    if (auto id = plain_volume(view)) found.push_back(std::move(*id));
  if (found.empty()) return {};
  Identity id = choose(std::move(found));
  const bool udf = views.front().start == 0 && views.front().iso && has_udf(*views.front().disc);
  if (udf && id.platform != kUdfDisc.id && id.platform != kBluRayVideo.id)
    id.also.push_back({std::string(kUdfDisc.id), "certain"});
  if (id.state.empty()) id.state = state_of(image, views.front());
  if (id.state == "full" && !image.parts.empty()) id.state = "split";
  return id;
}

}  // namespace

std::string disc_text(unsigned disc, unsigned discs) {
  if (disc == 0 || (disc == 1 && discs <= 1)) return "";
  return disc > discs ? fmt::format("{}", disc) : fmt::format("{} of {}", disc, discs);
}

namespace {

/// Where the format alone tells the machine.
Identity by_format(std::string_view system, std::string_view mark) {
  Identity id;
  id.platform = system;
  if (system.empty()) return id;
  id.confidence = "certain";
  id.evidence = {std::string(mark)};
  return id;
}

/// A ROM is small, and what it is depends on all of it: whether it was read too far, or a line had no contact.
Identity of_cartridge(const RomContent& content) {
  Identity id = by_format(content.system, content.mark);
  if (content.proven == Proven::likely || content.proven == Proven::told) id.confidence = "likely";
  if (content.proven == Proven::guessed) id.confidence = "guess";
  const rom::Machine* machine = rom::find_machine(content.system);
  const rom::Container container = rom::container_of(*content.bytes, machine);
  const auto facts =
      std::make_shared<rom::Examined>(rom::examine(machine, container, rom::read_rom(*content.bytes, container)));
  const rom::Header header = facts->is_blank() ? rom::Header{} : facts->header;
  id.title = printable(header.title);
  id.serial = printable(header.code);
  id.region = printable(header.region);
  id.version = printable(header.version);
  id.maker = printable(header.maker);
  for (const rom::Problem& p : rom::problems_of(*facts)) id.warnings.push_back({p.code, p.message});
  id.rom = facts;
  return id;
}

/// A floppy has a label, or a reason why nobody can list it.
Identity of_small_medium(const Image& image, const BlockContent& blocks) {
  Identity id = by_format(blocks.system, blocks.mark);
  if (blocks.medium != BlockMedium::floppy) return id;
  for (const Volume& volume : read_volumes(image)) {
    id.title = printable(volume.label);
    if (!volume.unlisted.empty()) id.warnings.push_back({"no_file_system", volume.unlisted});
    if (volume.damaged()) id.warnings.push_back({"damaged", "its file system is damaged", "<job check> tells how"});
  }
  return id;
}

}  // namespace

Identity identify_platform(const Image& image) {
  if (const auto* rom = std::get_if<RomContent>(&image.content)) return of_cartridge(*rom);
  if (const auto* blocks = std::get_if<BlockContent>(&image.content); blocks && !blocks->is_disc())
    return of_small_medium(image, *blocks);
  const bool package =
      !image.files.empty() && image.files.front().source && is_content_package(*image.files.front().source);
  if (!package) return identify_disc(image);
  return of_content_package(image, image.blocks() ? identify_disc(image) : Identity{});
}

}  // namespace opifex
