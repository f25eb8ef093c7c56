"""`copy` of a sound image against `cp` of it, both to the medium; `keep` of a system of 1 GB."""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from random import Random

WANTED, KEEP_SECONDS = 0.8, 5.0
_RUNS = 5
_IMAGE, _FILES, _FILE, _BOOT_FILES = 6 << 30, 1500, 3 << 20, 30


def run() -> None:
    """Print both figures. Needs mke2fs and sfdisk."""
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        path = _draw(home)
        shares = sorted(_share(home, path) for _ in range(_RUNS))
        share = statistics.median(shares)
        verdict = "ok" if share >= WANTED else "too slow"
        spread = f"{shares[0]:.2f} to {shares[-1]:.2f}, wanted {WANTED}"
        print(f"copy of 6 GiB, 4.5 in use: {share:.2f} of cp's speed ({spread}) {verdict}")
        began = time.perf_counter()
        _mending("keep", path, "-o", home / "kept.zip", "--anyway")
        took = time.perf_counter() - began
        verdict = "ok" if took < KEEP_SECONDS else "too slow"
        print(f"keep of a disk with 4.5 GB: {took:.1f} s (limit {KEEP_SECONDS:.0f}) {verdict}")


def _share(home: Path, path: Path) -> float:
    plain, ours = home / "plain.img", home / "ours.img"
    for old in (plain, ours, home / "ours.img.reading"):
        old.unlink(missing_ok=True)
    os.sync()  # what is still to be written of earlier runs is nobody's here
    began = time.perf_counter()
    subprocess.run(["sh", "-c", f"cp {path} {plain} && sync {plain}"], check=True)
    theirs = time.perf_counter() - began
    plain.unlink()
    os.sync()
    began = time.perf_counter()
    _mending("copy", path, ours)
    return theirs / (time.perf_counter() - began)


def _draw(folder: Path) -> Path:
    path, tree, random = folder / "disk.img", folder / "tree", Random(1)
    (tree / "etc").mkdir(parents=True)
    (tree / "etc/os-release").write_text("ID=ferry\nPRETTY_NAME=Ferry\n")
    (tree / "etc/fstab").write_text("/dev/sda1 / ext4 defaults 0 1\n")
    for number in range(_FILES):
        home = "boot" if number < _BOOT_FILES else "usr/lib"
        place = tree / f"{home}/berth-{number % 40}/list-{number}"
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(random.randbytes(_FILE))
    with path.open("wb") as file:
        file.truncate(_IMAGE)
    table = b"label: dos\nstart=2048,type=83,bootable\n"
    subprocess.run(["sfdisk", "-q", path], input=table, check=True)
    size = (_IMAGE >> 12) - 512
    words = ["mke2fs", "-q", "-F", "-t", "ext4", "-b", "4096", "-E", f"offset={1 << 20}"]
    subprocess.run([*words, "-d", tree, path, str(size)], check=True)
    return path


def _mending(*words: object) -> None:
    program = str(Path(sys.executable).with_name("mending"))
    subprocess.run([program, *map(str, words)], stdout=subprocess.DEVNULL, check=True)
