#include "small_media.hpp"

#include <array>

#include "opifex/core/volumes/amiga/editor.hpp"
#include "opifex/core/volumes/ps1card/card.hpp"

namespace opifex::demo {
namespace {

constexpr std::int64_t kDate = 700'000'000;  // 1992-03-07

VolumeEdit put(const std::string& path, std::string contents) {
  VolumeEdit edit{.kind = VolumeEdit::Kind::put, .path = path};
  edit.contents = memory_source(to_bytes(contents), path);
  edit.named = true;
  edit.kept.modified = kDate;
  return edit;
}

std::string text_of(std::size_t size, char seed) {
  std::string text;
  while (text.size() < size) text += static_cast<char>(seed + static_cast<char>(text.size() % 23));
  return text;
}

/// Full-width letters in Shift-JIS, as consoles show titles.
std::string wide(std::string_view title) {
  std::string text;
  for (const char c : title) {
    if (c >= 'A' && c <= 'Z')
      text += {'\x82', static_cast<char>(0x60 + (c - 'A'))};
    else if (c >= 'a' && c <= 'z')
      text += {'\x82', static_cast<char>(0x81 + (c - 'a'))};
    else if (c == '&')
      text += "\x81\x95";
    else
      text += "\x81\x40";
  }
  return text;
}

struct DemoSave {
  const char *name, *title;
  unsigned blocks, icons;
  /// 16 rows of 16 pixels: blank, or a colour by its letter.
  std::array<const char*, 16> icon;
};

constexpr std::array<DemoSave, 3> kSaves = {
    DemoSave{"BAPRXS-00101MOTH",
             "Moth & Lantern",
             3,
             2,
             {"                ", "       gg       ", "      g  g      ", "     rrrrrr     ", "    ryyyyyyr    ",
              "    ryyooyyr    ", "w   ryoooyyr   w", "ww  ryyooyyr  ww", "www ryyyyyyr www", " www rrrrrr www ",
              "  www      www  ", "   ww      ww   ", "     wwwwww     ", "      wwww      ", "                ",
              "                "}},
    DemoSave{"BAPRXS-00301LAP1",
             "Kestrel Circuit",
             1,
             1,
             {"                ", "                ", "          bbb   ", "        bbbbbb  ", "      bbbbbbob  ",
              "  bb bbbbbbbb   ", "  bbbbbbbbb     ", "   bbbbbbb      ", "   bbbbbb       ", "  bbbbbbb       ",
              " bbb bbbb       ", "     bb bb      ", "     b   b      ", "gggggggggggggggg", "wgwgwgwgwgwgwgwg",
              "gggggggggggggggg"}},
    DemoSave{"BAPRXS-00107PIER",
             "Quarry Lights",
             2,
             1,
             {"                ", "   y        y   ", "  yyy      yyy  ", "   y        y   ", "   g        g   ",
              "   g   yy   g   ", "   g  yyyy  g   ", "   g   yy   g   ", "   g   gg   g   ", "   g   gg   g   ",
              "rrrrrrrrrrrrrrrr", "roororoororoorro", "rrrrrrrrrrrrrrrr", "bbbbbbbbbbbbbbbb", "bwbbbwbbbwbbbwbb",
              "bbbbbbbbbbbbbbbb"}}};

constexpr std::string_view kColours = " gryowb";
constexpr std::array<std::uint16_t, 7> kValues = {0x0000, 0x39CE, 0x1C7D, 0x1BDE, 0x025F, 0x7FFF, 0x6948};

/// The later icons of a save are the first one, a row lower each: it moves.
void draw_icons(const DemoSave& save, Bytes& blocks) {
  for (std::size_t i = 0; i < kValues.size(); ++i) Fields(blocks).le(0x60 + 2 * i, kValues[i], 2);
  for (unsigned frame = 0; frame < save.icons; ++frame)
    for (unsigned y = 0; y < 16; ++y)
      for (unsigned x = 0; x < 16; ++x) {
        const std::size_t colour = kColours.find(save.icon[(y + 16 - frame) % 16][x]);
        const std::size_t at = 0x80 * (frame + 1) + (y * 16 + x) / 2;
        blocks[at] |= static_cast<std::byte>(colour << (x % 2 == 0 ? 0 : 4));
      }
}

}  // namespace

Bytes worn_floppy() {
  amiga::NewDisk wanted{.kind = {1}, .label = "Nine Bells", .high_density = false, .date = amiga::Date::of(kDate)};
  amiga::Editor editor(amiga::make_disk(wanted), kDate);
  VolumeEdit folder{.kind = VolumeEdit::Kind::make_folder, .path = "Ships"};
  folder.kept.modified = kDate;
  const std::vector<VolumeEdit> edits = {
      folder, put("readme", "Nine Bells Harbor\n"), put("Ships/lantern boat", text_of(21'000, 'a')),
      put("Ships/tide barge", text_of(33'500, 'A')), put("harbor.mod", text_of(58'000, '0'))};
  editor.apply(edits);
  Bytes image = editor.image();
  const amiga::Disk disk = amiga::read_disk(image);
  // The chain of one file leads to itself, its checksum right, as a program would have written it ...
  constexpr std::size_t kChain = 496, kSum = 20;
  const std::span<std::byte> header =
      std::span(image).subspan(std::size_t{disk.entries.back().block} * amiga::kBlockBytes, amiga::kBlockBytes);
  store_be32(header, kChain, disk.entries.back().block);
  store_be32(header, kSum, amiga::block_sum(header, kSum));
  // ... and a few bits of the bitmap are upside down.
  const std::span<std::byte> bitmap =
      std::span(image).subspan(std::size_t{disk.bitmap} * amiga::kBlockBytes, amiga::kBlockBytes);
  constexpr std::size_t kSomeWord = 120;
  store_be32(bitmap, kSomeWord, load_be32(bitmap, kSomeWord) ^ 0x00FF'0000U);
  store_be32(bitmap, 0, amiga::block_sum(bitmap, 0));
  return image;
}

Bytes card_of_three_saves() {
  ps1card::Editor editor(ps1card::make_card());
  for (const DemoSave& save : kSaves) {
    Bytes blocks(save.blocks * ps1card::kSaveBlockBytes);
    Fields head(blocks);
    head.bytes(0, as_view("SC"));
    head.byte(2, 0x10 + save.icons);
    head.byte(3, save.blocks);
    head.bytes(4, as_view(wide(save.title)));
    draw_icons(save, blocks);
    const std::string data = text_of(blocks.size() - 0x400, 'p');
    head.bytes(0x400, as_view(data));
    VolumeEdit edit{.kind = VolumeEdit::Kind::put, .path = save.name};
    edit.named = true;
    edit.contents = memory_source(std::move(blocks), save.name);
    editor.apply(edit);
  }
  return editor.image();
}

}  // namespace opifex::demo
