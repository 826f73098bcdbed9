#!/usr/bin/env bash
# Makes docs/screenshots anew: each picture is a terminal window with commands run on the demo data.
# usage: docs/shots.sh PROGRAM
set -euo pipefail
program=$(realpath "$1")
shots=$(realpath "$(dirname "$0")")/screenshots
vectors=$(realpath "$(dirname "$0")")/../tests/vectors
work=$(mktemp -d)
display=:$((90 + RANDOM % 100))
Xvfb "$display" -screen 0 1280x800x24 > /dev/null 2>&1 &
server=$!
trap 'kill $server 2> /dev/null; rm -rf "$work"' EXIT
sleep 1
mkdir -p "$shots" "$work/bin"
ln -s "$program" "$work/bin/opifex"
export DISPLAY=$display PATH=$work/bin:$PATH
"$program" demo "$work/museum" > /dev/null 2>&1
cd "$work/museum"

# shot NAME COMMAND... : runs the commands in a terminal, takes its picture.
shot() {
  local name=$1; shift
  {
    echo 'clear'
    for command in "$@"; do
      printf 'printf %%s\\\\n %q\n' "$ $command"
      printf '%s\n' "$command"
      echo 'echo'
    done
    echo "touch $work/ready; sleep 60"
  } > "$work/script"
  rm -f "$work/ready"
  xterm -geometry 158x50+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#101418' -fg '#d8dee4' -b 12 +sb -e bash "$work/script" &
  local terminal=$!
  for _ in $(seq 100); do [[ -e $work/ready ]] && break; sleep 0.1; done
  sleep 0.5
  xwd -root -silent | magick_png > "$shots/$name.png"
  kill $terminal 2> /dev/null || true
  wait $terminal 2> /dev/null || true
}

magick_png() { convert-im6.q16 xwd:- -strip -colors 64 png:-; }

shot identify "opifex identify 'Moth & Lantern.cue'" "opifex identify 'Kestrel Circuit (Disc 2).bin'"
mkdir shelf-old && cp 'Kestrel Circuit (Disc 1).bin' 'Kestrel Circuit (Disc 1).cue' shelf-old/
shot shelf "opifex identify . | tail -n 17" "opifex shelf add merged mended dumps cartridges --at discs.sqlite" \
  "opifex shelf duplicates --at discs.sqlite" "opifex shelf verify --for 2h --at discs.sqlite | tail -n 3"
rm -r shelf-old
shot dump "opifex dump sim:scratched.toml --out shelf/ --hashes sha1"
shot rescue "opifex rescue dumps/first.cue dumps/second.cue --out dumps/whole.cue --sha1"
# The figures of a longer disc with a scratch across it.
cat > long.toml <<'TOML'
seed = 3
[disc]
[[disc.sessions]]
[[disc.sessions.tracks]]
number = 1
sectors = 60000
[[disc.sessions.tracks]]
number = 2
mode = "AUDIO"
sectors = 18000
pregap = 150
[[disc.sessions.tracks]]
number = 3
mode = "AUDIO"
sectors = 21000
TOML
for turn in 0 1 2 3 4 5 6 7; do
  at=$((30000 + turn * 6100))
  printf '[[defects]]\nkind = "weak"\nlba = [%d, %d]\np = 0.2\n' "$at" $((at + 90)) >> long.toml
  printf '[[defects]]\nkind = "slow"\nlba = [%d, %d]\nms = 15\n' $((at - 400)) $((at + 400)) >> long.toml
done
printf '[[defects]]\nkind = "unreadable"\nlba = [54440, 54470]\n' >> long.toml
opifex dump sim:long.toml --out long/x.cue --report figures --hashes none --quiet > /dev/null || true
# Figures that belong together, one above the other.
above() { convert-im6.q16 "${@:2}" -append -strip -colors 64 "$shots/$1.png"; }
chromium --headless --no-sandbox --disable-gpu --no-first-run --disable-background-networking --disable-component-update \
  --disable-sync --user-data-dir="$work/browser" --hide-scrollbars --window-size=1280,1180 --screenshot="$work/page.png" \
  "file://$PWD/figures/report.html" > /dev/null 2>&1
above report "$work/page.png"
above cartridge-readings cartridges/report/read-map.png cartridges/report/data-lines.png
shot check "opifex check 'Moth & Lantern.cue' --hashes sha1" \
  "opifex check 'scratched/Kestrel Circuit (Disc 1).cue' --hashes sha1 --repair --out again/"
shot convert "opifex convert 'Moth & Lantern.cue' --to vcd --out moth.vcd --plan" \
  "opifex convert 'Moth & Lantern.cue' --to vcd --out moth.vcd --prove" \
  "opifex convert 'Moth & Lantern.cue' --to iso --out moth.iso" \
  "opifex convert 'Moth & Lantern.cue' --to iso --out moth.iso --accept audio,form2"
mkdir discs discs/more && cp 'Kestrel Circuit (Disc 1).bin' 'Kestrel Circuit (Disc 1).cue' "Moth & Lantern"*.bin 'Moth & Lantern.cue' discs/
cp 'Kestrel Circuit (Disc 2).bin' discs/more/ && printf 'FILE "lost.bin" BINARY\n TRACK 01 AUDIO\n INDEX 01 00:00:00\n' > discs/lost.cue
shot batch "opifex convert discs/ --to iso --out isos/ --plan" "opifex convert discs/ --to chd --out packed/ --prove --quiet" \
  "opifex convert discs/ --to chd --out packed/ --skip-existing --quiet" "opifex check discs/ --quiet"
shot known "opifex convert 'Moth & Lantern.cue' --to chd --out moth.chd --record moth.json" \
  "opifex check moth.chd --against palisade.dat --hashes sha1 | tail -n 4" \
  "opifex check 'late/Moth & Lantern.cue' --against palisade.dat | tail -n 13" \
  "opifex rename unsorted --by palisade.dat" "opifex check --record moth.json | tail -n 5"
shot files "opifex files 'Moth & Lantern.cue'" "opifex extract 'Moth & Lantern.cue' --into apart/ --check" \
  "opifex build apart/ --as iso --out together.iso --label MOTH --fixed-dates" "opifex check together.iso --same-as apart/" \
  "opifex files together.iso '*.TXT'"
shot merge-split "opifex merge 'Moth & Lantern.cue' --out one-bin/ --prove" \
  "opifex split 'one-bin/Moth & Lantern.cue' --out tracks/ --prove" "ls -s one-bin tracks" \
  "opifex rename 'tracks/Moth & Lantern.cue' 'The Moth and the Lantern of Palisade Row' --limit 31 --plan" \
  "opifex rename 'tracks/Moth & Lantern.cue' 'PRXS-00101'"
shot cartridge "opifex dump sim:reader/dirty.toml --out gb/" "opifex dump sim:reader/wiped.toml --out gb/wiped.gb --hashes sha1 --quiet" \
  "opifex dump sim:reader/clean.toml --out gb/ --hashes sha1" "opifex dump sim:reader/clean.toml --out gb/"
cp reader/finished.sav again.sav && printf 'x' | dd of=again.sav bs=1 seek=300 conv=notrunc status=none
shot save "opifex save check again.sav --game 'gb/QUARRY LIGHTS.gb'" "opifex save write sim:reader/clean.toml again.sav" \
  "opifex save write sim:reader/clean.toml again.sav --accept overwrite-save" "opifex save history again.sav" \
  "opifex patch make reader/finished.sav again.sav --out change.bps" \
  "opifex patch apply change.bps --among reader/ --out patched.sav"
shot floppy "opifex files 'Nine Bells Harbor.adf'" "opifex put 'Nine Bells Harbor.adf' tunes --plan" \
  "opifex drop 'Nine Bells Harbor.adf' Ships" "opifex files 'Lantern Street.mcr' --games ."
opifex files 'Lantern Street.mcr' --report card-icons > /dev/null 2>&1
above floppy "$shots/floppy.png" card-icons/icons.png
shot wii "opifex identify 'Tidewater Courier.iso' --key-file keys.toml" \
  "opifex convert 'Tidewater Courier.iso' --to wbfs --limit fat32 --out 'usb/wbfs/Tidewater Courier [ZW7EPR]/ZW7EPR.wbfs'" \
  "opifex check usb/wbfs/*/ZW7EPR.wbfs --key-file keys.toml --hashes sha1"
mkdir -p hall/levels && for n in 1 2 3; do head -c 40000 "Moth & Lantern (Track 1).bin" > "hall/levels/hall$n.bin"; done
cp "$vectors/xbox/exe/orchard.xex" hall/default.xex
shot xbox "opifex build hall --as god --title 'Brass Orchard' --out usb360" "opifex identify usb360" \
  "opifex convert usb360/Content/*/*/*/*[0-9A-F] --to xiso --out games/ --prove"
shot mistakes "opifex convert 'Moth & Lantern.cue' --to vdc" "opifex check 'Moth & Lantern'" \
  "opifex convert 'Moth & Lantern.cue' --to cue" "opifex merge 'Moth & Lantern.cue'" \
  "rm 'tracks/PRXS-00101 (Track 3).bin'; opifex identify tracks/PRXS-00101.cue" "opifex convert tracks/PRXS-00101.cue --to vcd"
shot formats "opifex formats" "opifex help merge"
ls "$shots"
