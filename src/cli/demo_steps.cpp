#include "demo_steps.hpp"

#include "session.hpp"

namespace opifex::cli {

const std::vector<DemoStep>& demo_steps() {
  static const std::vector<DemoStep> steps = {
      {"What is in the box?", {"identify", "@Moth & Lantern.cue"}, kDone},
      {"A bin without a sheet: its contents tell what it is.", {"identify", "@Kestrel Circuit (Disc 2).bin"}, kDone},
      {"A disc in a drive (here a simulated one, with a scratch). First: what is it, and where would it go?",
       {"dump", "sim:@scratched.toml", "--out", "@dumps/first.cue", "--plan"},
       kDone},
      {"Then it is read. Damaged spots are tried again, slower each round; what stays lost is listed.",
       {"dump", "sim:@scratched.toml", "--out", "@dumps/first.cue", "--hashes", "sha1"},
       kBadNews},
      {"Another copy of the same disc, scratched elsewhere.",
       {"dump", "sim:@worn.toml", "--out", "@dumps/second.cue", "--hashes", "sha1"},
       kBadNews},
      {"Together they are whole: every sector is taken where its checksum proves it.",
       {"rescue", "@dumps/first.cue", "@dumps/second.cue", "--out", "@dumps/joined.cue", "--sha1"},
       kDone},
      {"Is the dump good? Every sector is verified, all hashes are taken, in one pass.",
       {"check", "@Moth & Lantern.cue"},
       kDone},
      {"One bin instead of four.", {"merge", "@Moth & Lantern.cue", "--out", "@merged/", "--prove"}, kDone},
      {"The container for running the disc on its successor's console, from the merged set.",
       {"convert", "@merged/Moth & Lantern.cue", "--to", "vcd", "--out", "@Moth & Lantern.vcd", "--prove"},
       kDone},
      {"An ISO would lose the music. Opifex says so and writes nothing.",
       {"convert", "@Moth & Lantern.cue", "--to", "iso"},
       kNeedsWord},
      {"With the user's word it is made.",
       {"convert", "@Moth & Lantern.cue", "--to", "iso", "--accept", "audio,form2"},
       kDone},
      {"What is inside?", {"files", "@Moth & Lantern.cue"}, kDone},
      {"A Wii disc, with its owner's (made-up) key.",
       {"identify", "@Tidewater Courier.iso", "--key-file", "@keys.toml"},
       kDone},
      {"With the key every cluster is verified by the disc's own hashes.",
       {"check", "@Tidewater Courier.iso", "--key-file", "@keys.toml", "--hashes", "sha1"},
       kDone},
      {"For a loader on a FAT32 drive: without empty blocks, in parts that fit, in one step.",
       {"convert", "@Tidewater Courier.iso", "--to", "wbfs", "--out",
        "@drive/wbfs/Tidewater Courier [ZW7EPR]/ZW7EPR.wbfs", "--limit", "fat32", "--prove"},
       kDone},
      {"Would the loader find it?", {"identify", "@drive"}, kDone},
      {"A cartridge, years in a drawer, in a reader (here a simulated one). Its header cannot be read: advice, and "
       "nothing "
       "is written.",
       {"dump", "sim:@reader/dirty.toml", "--out", "@cartridges/"},
       kDevice},
      {"Wiped with a sleeve: one line flickers. It is read, and not trusted.",
       {"dump", "sim:@reader/wiped.toml", "--out", "@cartridges/wiped.gb", "--hashes", "sha1", "--report",
        "@cartridges/report"},
       kBadNews},
      {"Cleaned: first the header, then all of it twice, and the checksum proves it.",
       {"dump", "sim:@reader/clean.toml", "--out", "@cartridges/", "--hashes", "sha1"},
       kDone},
      {"The save memory goes back into the cartridge: first what would change ...",
       {"save", "write", "sim:@reader/clean.toml", "@reader/finished.sav", "--plan"},
       kDone},
      {"... then it is written and read back. The old one is kept.",
       {"save", "write", "sim:@reader/clean.toml", "@reader/finished.sav", "--accept", "overwrite-save"},
       kDone},
      {"A scratch (24 bytes of one sector were just destroyed in a copy).",
       {"check", "@scratched/Kestrel Circuit (Disc 1).cue", "--hashes", "sha1"},
       kBadNews},
      {"The sector's own error correction mends it; the copy is checked again.",
       {"check", "@scratched/Kestrel Circuit (Disc 1).cue", "--hashes", "sha1", "--repair", "--out", "@mended/"},
       kDone},
  };
  return steps;
}

}  // namespace opifex::cli
