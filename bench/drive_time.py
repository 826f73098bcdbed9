#!/usr/bin/env python3
"""Virtual seconds that simulated drives need for ten standard scenarios.

usage: drive_time.py PROGRAM [OLDER_PROGRAM]

The clock is the simulated drive's own, so that the figures are the same on every machine."""
import json, os, subprocess, sys, tempfile

DATA = '{number = 1, mode = "MODE1", sectors = 40000}'
MUSIC = ", ".join(f'{{number = {n}, mode = "AUDIO", sectors = 8000, pregap = {150 if n == 2 else 0}}}' for n in range(2, 6))
ONLY_MUSIC = ", ".join(f'{{number = {n}, mode = "AUDIO", sectors = 8000}}' for n in range(1, 6))


def defect(kind, first, last, **keys):
    return f'[[defects]]\nkind = "{kind}"\nlba = [{first}, {last}]\n' + "".join(f"{k} = {v}\n" for k, v in keys.items())


def cd(tracks, *defects, drive=""):
    return f"[drive]\ncache_kib = 1024\n{drive}\n[disc]\nsessions = [{{tracks = [{tracks}]}}]\n" + "".join(defects)


def dvd(*defects):
    return '[drive]\nkind = "dvd"\n[disc]\nprofile = 16\nimage = "blocks.iso"\n' + "".join(defects)


SCENARIOS = {
    "data, clean": cd(DATA),
    "data and music, clean": cd(f"{DATA}, {MUSIC}"),
    "music, clean": cd(ONLY_MUSIC),
    "data, 60 sectors unreadable": cd(DATA, defect("unreadable", 9000, 9059)),
    "data, 400 weak sectors": cd(DATA, defect("weak", 20000, 20399, p=0.4)),
    "music, scratch of 300 sectors, C2": cd(ONLY_MUSIC, defect("c2", 15000, 15299, p=0.5, bytes=30)),
    "music, 40 sectors wrong without a flag": cd(ONLY_MUSIC, *(defect("silent", 9000 + 300 * i, 9000 + 300 * i, p=0.5, bytes=8) for i in range(40)), drive="c2 = false"),
    "music, a drive that jitters": cd(ONLY_MUSIC, defect("jitter", 0, 1000000, max=400, p=0.4), drive="accurate_stream = false"),
    "DVD, 6 damaged groups": dvd(*(defect("weak", 4000 + 900 * i, 4003 + 900 * i, p=0.2) for i in range(6))),
    "data, drive hangs twice": cd(DATA, defect("hang", 12000, 12000, ms=70000, count=2)),
}


def seconds(program, folder, name, text):
    with open(os.path.join(folder, "drive.toml"), "w") as out:
        out.write("seed = 5\n" + text)
    target = os.path.join(folder, "out", "x.iso" if "DVD" in name else "x.cue")
    subprocess.run(["rm", "-rf", os.path.join(folder, "out")], check=True)
    run = subprocess.run([program, "dump", "sim:drive.toml", "--out", target, "--hashes", "none", "--json"], cwd=folder,
                         capture_output=True, text=True)
    result = json.loads(run.stdout)["results"][0]
    return result["drive_statistics"]["drive_seconds"], result["verdict"]


def main():
    programs = [os.path.abspath(p) for p in sys.argv[1:]]
    with tempfile.TemporaryDirectory() as folder:
        with open(os.path.join(folder, "blocks.iso"), "wb") as out:
            out.write(os.urandom(12000 * 2048))
        for name, text in SCENARIOS.items():
            found = [seconds(p, folder, name, text) for p in programs]
            row = "  ".join(f"{s:9.1f} {v:8}" for s, v in found)
            ratio = f"  {found[0][0] / found[1][0]:.2f}" if len(found) > 1 else ""
            print(f"{name:42} {row}{ratio}")


main()
