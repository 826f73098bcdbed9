// An installed disc game: a header file, and a folder of data files.
#include "opifex/core/image/format.hpp"

#include <algorithm>
#include <map>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"
#include "opifex/core/formats/xiso/losses.hpp"
#include "opifex/core/volumes/xdvdfs/executable.hpp"
#include "opifex/core/volumes/xdvdfs/volume.hpp"

#include "picture.hpp"
#include "svod.hpp"

namespace opifex {

extern const Format kGodFormat, kStfsFormat;  // the header of both may be wrong: the files decide

namespace {

namespace fs = std::filesystem;

constexpr std::array<std::string_view, 1> kExtensions = {""};
constexpr std::size_t kTypeAt = 0x3A9;

int probe(const ByteSource& source, std::string_view) {
  if (!is_content_package(source)) return 0;
  const Bytes type = read_up_to(source, kTypeAt, 4);
  return type.size() == 4 && load_be32(type, 0) == 1 ? 40 : 34;
}

/// "Data0007" -> 7; nothing for other names.
std::optional<std::uint64_t> data_number(const std::string& name, int base) {
  const std::string folded = fold_case(name);
  if (!folded.starts_with("data") || folded.size() != 8) return std::nullopt;
  std::uint64_t n = 0;
  for (const char c : std::string_view(folded).substr(4)) {
    const int digit = c >= '0' && c <= '9' ? c - '0' : c >= 'a' && c <= 'f' ? c - 'a' + 10 : 99;
    if (digit >= base) return std::nullopt;
    n = n * static_cast<std::uint64_t>(base) + static_cast<std::uint64_t>(digit);
  }
  return n;
}

/// In order, with what is missing between them.
std::vector<god::DataFile> data_files(const fs::path& folder, const FileSpace& files) {
  std::map<std::uint64_t, fs::path> found;
  // Nobody has seen more than ten files with decimal and hexadecimal numbers beside each other.
  const std::vector<fs::path> entries = files.entries(folder);
  const bool hexadecimal = std::any_of(entries.begin(), entries.end(), [](const fs::path& p) {
    const std::string name = p.filename().string();
    return data_number(name, 16) && !data_number(name, 10);
  });
  for (const fs::path& entry : entries)
    if (const auto n = data_number(entry.filename().string(), hexadecimal ? 16 : 10)) found[*n] = entry;
  std::vector<god::DataFile> out;
  constexpr std::uint64_t kMostFiles = 10'000;
  const std::uint64_t count = found.empty() ? 1 : std::min(found.rbegin()->first + 1, kMostFiles);
  for (std::uint64_t n = 0; n < count; ++n) {
    const auto at = found.find(n);
    if (at == found.end())
      out.push_back({folder / fmt::format("Data{:04}", n), nullptr});
    else
      out.push_back({at->second, files.open(at->second)});
  }
  // A full file names the next one by the hash of its first block.
  const SourcePtr last = out.back().source;
  const Bytes next = last ? read_up_to(*last, god::kFileGroups * god::kHashBytes, god::kHashBytes) : Bytes{};
  if (last && last->size() >= god::kFullFile && !all_zero(next))
    out.push_back({folder / fmt::format("Data{:04}", out.size()), nullptr});
  return out;
}

class GodContainer final : public Container {
 public:
  GodContainer(ContentHeader header, std::vector<god::DataFile> files, std::optional<god::Mapping> mapping)
      : header_(std::move(header)), files_(std::move(files)), mapping_(std::move(mapping)) {}
  std::vector<ContainerFact> facts() const override {
    const std::string layout = !mapping_            ? "unknown"
                               : mapping_->enhanced ? fmt::format("enhanced, from block {}", mapping_->start)
                                                    : "plain";
    return {{"content_type", "Type", header_.type_name()},
            {"title_id", "", fmt::format("{:08X}", header_.title_id)},
            {"media_id", "Media id", fmt::format("{:08X}", header_.media_id)},
            {"name", "", header_.name()},
            {"publisher", "Publisher", header_.publisher},
            {"layout", "Layout", layout},
            {"data_files", "Data files", fmt::format("{}", files_.size()), files_.size()},
            {"pictures", "Pictures",
             header_.picture_bytes[0] == 0 && header_.picture_bytes[1] == 0
                 ? ""
                 : fmt::format("{} and {} bytes", header_.picture_bytes[0], header_.picture_bytes[1])},
            {"content_id", "", hex(header_.content_id)}};
  }
  std::vector<ContainerShare> shares() const override { return {}; }
  std::vector<ContainerTag> tags() const override { return {}; }
  bool hashes_everything() const override { return true; }
  std::vector<ContainerProblem> verify(JobContext& context, DecodedSectors*) const override {
    return god::verify(files_, header_, mapping_, context);
  }

 private:
  ContentHeader header_;
  std::vector<god::DataFile> files_;
  std::optional<god::Mapping> mapping_;
};

/// Where the header contradicts the data, the data counts.
void warn_of_fields(Image& image, const ContentHeader& header, const std::vector<god::DataFile>& files,
                    const std::optional<god::Mapping>& mapping) {
  const auto warn = [&](const char* code, std::string message) {
    image.warnings.push_back({code, std::move(message)});
  };
  std::uint64_t bytes = 0, blocks = 0;
  for (const god::DataFile& f : files) {
    bytes += f.source ? f.source->size() : 0;
    blocks += f.source ? god::data_blocks(f.source->size()) : god::kFileBlocks;
  }
  if (!header.content_id_fits) warn("header_altered", "the header was altered: its content id does not match it");
  if (header.descriptor_type != 1) warn("other_type", "the header calls it a package of files, the data is a disc");
  if (header.data_files != files.size())
    warn("other_file_count",
         fmt::format("the header says {} data file{}, there {}", header.data_files, header.data_files == 1 ? "" : "s",
                     files.size() == 1 ? "is 1" : fmt::format("are {}", files.size())));
  // What is missing is told as missing; what it makes of sizes and places would be told twice.
  if (std::any_of(files.begin(), files.end(), [](const god::DataFile& f) { return !f.source; })) return;
  if (header.data_bytes != bytes)
    warn("other_size", fmt::format("the header says {} bytes of data files, there are {}", grouped(header.data_bytes),
                                   grouped(bytes)));
  constexpr std::size_t kBlocksAt = 0x392 - kContentDescriptorAt, kFeaturesAt = 0x391 - kContentDescriptorAt;
  const auto field = [&](bool little) {
    std::uint64_t n = 0;
    for (std::size_t i = 0; i < 3; ++i)
      n |= std::to_integer<std::uint64_t>(header.descriptor[kBlocksAt + i]) << 8 * (little ? i : 2 - i);
    return n;
  };
  if (field(true) != blocks && field(false) != blocks)
    warn("other_block_count",
         fmt::format("the header says {} blocks, there are {}", grouped(field(true)), grouped(blocks)));
  if (!mapping)
    return warn("layout_unknown", "no game partition is found in the data files, or not where its files lie");
  if (mapping->believed == "unproved")
    warn("other_start", "no start block fits the data: the one of the header is taken");
  if (mapping->believed == "found" || (mapping->believed == "zero" && mapping->enhanced))
    warn("other_start", fmt::format("the header's start block does not fit the data: it is {}", mapping->start));
  const bool flag = (header.descriptor[kFeaturesAt] & std::byte{0x40}) != std::byte{0};
  if (flag != mapping->enhanced) warn("other_layout", "the header's mark for the layout contradicts the data");
}

/// A name that a file can have on any drive.
std::string stem_of(const ContentHeader& header) {
  std::string name = header.name();
  for (char& c : name)
    if (static_cast<unsigned char>(c) < 0x20 || std::string_view("\"*/:<>?\\|\x7F").find(c) != std::string_view::npos)
      c = '-';
  while (!name.empty() && (name.back() == '.' || name.back() == ' ')) name.pop_back();
  if (name.empty()) return fmt::format("{:08X}", header.title_id);
  return header.discs > 1 && header.disc >= 1 ? fmt::format("{} (Disc {})", name, header.disc) : name;
}

Image open(const fs::path& path, const OpenOptions& options) {
  Image image;
  image.format = &kGodFormat;
  image.path = path;
  const FileSpace& files = options.space();
  const SourcePtr source = files.open(path);
  const ContentHeader header = read_content_header(*source);
  const auto folder = content_data_folder(path, files);
  const bool alone = !folder && source->size() > header.size_bytes;
  if (!folder && (header.descriptor_type != 1 || !is_content_package(*source)) && alone)
    return kStfsFormat.open(path, options);
  image.files.push_back({path, "god", source->size(), false, source});
  std::vector<god::DataFile> data;
  if (folder)
    data = data_files(*folder, files);
  else if (alone)
    data.push_back({path, slice_source(source, header.size_bytes, source->size() - header.size_bytes)});
  else
    data.push_back({fs::path(path.string() + ".data") / "Data0000", nullptr});
  for (const god::DataFile& f : data) {
    if (f.path != path) image.files.push_back({f.path, "god", f.source ? f.source->size() : 0, !f.source, f.source});
    if (f.source) continue;
    image.complete = false;
    image.warnings.push_back(
        {"missing_data_file", printable(f.path.string()) + " is missing", {}, Cause::missing_data_file});
    if (!options.allow_missing)
      throw Error({.code = "missing_file",
                   .what = "a data file of the game is missing",
                   .file = f.path.string(),
                   .hint = "<job check> says which files of the game it held"});
  }
  std::optional<god::Mapping> mapping;
  const SourcePtr stream = god::stored_stream(data);
  if (data.front().source) mapping = god::find_mapping(stream, header);
  warn_of_fields(image, header, data, mapping);
  if (mapping) image.take_blocks(god::open_disc(stream, *mapping));
  image.name = stem_of(header);
  image.container = std::make_shared<GodContainer>(header, data, mapping);
  return image;
}

/// Cut at a character, so many units at most, one left for the end.
void put_utf16(std::span<std::byte> header, std::size_t at, std::size_t units, const std::string& text) {
  std::string out = encode(text, "UTF-16BE").value_or("");
  std::size_t bytes = std::min(out.size(), (units - 1) * 2);
  const auto high_surrogate = [&](std::size_t i) { return (static_cast<unsigned char>(out[i]) & 0xFC) == 0xD8; };
  if (bytes >= 2 && high_surrogate(bytes - 2)) bytes -= 2;
  std::copy_n(as_view(out).begin(), bytes, header.begin() + static_cast<std::ptrdiff_t>(at));
}

void put_picture(std::span<std::byte> header, const fs::path& file) {
  constexpr std::size_t kMost = 0x3D00;
  const SourcePtr source = open_file(file);
  const Bytes png = read_up_to(*source, 0, kMost);
  if (source->size() > kMost || !god::is_png(png))
    throw Error({.code = "bad_picture",
                 .what = "the picture cannot go into the container",
                 .file = file.string(),
                 .found = fmt::format("{} bytes", source->size()),
                 .expected = "a whole PNG of at most 15 616 bytes, 64 x 64 by custom"});
  for (const std::size_t n : {0u, 1u}) {
    store_be32(header, 0x1712 + 4 * n, static_cast<std::uint32_t>(png.size()));
    std::copy(png.begin(), png.end(), header.begin() + static_cast<std::ptrdiff_t>(0x171A + 0x4000 * n));
  }
}

Bytes make_header(const XboxExecutable& executable, const std::string& title, const fs::path& picture) {
  constexpr std::size_t kHeaderBytes = 0xB000;
  Bytes h(kHeaderBytes);
  std::copy_n(as_view("LIVE").begin(), 4, h.begin());
  store_be32(h, content_at::kHeaderBytes, 0xAD0E);
  store_be32(h, content_at::kType, executable.second ? kContentOnDemand : kContentOriginal);
  store_be32(h, content_at::kMetadataVersion, 2);
  std::copy(executable.execution.begin(), executable.execution.end(), h.begin() + content_at::kExecution);
  // Length of the descriptor, then what consoles write there for their own use.
  constexpr std::array<unsigned char, 4> kCustom = {0x24, 5, 5, 0x11};
  for (std::size_t i = 0; i < kCustom.size(); ++i) h[kContentDescriptorAt + i] = static_cast<std::byte>(kCustom[i]);
  store_be32(h, content_at::kDescriptorType, 1);
  put_utf16(h, content_at::kNames, 128, title);
  put_utf16(h, content_at::kTitleName, 64, title);
  if (!picture.empty()) put_picture(h, picture);
  return h;
}

constexpr Setting kTitle{.name = "title",
                         .type = SettingType::text,
                         .help = "the name the console shows (default: the game's own, else the file's)",
                         .value = "NAME"};
constexpr Setting kPicture{
    .name = "picture", .type = SettingType::reads, .help = "a PNG that the console shows", .value = "FILE"};

/// A container that becomes one again: every byte stays, names and pictures with them.
WritePlan plan_copy(const Image& image, const fs::path& out) {
  const ContentHeader header = read_content_header(*image.files.front().source);
  const fs::path folder = out.parent_path() / "Content" / "0000000000000000" / title_id_text(header.title_id) /
                          fmt::format("{:08X}", header.content_type);
  const std::string name = image.path.filename().string();
  WritePlan plan;
  plan.copies = true;
  plan.steps.push_back(fmt::format("copy the container as it is to {}", folder.string()));
  for (std::size_t i = image.files.size(); i-- > 0;) {
    const ImageFile& file = image.files[i];
    const fs::path target = i == 0 ? folder / name : folder / (name + ".data") / file.path.filename();
    plan.outputs.push_back({target, {SourceRun{file.source, 0, file.size_bytes}}, file.size_bytes});
  }
  return plan;
}

WritePlan plan_write(const Image& image, const fs::path& out, const Settings& settings) {
  const bool package = image.format == &kGodFormat || std::holds_alternative<FileContent>(image.content);
  if (package && !settings.has(kTitle) && !settings.has(kPicture)) return plan_copy(image, out);
  const auto place = image.blocks() ? find_game_partition(*image.blocks()) : std::nullopt;
  const auto volume = place ? read_xdvdfs(image.blocks()) : std::nullopt;
  const auto executable = volume ? executable_of(*volume) : std::nullopt;
  if (!executable || !executable->title_id)
    throw Error({.code = volume ? "no_executable" : "no_game_partition",
                 .what = volume ? "no executable in the root says which game this is"
                                : "there is no game partition of an Xbox disc in this image",
                 .file = image.path.string(),
                 .expected = volume ? "default.xex or default.xbe with a title id" : "",
                 .hint = volume ? "" : "<job identify> says what it is"});
  const std::uint64_t start = place.value_or(0);
  const std::uint64_t end = game_bytes(*volume, *image.blocks(), start);
  std::string title = settings.text(kTitle);
  if (title.empty()) title = !executable->name.empty() ? executable->name : image.path.stem().string();
  god::NewContainer made;
  made.game = slice_source(image.blocks(), start, end);
  made.header = make_header(*executable, title, settings.text(kPicture));
  // A name of its own that follows from the game: consoles take any.
  Digest digest("sha1");
  digest.update(made.header);
  digest.update(read_up_to(*made.game, 0, 1 << 20));
  made.name = to_upper_ascii(digest.finish());
  const std::string type = fmt::format("{:08X}", executable->second ? kContentOnDemand : kContentOriginal);
  made.folder = out.parent_path() / "Content" / "0000000000000000" / title_id_text(*executable->title_id) / type;
  WritePlan plan;
  plan.steps.push_back(
      fmt::format("write the game partition in hashed blocks, as {}, to {}", printable(title), made.folder.string()));
  plan.outputs = god::plan_outputs(std::move(made));
  return plan;
}

constexpr std::array kSettings = {&kTitle, &kPicture};

}  // namespace

extern const Format kGodFormat = {
    .id = "god",
    .title = "an installed Xbox or Xbox 360 game",
    .extensions = kExtensions,
    .probe = &probe,
    .open = &open,
    .holds = {.blocks = true, .packages = true, .game_partition = true, .whole_discs = true},
    .plan_write = &plan_write,
    .shape = Shape::tree,
    .settings = kSettings,
    .own_losses = &game_partition_losses};

}  // namespace opifex
