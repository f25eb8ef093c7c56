"""Heads of physical volumes written by the real programs, and where these say that volumes lie:
`python -m tests.lvm_groups`, as root with loop devices and lvm2; they are committed.
"""

import json
import lzma
import subprocess
import tempfile
from pathlib import Path

FOLDER = Path(__file__).parent / "data"
MIB, HEAD = 1 << 20, 1 << 20
GROUP = "ferry-vg"
QUIET = ("--driverloaded", "n", "-q", "-q")
NEW = ("-an", "-Zn", "-Wn")
GROUPS = {
    # physical volumes in MiB, and what is made of them
    "split": ((58,), (("log", 4, ()), ("root", 22, ()), ("home", 6, ()), ("root", 18, None))),
    "striped": ((28, 28), (("root", 40, ("-i", "2", "-I", "64k")), ("home", 4, ()))),
}


def make():
    """Make all anew."""
    for name, (sizes, volumes) in GROUPS.items():
        with tempfile.TemporaryDirectory() as folder:
            files = [Path(folder) / f"pv{number}" for number in range(len(sizes))]
            for file, size in zip(files, sizes, strict=True):
                with file.open("wb") as made:
                    made.truncate(size * MIB)
            loops = [run("losetup", "-f", "--show", file).strip() for file in files]
            try:
                shown = _group(loops, volumes)
            finally:
                for loop in loops:
                    run("losetup", "-d", loop)
            heads = b"".join(file.read_bytes()[:HEAD] for file in files)
        (FOLDER / f"lvm-{name}.xz").write_bytes(lzma.compress(heads, preset=9))
        rows = [row.split() for row in shown.splitlines()]
        segments = [
            {
                "volume": volume,
                "stripes": int(count),
                "stripe_bytes": int(stripe),
                "first": int(first),
                "extents": int(size),
                "ranges": [
                    [loops.index(part.split(":")[0]), int(part.split(":")[1].split("-")[0])]
                    for part in ranges
                ],
            }
            for volume, count, stripe, first, size, *ranges in rows
        ]
        (FOLDER / f"lvm-{name}.json").write_text(json.dumps(segments, indent=1) + "\n")


def _group(loops, volumes):
    """Make the group; its segments as the real program lists them."""
    for loop in loops:
        run("pvcreate", *QUIET, loop)
    run("vgcreate", *QUIET, "-s", "1M", GROUP, *loops)
    for name, size, options in volumes:
        if options is None:
            run("lvextend", *QUIET, "-l", f"+{size}", f"{GROUP}/{name}")
        else:
            run("lvcreate", *QUIET, *NEW, "-n", name, "-l", str(size), *options, GROUP)
    fields = "lv_name,stripes,stripe_size,seg_start_pe,seg_size_pe,seg_pe_ranges"
    listed = ("--segments", "--noheadings", "--units", "b", "--nosuffix", "-o", fields)
    return run("lvs", *QUIET, *listed, GROUP)


def run(*words):
    done = subprocess.run([str(word) for word in words], check=True, capture_output=True, text=True)
    return done.stdout


def heads(name):
    """The first MiB of each physical volume, and its length in MiB."""
    data = lzma.decompress((FOLDER / f"lvm-{name}.xz").read_bytes())
    sizes, _ = GROUPS[name]
    return [(data[at * HEAD : (at + 1) * HEAD], size) for at, size in enumerate(sizes)]


def placed(name, contents):
    """Each physical volume with the contents of logical ones laid where the real program says."""
    made = [bytearray(head.ljust(size * MIB, b"\0")) for head, size in heads(name)]
    for segment in json.loads((FOLDER / f"lvm-{name}.json").read_text()):
        data = contents.get(segment["volume"], b"")
        length = segment["extents"] * MIB
        part = data[segment["first"] * MIB :][:length].ljust(length, b"\0")
        step = segment["stripe_bytes"] or length
        for number, at in enumerate(range(0, length, step)):
            which, row = number % segment["stripes"], number // segment["stripes"]
            volume, first = segment["ranges"][which]
            start = HEAD + first * MIB + row * step
            made[volume][start : start + step] = part[at : at + step]
    return [bytes(volume) for volume in made]


if __name__ == "__main__":
    make()
