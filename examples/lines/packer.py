"""packer.py: pack the demo's manifest, and print when each step begins and ends. No instrumentation beside that."""
import sys, time, zlib


def step(name, work, *args):
    print(f"{time.time():.6f} begin {name}")
    out = work(*args)
    print(f"{time.time():.6f} end {name}")
    return out


def load(path):
    with open(path, "rb") as manifest:
        return manifest.read()


def by_insertion(lines):  # one place after another, as it was written first
    import bisect
    out = []
    for line in lines:
        bisect.insort(out, line)
    return out


path, way = sys.argv[1], sys.argv[2]
text = step("load", load, path)
lines = step("split", text.split, b"\n")
lines = step("sort", {"insert": by_insertion, "sort": sorted}[way], lines[:120_000])
packed = step("pack", zlib.compress, b"\n".join(lines), 1)
