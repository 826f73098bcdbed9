#!/usr/bin/env python3
"""A shelf of made-up items as JSON lines: bench/make_shelf.py FILE COUNT

Titles of three words out of two thousand; one item of twenty is a disc of a set, three of a hundred are copies.
"""
import hashlib
import json
import random
import sys

out, count = open(sys.argv[1], "w"), int(sys.argv[2])
r = random.Random(1)
heads = ["mo", "ker", "lan", "ti", "or", "bra", "qua", "bel", "har", "pa", "em", "ga", "sil", "ca", "nor", "sta", "wi", "du", "fe", "ro"]
ends = ["th", "tern", "strel", "der", "chard", "sade", "ry", "light", "bor", "nal"]
words = [a + b + c for a in heads for b in heads[:10] for c in ends]
print(json.dumps({"opifex_shelf": 1}), file=out)
for i in range(count):
    title = " ".join(r.choice(words).title() for _ in range(3))
    sha = hashlib.sha1(str(i if r.random() < 0.97 else r.randrange(count)).encode()).hexdigest()
    path = f"/media/discs/{i % 50}/{title} {i}.chd"
    item = {"path": path, "host": "museum", "kind": "image", "format": r.choice(["chd", "cue", "iso"]),
            "platform": r.choice(["ps1", "saturn", "gamecube", "wii", "xbox"]), "title": title, "serial": f"PRXS-{i:05}",
            "region": r.choice(["Europe", "Japan", "North America"]), "verdict": r.choice(["intact"] * 19 + ["damaged"]),
            "compressed": i % 3 == 0, "stored_bytes": r.randrange(10**9), "content_bytes": r.randrange(10**9),
            "content_key": "disc:" + sha, "known": r.choice(["", "known", "not_known"]), "added_at": 1700000000,
            "checked_at": 1700000000 + i, "files": [{"path": path, "size_bytes": 1000, "modified_ns": 5, "inode": i + 1, "device": 1}],
            "contents": [{"kind": "file", "path": path, "size_bytes": 1000 + i, "crc32": sha[:8], "md5": sha[:32], "sha1": sha}]}
    if i % 20 < 2 and i % 40 < 20:
        item.update({"disc": 1 + i % 20, "set": f"set {i // 20}"})
    print(json.dumps(item), file=out)
