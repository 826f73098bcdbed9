#!/usr/bin/env bash
# Runs the fuzz targets: fuzz/run.sh BUILD SECONDS [TARGET]. New inputs stay in build/corpus; findings end the run.
set -euo pipefail
build=$1 seconds=$2 only=${3:-}
vectors=tests/vectors/cd
for program in "$build"/fuzz/*_fuzz; do
  target=$(basename "$program")
  [[ -n $only && $target != "$only" ]] && continue
  corpus=build/corpus/$target
  mkdir -p "$corpus"
  case $target in
    cue_fuzz) seeds=("$vectors/cue/good" "$vectors/cue/bad") ;;
    audio_fuzz) seeds=("$vectors/cue/good") ;;
    chd_fuzz) seeds=(tests/vectors/chd) ;;
    volume_fuzz) seeds=(tests/vectors/iso tests/vectors/wii tests/vectors/xbox) ;;
    archive_fuzz) seeds=(tests/vectors/archives) ;;
    package_fuzz)
      mkdir -p build/corpus/seed-package
      cp tests/vectors/xbox/exe/* tests/vectors/xbox/stfs/ARCADE build/corpus/seed-package/
      cat tests/vectors/xbox/god-original/ORIGINAL tests/vectors/xbox/god-original/ORIGINAL.data/Data0000 \
        > build/corpus/seed-package/game
      seeds=(build/corpus/seed-package) ;;
    list_fuzz)
      mkdir -p build/corpus/seed-list
      cp tests/vectors/iso/dreamcast/disc.gdi tests/vectors/iso/*.sfo tests/vectors/iso/*.pkg tests/vectors/iso/drive-*.img \
        build/corpus/seed-list/
      seeds=(build/corpus/seed-list) ;;
    names_fuzz) seeds=("$vectors/cue/good") ;;
    dump_fuzz) seeds=(tests/vectors/dump) ;;
    cartridge_fuzz)
      mkdir -p build/corpus/seed-cartridge
      for file in tests/vectors/floppycart/*.gz; do gunzip -c "$file" > "build/corpus/seed-cartridge/$(basename "$file" .gz)"; done
      seeds=(build/corpus/seed-cartridge) ;;
    floppy_fuzz)
      mkdir -p build/corpus/seed-floppy
      for file in tests/vectors/floppycart/*.adf.gz tests/vectors/memcard/*.gz; do
        gunzip -c "$file" > "build/corpus/seed-floppy/$(basename "$file" .gz)"
      done
      seeds=(build/corpus/seed-floppy) ;;
    datafile_fuzz | oldlist_fuzz | sumlist_fuzz) seeds=(tests/vectors/dat/lists tests/vectors/dat/hostile) ;;
    record_fuzz) seeds=(tests/vectors/records) ;;
    sector_fuzz) seeds=("$vectors/sectors") ;;
    vcd_fuzz)
      mkdir -p build/corpus/seed-vcd
      # The header's used part and two sectors, as the target lays them out.
      (gunzip -c "$vectors/disc4/moth.vcd.gz" || true) | head -c 1040 > build/corpus/seed-vcd/head  # head stops it
      seeds=(build/corpus/seed-vcd) ;;
    *) seeds=("$vectors/sectors" "$vectors/mode1") ;;
  esac
  echo "== $target, $seconds s"
  # What 4 MiB of input may cost at once: 64 MiB and eight bytes for each of its own.
  "$program" -max_total_time="$seconds" -max_len=4194304 -timeout=10 -malloc_limit_mb=96 -rss_limit_mb=1024 -print_final_stats=0 -verbosity=0 \
    "$corpus" "${seeds[@]}"
done
