#!/usr/bin/env python3
"""Speed and memory against general tools, in one run on one machine: bench/run.py BUILD [ROUNDS [WORD]]

Ratios, not seconds: machines differ. Commands under comparison take turns, their inputs are in the page cache, and a run
during which the hypervisor took processor time away is repeated. The best runs are compared: what a shared machine does to
a run (fresh pages for the cache, a busy drive) only ever adds time. The ratio of the medians stands beside, to show how
much it did. Every output is synced, so every yardstick is followed by `sync FILE`. WORD: only rows with it in their name.
"""
import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time

build = sys.argv[1]
rounds = int(sys.argv[2]) if len(sys.argv) > 2 else 7
opifex = os.path.abspath(os.path.join(build, "opifex"))
only = sys.argv[3] if len(sys.argv) > 3 else ""
folder = tempfile.mkdtemp(prefix="opifex-bench-", dir=os.path.abspath(build))
rows = []
failed = False


def run(command, env=None):
    """Seconds and peak kilobytes of a shell command."""
    start = time.monotonic()
    done = subprocess.run(["/usr/bin/time", "-f", "%M", "sh", "-c", command], cwd=folder, capture_output=True, text=True)
    seconds = time.monotonic() - start
    if done.returncode != 0:
        sys.exit(f"failed: {command}\n{done.stdout}{done.stderr}")
    return seconds, int(done.stderr.strip().splitlines()[-1])


def remove(*names):
    for name in names:
        path = os.path.join(folder, name)
        if os.path.isdir(path):
            shutil.rmtree(path)
        elif os.path.exists(path):
            os.remove(path)


def stolen():
    """Seconds the hypervisor took from this machine since it started."""
    with open("/proc/stat") as stat:
        return int(stat.readline().split()[8]) / os.sysconf("SC_CLK_TCK")


def timed(command, inputs, outputs):
    """A run with its inputs in the cache; of up to 8 tries the first undisturbed one, else the least disturbed."""
    best = None
    for _ in range(8):
        remove(*outputs)
        run(f"cat {inputs} > /dev/null")
        before = stolen()
        seconds, memory = run(command)
        share = (stolen() - before) / seconds
        if best is None or share < best[0]:
            best = (share, seconds, memory)
        if share <= 0.03:
            break
    return best[1], best[2], best[0] > 0.03


def compare(what, ours, yardstick, limit, inputs, outputs=(), yard_outputs=()):
    """Adds a row; `limit` is the largest ratio ours / yardstick."""
    global failed
    if only not in what:
        return
    own, yard, peak, disturbed = [], [], 0, 0
    for _ in range(rounds):
        remove(*yard_outputs)
        seconds, _memory, bad = timed(yardstick, inputs, yard_outputs)
        yard.append(seconds)
        disturbed += bad
        seconds, memory, bad = timed(ours, inputs, outputs)
        own.append(seconds)
        disturbed += bad
        peak = max(peak, memory)
    ratio = min(own) / min(yard)
    medians = statistics.median(own) / statistics.median(yard)
    good = ratio <= limit
    failed = failed or not good or peak > 64 * 1024
    verdict = "met" if good else "MISSED"
    if disturbed:
        verdict += f" ({disturbed} runs disturbed)"
    rows.append((what, f"{min(own):.2f}", f"{min(yard):.2f}", f"{ratio:.2f}", f"{medians:.2f}", f"<= {limit:.2f}",
                 verdict, f"{peak / 1024:.0f}"))
    print(f"  {rows[-1][0]}: {rows[-1][3]}", file=sys.stderr)
    remove(*outputs)
    remove(*yard_outputs)


def undisturbed(measure):
    """A figure measured while nobody took the processor away, if one of 8 tries or the tries of a minute give one."""
    began = time.monotonic()
    for _ in range(8):
        before, start = stolen(), time.monotonic()
        figure = measure()
        now = time.monotonic()
        if stolen() - before <= 0.03 * (now - start) or now - began > 60:
            break
    return figure


def best_of(n, *measures):
    """The least of n figures; of several measures, which take turns, the least of each."""
    figures = [[undisturbed(measure) for measure in measures] for _ in range(n)]
    least = [min(f) for f in zip(*figures)]
    return least if len(measures) > 1 else least[0]


def add_row(what, ours, other, limit, peak=0.0):
    """A row of figures measured elsewhere; `limit` is the largest ratio, or the least if it is negative."""
    global failed
    ratio = ours / other
    good = ratio <= limit if limit > 0 else ratio >= -limit
    failed = failed or not good
    target = f"<= {limit:.2f}" if limit > 0 else f">= {-limit:.2f}"
    rows.append((what, f"{ours:.2f}", f"{other:.2f}", f"{ratio:.3f}", "", target, "met" if good else "MISSED",
                 f"{peak / 1024:.0f}" if peak else ""))
    print(f"  {what}: {ratio:.3f}", file=sys.stderr)


def make_roms():
    """Ten thousand cartridges of one console with right checksums, most of them small: 1.8 GB."""
    sizes = [32] * 50 + [64] * 25 + [128] * 12 + [256] * 7 + [512] * 3 + [1024] * 2 + [8192]
    filler = os.urandom(9 << 20)
    for i in range(10_000):
        size = sizes[i % 100] << 10
        rom = bytearray(filler[i * 37 % (1 << 19):][:size])
        rom[0x134:0x150] = bytes(28)
        rom[0x134:0x13C] = b"ROM%05d" % i
        rom[0x147:0x14A] = bytes([3, (size >> 15).bit_length() - 1, 2])
        rom[0x14D] = (-sum(rom[0x134:0x14D]) - 25) & 0xFF
        total = sum(rom) & 0xFFFF
        rom[0x14E:0x150] = total.to_bytes(2, "big")
        place = os.path.join(folder, "roms", f"{i // 500}")
        os.makedirs(place, exist_ok=True)
        with open(os.path.join(place, f"rom {i}.gb"), "wb") as out:
            out.write(rom)


def cartridge_rows():
    make_roms()
    everything = "$(find roms -type f | tr ' ' '?')"
    two_processes = "find roms -type f -print0 | xargs -0 -P 2 -n 250 sha1sum > sums"
    compare("Cartridges: identify of 10 000 / sha1sum in two processes", f"{opifex} identify roms --quiet",
            two_processes, 1 / 0.9, everything)
    compare("Cartridges: check of 10 000 / sha1sum in two processes", f"{opifex} check roms --quiet --hashes sha1",
            two_processes, 1 / 0.9, everything)
    with open(os.path.join(folder, "before.bin"), "wb") as out:
        before = bytearray(os.urandom(16 << 20))
        out.write(before)
    for place in range(0, len(before) - 400, 7000):
        before[place:place + 60] = os.urandom(60)
    with open(os.path.join(folder, "after.bin"), "wb") as out:
        out.write(before)
    made = [run(f"rm -f c.bps; {opifex} patch make before.bin after.bin --out c.bps --quiet") for _ in range(rounds)]
    add_row("Cartridges: BPS of 16 MiB / 3 s", min(m[0] for m in made), 3.0, 1.0, max(m[1] for m in made))


def floppy_rows():
    """800 KiB in 100 files onto one floppy; a thousand floppies, no two alike."""
    os.makedirs(os.path.join(folder, "hundred"))
    for i in range(100):
        with open(os.path.join(folder, "hundred", f"file {i}"), "wb") as out:
            out.write(os.urandom(8 << 10))
    run(f"{opifex} build --as adf --out empty.adf --quiet")

    def put():
        shutil.copyfile(os.path.join(folder, "empty.adf"), os.path.join(folder, "d.adf"))
        run("sync d.adf")
        return run(f"{opifex} put d.adf hundred --quiet")

    peak = put()[1]
    ours, start = best_of(max(rounds, 5), lambda: put()[0], lambda: run(f"{opifex} version")[0])
    add_row("Floppies: put of 100 files beyond process start / 30 ms", ours - start, 0.030, 1.0, peak)
    run(f"{opifex} build hundred --as adf --out full.adf --quiet")
    with open(os.path.join(folder, "full.adf"), "rb") as one:
        image = bytearray(one.read())
    os.makedirs(os.path.join(folder, "floppies"))
    for i in range(1000):
        image[-4:] = i.to_bytes(4, "big")
        with open(os.path.join(folder, "floppies", f"disk {i}.adf"), "wb") as out:
            out.write(image)
    compare("Floppies: check of 1 000 / sha1sum", f"{opifex} check floppies --quiet",
            "find floppies -type f -print0 | xargs -0 sha1sum > sums", 3.0, "floppies/*")


def list_rows():
    """Half a million entries; five hundred files of 8 MiB, known and not."""
    make = os.path.join(os.path.dirname(os.path.abspath(__file__)), "make_list.py")
    run(f"python3 '{make}' big.dat 500000")
    cache = os.path.join(folder, "cache")

    def from_text():
        shutil.rmtree(cache, ignore_errors=True)
        return run(f"XDG_CACHE_HOME='{cache}' {opifex} lists big.dat --quiet")

    peak = from_text()[1]
    ours, theirs, cached, start = best_of(
        rounds, lambda: from_text()[0], lambda: run("xmllint --noout --stream big.dat")[0],
        lambda: run(f"XDG_CACHE_HOME='{cache}' {opifex} lists big.dat --quiet")[0], lambda: run(f"{opifex} version")[0])
    add_row("Lists: 500 000 entries from text, and their cache / xmllint --stream", ours, theirs, 1.25, peak)
    add_row("Lists: 500 000 entries from text / 2.0 s", ours, 2.0, 1.0, peak)
    add_row("Lists: from the cache, beyond process start / 50 ms", cached - start, 0.050, 1.0)
    os.makedirs(os.path.join(folder, "many"))
    for i in range(500):
        with open(os.path.join(folder, "many", f"disc {i}.iso"), "wb") as out:
            out.write(os.urandom(8 << 20))
    check = f"XDG_CACHE_HOME='{cache}' {opifex} check many --quiet"
    both = ("find many -type f -print0 | xargs -0 openssl dgst -md5 > md5 & "
            "find many -type f -print0 | xargs -0 openssl dgst -sha1 > sha1; wait")
    ours, theirs, known = best_of(rounds, lambda: run(f"{check} || true")[0], lambda: run(both)[0],
                                  lambda: run(f"{check} --against big.dat || true")[0])
    add_row("Lists: check of 500 files of 8 MiB / openssl md5 beside openssl sha1", ours, theirs, 1.10)
    add_row("Lists: the same against half a million entries / without", known, ours, 1.03)


def small_disc(size):
    """The bytes of an ISO with one file of random bytes."""
    source = os.path.join(folder, "one")
    os.makedirs(source, exist_ok=True)
    with open(os.path.join(source, "DATA.BIN"), "wb") as out:
        out.write(os.urandom(size))
    remove("one.iso")
    run(f"{opifex} build one --as iso --out one.iso --quiet")
    with open(os.path.join(folder, "one.iso"), "rb") as disc:
        return bytearray(disc.read())


def shelf_rows():
    """A hundred thousand items; folders of thousands of files; a thousand images."""
    here = os.path.dirname(os.path.abspath(__file__))
    run(f"python3 '{here}/make_shelf.py' shelf.jsonl 100000 && {opifex} shelf import shelf.jsonl --at big.sqlite")
    run(f"python3 '{here}/make_list.py' shelf.dat 3000")
    start = best_of(rounds, lambda: run(f"{opifex} version")[0])
    queries = ["list --most 50", "list --platform ps1 --verdict damaged --most 50", "list --known no --most 50 --sort -stored",
               "list --not-compressed --most 50", "list --not-checked-since 2023-11-15 --most 50", "list --incomplete-sets --most 50",
               "list --below /media/discs/7 --most 50", "find moker --most 50", "find prxs-00777", "show 777", "stats", "sets", "moved",
               "missing --against shelf.dat"]
    peak = 0
    for query in queries:
        command = f"{opifex} shelf {query} --at big.sqlite --quiet > told || true"
        peak = max(peak, run(command)[1])
        seconds = best_of(rounds, lambda: run(command)[0])
        add_row(f"Shelf: 100 000 items, {query} / 50 ms", seconds - start, 0.050, 1.0)
    command = f"{opifex} shelf duplicates --at big.sqlite > told || true"
    peak = max(peak, run(command)[1], run(f"{opifex} shelf list --at big.sqlite > told")[1],
               run(f"{opifex} shelf list --json --at big.sqlite > told")[1])
    add_row("Shelf: 100 000 items, duplicates / 300 ms", best_of(rounds, lambda: run(command)[0]) - start, 0.300, 1.0)
    add_row("Shelf: the most memory of any of these, and of whole lists / 128 MiB", peak / 1024, 128.0, 1.0, peak)

    def report():
        shutil.rmtree(os.path.join(folder, "report"), ignore_errors=True)
        return run(f"{opifex} shelf list --most 10000 --at big.sqlite --quiet --report report > told")

    peak = max(report()[1], run(f"{opifex} shelf list --at big.sqlite --quiet --report all > told")[1])
    add_row("Shelf: a report of 10 000 rows / 2 s (memory: of 100 000)", best_of(rounds, lambda: report()[0]), 2.0, 1.0, peak)
    add_row("Shelf: the page of 10 000 rows / 5 MB", os.path.getsize(os.path.join(folder, "report", "report.html")) / 1e6, 5.0, 1.0)
    shutil.rmtree(os.path.join(folder, "all"))

    os.makedirs(os.path.join(folder, "tree"))
    for i in range(10000):
        place = os.path.join(folder, "tree", str(i % 100))
        os.makedirs(place, exist_ok=True)
        with open(os.path.join(place, f"{i}.bin"), "wb") as out:
            out.write(os.urandom(3000))
    make_roms()
    run(f"{opifex} shelf add tree --at tree.sqlite || true")
    again = best_of(rounds, lambda: run(f"{opifex} shelf add tree --at tree.sqlite || true")[0])
    add_row("Shelf: 10 000 files that are as they were (no games) / 0.5 s", again, 0.5, 1.0)
    run(f"{opifex} shelf add roms --at roms.sqlite || true")
    again = best_of(rounds, lambda: run(f"{opifex} shelf add roms --at roms.sqlite")[0])
    add_row("Shelf: 10 000 cartridges that are as they were / 0.5 s", again, 0.5, 1.0)

    os.makedirs(os.path.join(folder, "images"))
    image = small_disc(2_000_000)
    for i in range(1000):
        image[-4096:-4088] = i.to_bytes(8, "little")
        with open(os.path.join(folder, "images", f"{i}.iso"), "wb") as out:
            out.write(image)

    def first():
        remove("first.sqlite", "first.sqlite-wal", "first.sqlite-shm")
        return run(f"{opifex} shelf add images --at first.sqlite --quiet")

    peak = first()[1]
    ours, theirs = best_of(rounds, lambda: first()[0], lambda: run(f"{opifex} check images --quiet")[0])
    add_row("Shelf: first adding of 1000 images / check of them", ours, theirs, 1.10, peak)
    remove("tree", "images", "roms", "big.sqlite")


def xbox_rows():
    """A game of 1000 files: as a folder, an image and an installed game."""
    game = os.path.join(folder, "game")
    for place in range(20):
        os.makedirs(os.path.join(game, f"PLACE{place}"))
        for i in range(50):
            with open(os.path.join(game, f"PLACE{place}", f"FILE{i}.DAT"), "wb") as out:
                out.write(os.urandom(20_000 + 9_000 * i))
    with open(os.path.join(game, "MOVIE.BIN"), "wb") as out:
        out.write(os.urandom(300_000_000))
    shutil.copy(os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "tests", "vectors", "xbox", "exe", "orchard.xex"), os.path.join(game, "default.xex"))
    compare("Xbox: build of an XISO of 1002 files / cp -r", f"{opifex} build game --as xiso --out game.image --quiet",
            "cp -r game game-copy; sync -f game-copy", 1.15, "game/MOVIE.BIN game/*/*", ["game.image"], ["game-copy"])
    run(f"{opifex} build game --as xiso --out game.image --quiet")
    compare("Xbox: extract of 1002 files / cp -r", f"{opifex} extract game.image --into out --quiet",
            "cp -r game game-copy; sync -f game-copy", 1.15, "game.image game/MOVIE.BIN game/*/*", ["out"], ["game-copy"])
    compare("Xbox: XISO to an installed game, 2 threads / sha1sum", f"{opifex} convert game.image --to god --out usb --threads 2 --quiet",
            "sha1sum game.image", 1.15, "game.image", ["usb"])
    run(f"{opifex} convert game.image --to god --out drive --quiet")
    header = next(os.path.join(d, f) for d, _, files in os.walk(os.path.join(folder, "drive")) for f in files
                  if not f.startswith("Data"))
    compare("Xbox: verify of it, 2 threads / sha1sum", f"{opifex} check {header} --hashes none --threads 2 --quiet",
            f"cat {header}.data/* | sha1sum", 1.15, f"{header}.data/*")
    compare("Xbox: back to an XISO, 2 threads / sha1sum", f"{opifex} convert {header} --to xiso --out back/ --threads 2 --quiet",
            f"cat {header}.data/* | sha1sum", 1.15, f"{header}.data/*", ["back"])


def wii_rows():
    """Writing against copying the bytes that are written; verifying against the bare library on the same bytes."""
    run(f"{opifex} convert wii.iso --to wbfs --out whole.wbfs --quiet")
    compare("Wii: ISO to WBFS / cp of the result", f"{opifex} convert wii.iso --to wbfs --out out.wbfs --quiet",
            "cp whole.wbfs cp.wbfs; sync cp.wbfs", 1.15, "wii.iso whole.wbfs", ["out.wbfs"], ["cp.wbfs"])
    compare("Wii: ISO to WBFS in parts / cp of the result",
            f"{opifex} convert wii.iso --to wbfs --out parts/out.wbfs --limit 256M --quiet",
            "cp whole.wbfs cp.wbfs; sync cp.wbfs", 1.15, "wii.iso whole.wbfs", ["parts"], ["cp.wbfs"])
    compare("Wii: split of a WBFS / cp", f"{opifex} split whole.wbfs --limit 256M --out parts/ --quiet",
            "cp whole.wbfs cp.wbfs; sync cp.wbfs", 1.15, "whole.wbfs", ["parts"], ["cp.wbfs"])
    libraries = os.path.join(os.path.abspath(build), "bench", "wii_libraries")
    for threads in (1, 2):
        compare(f"Wii: verify, {threads} thread{'s' if threads > 1 else ''} / OpenSSL alone on the same bytes",
                f"{opifex} check wii.iso --key-file keys.toml --hashes none --threads {threads} --quiet",
                f"{libraries} whole.wbfs {threads}", 1 / 0.90, "wii.iso whole.wbfs")


def libraries_alone(what, threads):
    """Seconds the bare libraries need for the hunks of corpus.chd, in memory."""
    command = [os.path.join(os.path.abspath(build), "bench", "chd_libraries"), what, str(threads),
               os.path.join(folder, "corpus.chd")]
    return float(subprocess.run(command, capture_output=True, text=True, check=True).stdout)


def fresh_run(command, *outputs):
    """Seconds and peak kilobytes of a command whose outputs are not there yet."""
    remove(*outputs)
    return run(command)


def chd_read_rows():
    """Reading a CHD against the same libraries in a bare loop over the same hunks."""
    fresh_run(f"{opifex} convert corpus.cue --to chd --quiet --effort best --out corpus.chd", "corpus.chd")
    for t in (1, 2):
        extract = f"{opifex} convert corpus.chd --to cue --threads {t} --out back/ --quiet"
        check = f"{opifex} check corpus.chd --hashes none --threads {t} --quiet"
        extracted, checked, alone = best_of(max(rounds, 3), lambda: fresh_run(extract, "back"), lambda: run(check),
                                            lambda: (libraries_alone("decode", t), 0))
        add_row(f"CHD -> cue, {t} thread(s) / decoding alone", extracted[0], alone[0], 1.15, extracted[1])
        add_row(f"CHD check, {t} thread(s) / decoding alone", checked[0], alone[0], 1.15, checked[1])
    remove("back")


def chd_create_rows():
    """Making a CHD against the same libraries, every codec for every hunk."""
    n = min(rounds, 3)
    make = f"{opifex} convert corpus.cue --to chd --quiet --effort"
    fresh_run(f"{make} best --out corpus.chd", "corpus.chd")
    created = {}
    for t in (1, 2):
        (created[t], peak), (alone, _) = best_of(n, lambda: fresh_run(f"{make} best --threads {t} --out out.chd", "out.chd"),
                                                 lambda: (libraries_alone("encode", t), 0))
        add_row(f"CHD, best, {t} thread(s) / the libraries alone", created[t], alone, 1.15, peak)
    add_row("CHD, best: one thread / two", created[1], created[2], -1.8)

    def cpu(effort):
        remove("out.chd")
        done = subprocess.run(["/usr/bin/time", "-f", "%U", "sh", "-c", f"{make} {effort} --out out.chd"], cwd=folder,
                              capture_output=True, text=True, check=True)
        return float(done.stderr.strip().splitlines()[-1]), os.path.getsize(os.path.join(folder, "out.chd"))

    (best_cpu, best_size), (normal_cpu, normal_size) = best_of(n, lambda: cpu("best"), lambda: cpu("normal"))
    add_row("CHD: processor time, normal / best", normal_cpu, best_cpu, 0.60)
    add_row("CHD: size in MB, normal / best", normal_size / 1e6, best_size / 1e6, 1.002)


try:
    subprocess.run([os.path.join(os.path.abspath(build), "bench", "make_bench_disc"), folder], check=True, stdout=subprocess.DEVNULL)
    bins = " ".join(f"'mixed (Track {n}).bin'" for n in range(1, 6))

    compare("merge / cat of the bins", f"{opifex} merge mixed.cue --out merged/ --quiet",
            f"cat {bins} > cat.bin; sync cat.bin", 1.15, bins, ["merged"], ["cat.bin"])
    compare("bin -> iso / cp of the bin", f"{opifex} convert data.bin --to iso --out out.iso --quiet",
            "cp data.bin cp.bin; sync cp.bin", 1.30, "data.bin", ["out.iso"], ["cp.bin"])

    run(f"{opifex} merge mixed.cue --out merged/ --quiet")
    run(f"{opifex} convert data.bin --to iso --out hash.iso --quiet")
    compare("CRC-32 + MD5 + SHA-1, two threads / md5sum", f"{opifex} check hash.iso --threads 2 --quiet", "md5sum hash.iso", 1.15, "hash.iso")
    compare("check, one bin of 5 tracks / md5sum", f"{opifex} check merged/mixed.cue --quiet", "md5sum merged/mixed.bin", 1.50, "merged/mixed.bin")
    compare("check, a bin for each track / md5sum", f"{opifex} check mixed.cue --quiet", f"md5sum {bins}", 1.50, bins)
    compare("check, data only / md5sum", f"{opifex} check data.cue --quiet", "md5sum data.bin", 1.50, "data.bin")
    compare("EDC + P + Q of every sector, one thread / md5sum", f"{opifex} check data.cue --hashes none --threads 1 --quiet",
            "md5sum data.bin", 1 / 1.5, "data.bin")

    for disc in ("data", "mixed"):
        with open(os.path.join(folder, disc + ".toml"), "w") as drive:
            drive.write(f'seed = 1\n[disc]\nimage = "{disc}.cue"\n')
    compare("dump of a clean simulated disc / cp of the bin", f"{opifex} dump sim:data.toml --out dumped/ --hashes none --quiet",
            "cp data.bin cp.bin; sync cp.bin", 1.30, "data.bin", ["dumped"], ["cp.bin"])
    compare("the same with a quarter music, read twice / cat of the bins",
            f"{opifex} dump sim:mixed.toml --out dumped/ --hashes none --quiet",
            f"cat {bins} > cat.bin; sync cat.bin", 2.00, bins, ["dumped"], ["cat.bin"])

    if only in "CHD read":
        chd_read_rows()
    if only in "CHD create":
        chd_create_rows()

    if only in "Wii":
        wii_rows()
    if only in "Xbox":
        xbox_rows()

    if only in "Cartridges":
        cartridge_rows()
    if only in "Lists":
        list_rows()
    if only in "Shelf":
        shelf_rows()
    if only in "Floppies":
        floppy_rows()

    if only in "files":
        for place in range(20):
            os.makedirs(os.path.join(folder, "tree", f"DIR{place}"))
            for i in range(50):
                with open(os.path.join(folder, "tree", f"DIR{place}", f"FILE{i}.DAT"), "wb") as out:
                    out.write(os.urandom(20_000 + 9_000 * i))
        with open(os.path.join(folder, "tree", "MOVIE.BIN"), "wb") as out:
            out.write(os.urandom(200_000_000))
        compare("files: build of 1001 files / cp -r", f"{opifex} build tree --as iso --out tree.iso --quiet",
                "cp -r tree tree-copy; sync -f tree-copy", 1.20, "tree/MOVIE.BIN tree/*/*", ["tree.iso"], ["tree-copy"])
        run(f"{opifex} build tree --as iso --out tree.iso --quiet")
        compare("files: extract of 1001 files / bsdtar -xf", f"{opifex} extract tree.iso --into out --quiet",
                "mkdir theirs; bsdtar -xf tree.iso -C theirs; sync -f theirs", 1.15, "tree.iso", ["out"], ["theirs"])

        # A shelf: the same small disc a thousand times, no two alike.
        disc = small_disc(100_000)
        for i in range(1000):
            place = os.path.join(folder, "shelf", f"{i // 50}")
            os.makedirs(place, exist_ok=True)
            disc[-60_000:-60_000 + 4] = i.to_bytes(4, "big")
            with open(os.path.join(place, f"disc {i}.iso"), "wb") as out:
                out.write(disc)
        run(f"{opifex} identify shelf --quiet")
        looks = [run(f"{opifex} identify shelf --quiet") for _ in range(3)]
        add_row("files: identify of a folder of 1000 images / 2 s", min(l[0] for l in looks), 2.0, 1.0, looks[0][1])

    kernel = subprocess.run([os.path.join(build, "bench", "parity_bench"), "--benchmark_format=json", "--benchmark_min_time=0.3"],
                            capture_output=True, text=True, check=True)
    kernels = [(b["name"], b["bytes_per_second"] / 1e6) for b in json.loads(kernel.stdout)["benchmarks"]]
finally:
    shutil.rmtree(folder, ignore_errors=True)

head = ("what", "ours s", "other s", "ratio", "of medians", "target", "", "peak MiB")
widths = [max(len(str(r[i])) for r in [head, *rows]) for i in range(len(head))]
for row in [head, *rows]:
    print("  ".join(str(cell).ljust(width) for cell, width in zip(row, widths)).rstrip())
print(f"\nbest of {rounds} rounds, 700 MB discs, warm cache; memory limit 64 MiB\n")
for name, speed in kernels:
    print(f"{name:32} {speed:8.0f} MB/s")
sys.exit(1 if failed else 0)
