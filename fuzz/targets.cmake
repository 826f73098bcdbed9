# Every fuzz target and the vectors it is seeded with.
set(OPIFEX_FUZZ_TARGETS cue_fuzz bin_fuzz vcd_fuzz sector_fuzz audio_fuzz dump_fuzz chd_fuzz volume_fuzz
    archive_fuzz list_fuzz names_fuzz package_fuzz cartridge_fuzz patch_fuzz
    reader_fuzz)
set(patch_fuzz_SEEDS cd/cue/good floppycart/ocr1.json)
set(reader_fuzz_SEEDS floppycart/ocr1.json floppycart/ocr1-rom.gb)
set(cartridge_fuzz_SEEDS floppycart)
set(cue_fuzz_SEEDS cd/cue/good cd/cue/bad cd/disc4)
set(bin_fuzz_SEEDS cd/sectors cd/mode1 cd/disc4/merged.bin)
set(vcd_fuzz_SEEDS cd/disc4/moth.vcd.gz cd/mode1)
set(sector_fuzz_SEEDS cd/sectors)
set(audio_fuzz_SEEDS cd/cue/good cd/cue/bad)
set(dump_fuzz_SEEDS dump)
set(chd_fuzz_SEEDS chd)
set(volume_fuzz_SEEDS iso wii xbox)
set(archive_fuzz_SEEDS archives)
set(package_fuzz_SEEDS xbox/exe xbox/stfs xbox/god-original)
set(list_fuzz_SEEDS iso/dreamcast iso/psp.sfo iso/ps3.pkg iso/ps4.pkg iso/drive-fat12.img iso/drive-mbr.img)
set(names_fuzz_SEEDS cd/cue/good iso/dreamcast)
