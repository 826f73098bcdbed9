#!/usr/bin/env python3
"""A campaign against the built program: mutated vectors, injected faults, kills at random moments.

usage: campaign.py PROGRAM FAULTS.so MINUTES [SEED | --from SEED]

Fails on: a crash, a hang, memory over the rule, a harmed input, a half file or temporary file left behind, an exit code
of 0 on damage that a checksum covers, a job that succeeds with other bytes than an undisturbed one. Each trial has a seed
of its own, which is printed when it fails: SEED runs that one trial again, alone; --from SEED begins with that one, as the
test run does, so that a change is judged by the same trials and not by luck."""
import hashlib, json, os, random, resource, shutil, signal, subprocess, sys, tempfile, time
from pathlib import Path

VECTORS = Path(__file__).resolve().parent.parent / "vectors"
TIMEOUT = 60  # seconds; the machine may be busy
MEMORY_BASE = (64 + 48) << 20  # the rule's 64 MiB, and what the program and its libraries take
WRITTEN = ["cue", "cue-tracks", "iso", "chd", "vcd", "bin", "wbfs", "xiso", "god"]
# Every byte that is delivered is under a checksum of the format's own.
COVERED = (".chd", ".gz", ".xz", ".zst", ".bz2", ".zip", ".7z", ".rar")
FLAGS = {"identify": [], "check": ["--hashes", "sha1"], "files": []}


class Failure(Exception):
    pass


def seeds():
    """Vectors with the files that belong to them: (folder to copy, the file to name)."""
    found = []
    for path in sorted(VECTORS.rglob("*")):
        if not path.is_file() or path.suffix in (".json", ".recipe", ".py", ".txt", ".seed", ".toml"):
            continue
        if path.stat().st_size > 4 << 20 or "/dump/" in str(path) or "/tree/" in str(path):
            continue
        whole = path.suffix in (".cue", ".gdi") or ".data" in str(path) or ".part" in path.name or "parent" in path.name or "child" in path.name
        found.append((path, whole))
    return found


def tree(folder):
    """What is in a folder: name -> SHA-1."""
    result = {}
    for path in sorted(Path(folder).rglob("*")):
        if path.is_symlink() or not path.is_file():
            continue
        result[str(path.relative_to(folder))] = hashlib.sha1(path.read_bytes()).hexdigest()
    return result


class Run:
    def __init__(self, program, words, folder, env=None, kill_after=None):
        self.words = words
        process = subprocess.Popen([program, *words], cwd=folder, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
                                   stderr=subprocess.PIPE, env={**os.environ, "NO_COLOR": "1", **(env or {})})
        if kill_after is not None:
            time.sleep(kill_after)
            process.kill()
        try:
            self.out, self.err = process.communicate(timeout=TIMEOUT)
        except subprocess.TimeoutExpired:
            process.kill()
            process.communicate()
            raise Failure(f"hang: {words}")
        self.code = process.returncode

    def text(self):
        return f"{self.words}: exit {self.code}\n{self.err.decode(errors='replace')[:600]}"


class Campaign:
    def __init__(self, program, shim):
        self.program, self.shim, self.seeds = program, shim, seeds()
        self.counts = {"mutated": 0, "faults": 0, "kills": 0, "runs": 0}

    def run(self, words, folder, env=None, kill_after=None):
        self.counts["runs"] += 1
        before = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
        result = Run(self.program, words, folder, env, kill_after)
        after = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
        self.peak = after * 1024 if after > before else 0  # only a new record is known exactly
        if kill_after is None and not (env or {}).get("OPIFEX_FAULT", "").endswith("kill"):
            if result.code not in (0, 1, 2, 3, 4, 5):
                raise Failure("crash: " + result.text())
            if b"internal fault" in result.err:
                raise Failure("internal fault: " + result.text())
        return result

    def fault(self, folder, what):
        """The environment in which that call of the program goes wrong."""
        return {"LD_PRELOAD": self.shim, "OPIFEX_FAULT_BELOW": str(folder), "OPIFEX_FAULT": what,
                "ASAN_OPTIONS": "verify_asan_link_order=0"}

    def place(self, rng, folder):
        source, whole = rng.choice(self.seeds)
        inputs = Path(folder) / "in"
        if whole:
            shutil.copytree(source.parent, inputs, symlinks=True)
        else:
            inputs.mkdir()
            shutil.copy(source, inputs)
        for path in inputs.rglob("*"):
            os.chmod(path, 0o755 if path.is_dir() else 0o644)
        return inputs, inputs / source.name

    def mutate(self, rng, path):
        data = bytearray(path.read_bytes())
        for _ in range(rng.choice([1, 1, 1, 2, 4, 16])):
            if not data:
                return
            kind = rng.randrange(6)
            at = rng.randrange(len(data)) if rng.random() < 0.5 else rng.randrange(min(len(data), 4096))
            if kind == 0:
                data[at] ^= 1 << rng.randrange(8)
            elif kind == 1:
                data = data[:at]
            elif kind == 2:  # a count or an offset blown up
                width = rng.choice([2, 4, 8])
                data[at:at + width] = rng.choice([b"\xff" * width, b"\x7f" + b"\xff" * (width - 1),
                                                  b"\x00" * width, b"\xff" * (width - 1) + b"\x7f"])
            elif kind == 3:
                data[at:at + rng.randrange(1, 64)] = rng.randbytes(rng.randrange(1, 64))
            elif kind == 4:  # a piece of another format
                other = rng.choice(self.seeds)[0].read_bytes()
                start = rng.randrange(len(other)) if other else 0
                piece = other[start:start + rng.randrange(1, 4096)]
                data[at:at + len(piece)] = piece
            else:  # a piece of its own, elsewhere
                start = rng.randrange(len(data))
                piece = data[start:start + rng.randrange(1, 2048)]
                data[at:at + len(piece)] = piece
        path.write_bytes(bytes(data))

    def require_clean(self, folder, before, what):
        after = tree(Path(folder) / "in")
        if after != before:
            raise Failure(f"harmed: {[n for n in set(after) | set(before) if after.get(n) != before.get(n)]}: {what}")
        left = [n for n in tree(folder) if ".opifex-" in n]
        if left:
            raise Failure(f"left behind: {left}: {what}")

    def content(self, named, folder):
        """Hashes of what an image holds, by the program itself: of tracks, of the disc inside, of the files."""
        result = self.run(["check", str(named), "--hashes", "sha1", "--json"], folder)
        try:
            document = json.loads(result.out)
        except ValueError:
            return result.code, None
        rows = document["results"]
        inside = [[t.get("hashes") for t in r.get("tracks", [])] or [r.get("disc")] for r in rows]
        return result.code, json.dumps(inside)

    def trial_mutated(self, rng, folder):
        self.counts["mutated"] += 1
        inputs, named = self.place(rng, folder)
        target = named if rng.random() < 0.8 else rng.choice([p for p in inputs.rglob("*") if p.is_file()])
        covered = named.name.endswith(COVERED) and target == named
        sound = self.content(named, folder) if covered else None
        self.mutate(rng, target)
        before = tree(inputs)
        size = sum(p.stat().st_size for p in inputs.rglob("*") if p.is_file())
        for command in ("identify", "check", "files"):
            result = self.run([command, str(named), *FLAGS[command], *(["--json"] if rng.random() < 0.3 else [])], folder)
            if self.peak > MEMORY_BASE + 8 * size:
                raise Failure(f"memory: {self.peak >> 20} MiB for {size} bytes: {result.text()}")
            self.require_clean(folder, before, result.text())
        if covered and sound and sound[0] == 0 and sound[1]:
            damaged = self.content(named, folder)
            if damaged[0] == 0 and damaged[1] and damaged[1] != sound[1]:
                raise Failure(f"intact, with other contents: {named.name}")
        target_format = rng.choice(WRITTEN)
        words = ["convert", str(named), "--to", target_format, "--out", "out/"]
        if rng.random() < 0.5:
            words += ["--accept", "audio,tracks,form2,subchannel,raw-headers,sessions,partitions"]
        if rng.random() < 0.5:
            words.append("--prove")
        result = self.run(words, folder)
        self.require_clean(folder, before, result.text())
        if result.code > 1 and tree(Path(folder) / "out") if (Path(folder) / "out").exists() else False:
            raise Failure("failed, but left its output: " + result.text())
        result = self.run(["extract", str(named), "--into", "files"], folder)
        self.require_clean(folder, before, result.text())

    JOBS = [("convert", "cd/cue", ["--to", "chd"]), ("convert", "cd/cue", ["--to", "cue-tracks"]),
            ("convert", "chd", ["--to", "cue"]), ("convert", "chd", ["--to", "cue-tracks"]), ("extract", "iso", []),
            ("convert", "xbox", ["--to", "xiso"]), ("convert", "iso", ["--to", "chd"])]

    def job(self, rng, folder):
        """A job that succeeds undisturbed, with what it writes."""
        for _ in range(40):
            command, kind, words = rng.choice(self.JOBS)
            choices = [s for s in self.seeds if kind in str(s[0].parent) and "bad" not in s[0].name]
            saved, self.seeds = self.seeds, choices or self.seeds
            try:
                inputs, named = self.place(rng, folder)
            finally:
                self.seeds = saved
            target = ["--into", "out"] if command == "extract" else ["--out", "out/"]
            words = [command, str(named), *words, *target]
            result = self.run(words, folder)
            out = Path(folder) / "out"
            wanted = tree(out) if out.exists() else {}
            shutil.rmtree(out, ignore_errors=True)
            if result.code == 0 and wanted:
                return inputs, words, wanted
            shutil.rmtree(inputs)
        return None

    def trial_fault(self, rng, folder):
        job = self.job(rng, folder)
        if not job:
            return
        self.counts["faults"] += 1
        inputs, words, wanted = job
        before = tree(inputs)
        kind = rng.choice(["read", "write", "sync", "rename"])
        action = rng.choice(["eio", "enospc", "eintr", "short"] if kind in ("read", "write") else ["eio", "enospc"])
        env = self.fault(folder, f"{kind}:{rng.randrange(1, rng.choice([4, 12, 60]))}:{action}")
        result = self.run(words, folder, env)
        what = f"{env['OPIFEX_FAULT']}: {result.text()}"
        self.require_clean(folder, before, what)
        out = Path(folder) / "out"
        left = tree(out) if out.exists() else {}
        if result.code in (0, 1) and left != wanted:
            raise Failure("success with other bytes: " + what)
        if words[0] == "convert" and result.code > 1 and left and left != wanted:
            raise Failure("failed, but left a part of its output: " + what)
        if any(left[n] != wanted.get(n) for n in left):
            raise Failure("a file with other bytes under its final name: " + what)

    def trial_kill(self, rng, folder):
        job = self.job(rng, folder)
        if not job:
            return
        self.counts["kills"] += 1
        inputs, words, wanted = job
        before = tree(inputs)
        replacing = rng.random() < 0.4
        if replacing:  # over an older output
            out = Path(folder) / "out"
            for name in wanted:
                (out / name).parent.mkdir(parents=True, exist_ok=True)
                (out / name).write_bytes(b"older")
            words = [*words, "--overwrite"]
        if rng.random() < 0.6:
            kind = rng.choice(["rename", "sync", "write", "unlink"])
            env = self.fault(folder, f"{kind}:{rng.randrange(1, 9)}:kill")
            self.run(words, folder, env)
            what = env["OPIFEX_FAULT"]
        else:
            self.run(words, folder, None, rng.random() * 0.06)
            what = "killed at a random moment"
        if tree(inputs) != before:
            raise Failure(f"harmed by a kill: {what}: {words}")
        left = {n: h for n, h in tree(Path(folder) / "out").items() if ".opifex-" not in n} if (Path(folder) / "out").exists() else {}
        older = hashlib.sha1(b"older").hexdigest()
        for name, digest in left.items():
            if digest != wanted.get(name) and not (replacing and digest == older):
                raise Failure(f"a half file after a kill: {name}: {what}: {words}")
        again = self.run(words, folder)
        done = tree(Path(folder) / "out")
        if again.code == 4 and b"there already" in again.err:
            done = {n: h for n, h in done.items() if ".opifex-" not in n}
        if done != wanted:
            raise Failure(f"not whole after running again ({what}): {again.text()}\n{sorted(done)} instead of {sorted(wanted)}")

    def trial(self, seed):
        rng = random.Random(seed)
        folder = tempfile.mkdtemp(prefix="opifex-campaign-")
        try:
            kind = rng.random()
            (self.trial_mutated if kind < 0.7 else self.trial_fault if kind < 0.85 else self.trial_kill)(rng, folder)
        finally:
            shutil.rmtree(folder, ignore_errors=True)


def main():
    program, shim, minutes = os.path.abspath(sys.argv[1]), os.path.abspath(sys.argv[2]), float(sys.argv[3])
    campaign = Campaign(program, shim)
    if len(sys.argv) == 5:
        campaign.trial(int(sys.argv[4]))
        print("this seed passes")
        return 0
    seed = int(sys.argv[5]) if len(sys.argv) > 5 else int(time.time() * 1000)
    print(f"campaign from seed {seed}, {len(campaign.seeds)} vectors", flush=True)
    end, failures = time.time() + 60 * minutes, []
    while time.time() < end and len(failures) < 20:
        seed += 1
        try:
            campaign.trial(seed)
        except Failure as e:
            failures.append(seed)
            print(f"FAILED seed {seed}: {e}", flush=True)
    print(", ".join(f"{n} {what}" for what, n in campaign.counts.items()) + f", {len(failures)} failures")
    return 1 if failures else 0


if __name__ == "__main__":
    sys.exit(main())
