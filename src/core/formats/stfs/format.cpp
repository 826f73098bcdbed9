// A content package that holds files: arcade titles, add-ons, saves. Read only.
#include "opifex/core/image/format.hpp"

#include "opifex/core/base/text.hpp"
#include "opifex/core/image/container.hpp"
#include "opifex/core/volumes/stfs/volume.hpp"

namespace opifex {

extern const Format kStfsFormat, kGodFormat;

namespace {

namespace fs = std::filesystem;

constexpr std::array<std::string_view, 1> kExtensions = {""};

int probe(const ByteSource& source, std::string_view) {
  constexpr std::size_t kTypeAt = 0x3A9;
  if (!is_content_package(source)) return 0;
  const Bytes type = read_up_to(source, kTypeAt, 4);
  return type.size() == 4 && load_be32(type, 0) == 0 ? 38 : 0;
}

class StfsContainer final : public Container {
 public:
  explicit StfsContainer(SourcePtr file) : file_(std::move(file)), package_(read_stfs(file_)) {}
  std::vector<ContainerFact> facts() const override {
    const ContentHeader& h = package_.header;
    return {{"content_type", "Type", h.type_name()},
            {"title_id", "", fmt::format("{:08X}", h.title_id)},
            {"media_id", "", fmt::format("{:08X}", h.media_id)},
            {"name", "", h.name()},
            {"publisher", "Publisher", h.publisher},
            {"blocks", "Blocks", grouped(package_.blocks), package_.blocks},
            {"table_copies", "", fmt::format("{}", package_.copies), package_.copies},
            {"content_id", "", hex(h.content_id)}};
  }
  std::vector<ContainerShare> shares() const override { return {}; }
  std::vector<ContainerTag> tags() const override { return {}; }
  bool hashes_everything() const override { return true; }
  std::vector<ContainerProblem> verify(JobContext& context, DecodedSectors*) const override {
    std::vector<ContainerProblem> problems;
    if (!package_.header.content_id_fits)
      problems.push_back(
          {"hash_header", "the header is not as it was written: its content id does not match it", {}, {}, 0, {}});
    for (const StfsFault& f : verify_stfs(file_, package_, context))
      problems.push_back({f.table ? "hash_table" : "hash_data",
                          f.table ? fmt::format("the table of the blocks from {} does not match its hash", f.block)
                                  : fmt::format("block {} does not match its hash", f.block),
                          f.offset,
                          {},
                          0,
                          f.files});
    for (const VolumeProblem& p : package_.volume.problems)
      if (is_damage(p.weight)) problems.push_back({p.code, p.message, {}, {}, 0, {}});
    return problems;
  }

 private:
  SourcePtr file_;
  StfsPackage package_;
};

Image open(const fs::path& path, const OpenOptions& options) {
  const FileSpace& files = options.space();
  // A data folder beside it: the header's type is wrong, the data counts.
  if (content_data_folder(path, files)) return kGodFormat.open(path, options);
  Image image;
  image.format = &kStfsFormat;
  image.path = path;
  image.content = FileContent{"package"};
  const SourcePtr source = files.open(path);
  image.files.push_back({path, "stfs", source->size(), false, source});
  const ContentHeader header = read_content_header(*source);
  if (!header.content_id_fits)
    image.warnings.push_back({"header_altered", "the header was altered: its content id does not match it"});
  image.container = std::make_shared<StfsContainer>(source);
  return image;
}

}  // namespace

extern const Format kStfsFormat = {"stfs", "an Xbox 360 content package of files", kExtensions, &probe, &open, {},
                                   nullptr};

}  // namespace opifex
