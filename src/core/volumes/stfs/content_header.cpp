#include "opifex/core/volumes/stfs/content_header.hpp"

#include <algorithm>

#include "opifex/core/base/hash.hpp"
#include "opifex/core/base/text.hpp"

namespace opifex {
namespace {

constexpr std::size_t kLeastHeader = 0x971A, kMostHeader = 0x10'0000, kHashedFrom = content_at::kType;
constexpr std::size_t kNameUnits = 128, kTitleUnits = 64;

std::string utf16_field(ByteView head, std::size_t at, std::size_t units) {
  const ByteView field = head.subspan(at, units * 2);
  std::size_t end = 0;
  while (end + 2 <= field.size() && load_be16(field, end) != 0) end += 2;
  return std::string(trim(decode(as_text(field.first(end)), "UTF-16BE").value_or("")));
}

}  // namespace

std::string ContentHeader::name() const {
  if (const auto english = names.find(0); english != names.end()) return english->second;
  return names.empty() ? title_name : names.begin()->second;
}

std::string ContentHeader::type_name() const {
  static const std::map<std::uint32_t, const char*> kNames = {{0x1, "saved game"},
                                                              {0x2, "add-on"},
                                                              {0x3, "publisher's content"},
                                                              {0x1000, "Xbox 360 title"},
                                                              {0x4000, "installed game"},
                                                              {0x5000, "original Xbox game"},
                                                              {0x7000, "games on demand"},
                                                              {0x9000, "avatar item"},
                                                              {0x10000, "profile"},
                                                              {0x20000, "gamer picture"},
                                                              {0x30000, "theme"},
                                                              {0x40000, "cache file"},
                                                              {0x50000, "download"},
                                                              {0x60000, "original Xbox save"},
                                                              {0x70000, "original Xbox download"},
                                                              {0x80000, "demo"},
                                                              {0x90000, "video"},
                                                              {0xA0000, "game title"},
                                                              {0xB0000, "title update"},
                                                              {0xC0000, "trailer"},
                                                              {0xD0000, "arcade title"},
                                                              {0xE0000, "community title"},
                                                              {0xF0000, "licence store"},
                                                              {0x100000, "film"},
                                                              {0x200000, "television"},
                                                              {0x300000, "music video"},
                                                              {0x400000, "game video"}};
  const auto at = kNames.find(content_type);
  return at == kNames.end() ? fmt::format("type {:08X}", content_type) : at->second;
}

bool is_content_package(const ByteSource& file) {
  const Bytes magic = read_up_to(file, 0, 4);
  return as_text(magic) == "LIVE" || as_text(magic) == "PIRS" || as_text(magic) == "CON ";
}

std::optional<std::filesystem::path> content_data_folder(const std::filesystem::path& header, const FileSpace& files) {
  const std::string wanted = fold_case(header.filename().string() + ".data");
  const std::filesystem::path beside = header.parent_path();
  for (const std::filesystem::path& entry : files.entries(beside))
    if (fold_case(entry.filename().string()) == wanted && files.is_folder(entry)) return entry;
  return std::nullopt;
}

ContentHeader read_content_header(const ByteSource& file) {
  const auto fail = [&](std::uint64_t offset, std::string found, std::string expected) {
    throw Error({.code = "bad_package",
                 .what = "this is no content package that can be read",
                 .file = file.name(),
                 .offset = offset,
                 .found = std::move(found),
                 .expected = std::move(expected)});
  };
  if (!is_content_package(file)) fail(0, hex(read_up_to(file, 0, 4)), "LIVE, PIRS or CON");
  const Bytes start = read_up_to(file, 0, kLeastHeader);
  if (start.size() < kLeastHeader) fail(start.size(), fmt::format("{} bytes", start.size()), "a whole header");
  const std::uint32_t told = load_be32(start, content_at::kHeaderBytes);
  if (told < kLeastHeader || told > kMostHeader)
    fail(content_at::kHeaderBytes, fmt::format("a header of {} bytes", told), "0x971A or 0xAD0E");
  ContentHeader h;
  h.size_bytes = round_up(std::uint64_t{told}, kContentBlock);
  const Bytes head = read_up_to(file, 0, static_cast<std::size_t>(h.size_bytes));
  if (head.size() < h.size_bytes) fail(head.size(), "its end within the header", fmt::format("{} bytes", h.size_bytes));
  h.magic = as_text(ByteView(head).first(4));
  std::copy_n(head.begin() + content_at::kContentId, h.content_id.size(), h.content_id.begin());
  h.content_id_fits = short_sha1(ByteView(head).subspan(kHashedFrom)) == h.content_id;
  h.content_type = load_be32(head, content_at::kType);
  h.media_id = load_be32(head, content_at::kMediaId);
  h.version = load_be32(head, content_at::kVersion);
  h.base_version = load_be32(head, content_at::kBaseVersion);
  h.title_id = load_be32(head, content_at::kTitleId);
  h.disc = std::to_integer<unsigned>(head[content_at::kDisc]);
  h.discs = std::to_integer<unsigned>(head[content_at::kDiscs]);
  constexpr std::size_t kDescriptorBytes = 0x24;
  h.descriptor.assign(head.begin() + kContentDescriptorAt, head.begin() + kContentDescriptorAt + kDescriptorBytes);
  h.data_files = load_be32(head, content_at::kDataFiles);
  h.data_bytes =
      std::uint64_t{load_be32(head, content_at::kDataBytes)} << 32 | load_be32(head, content_at::kDataBytes + 4);
  h.descriptor_type = load_be32(head, content_at::kDescriptorType);
  constexpr unsigned kLanguages = 9;
  for (unsigned language = 0; language < kLanguages; ++language)
    if (std::string name = utf16_field(head, content_at::kNames + language * kNameUnits * 2, kNameUnits); !name.empty())
      h.names[language] = std::move(name);
  h.publisher = utf16_field(head, content_at::kPublisher, kTitleUnits);
  h.title_name = utf16_field(head, content_at::kTitleName, kTitleUnits);
  h.picture_bytes[0] = load_be32(head, content_at::kPictureBytes);
  h.picture_bytes[1] = load_be32(head, content_at::kPictureBytes + 4);
  return h;
}

}  // namespace opifex
