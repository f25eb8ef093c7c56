"""`files --every` on a system with thousands of programs, drivers and libraries of usual lengths.

Their bytes are random behind a sound head, so that nothing is told faster than on a real system.
The real NTFS driver puts them there; without root there is nothing to measure.
"""

import os
import random
import struct
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from mending.workshop import nt
from mending.workshop.nt import program_bytes

_COUNT, _WANTED, _IMAGE = 4000, 20.0, 3 << 30
_SHORT, _LONG, _MIDDLE = 8_000, 2_000_000, 11.4
"""Bytes; the middle is the logarithm of a usual length."""
_START = 2048


def run() -> None:
    """Print seconds."""
    if os.geteuid():
        print("files --every: needs root to make its volume")
        return
    with tempfile.TemporaryDirectory() as folder:
        disk, total = _disk(Path(folder))
        began = time.perf_counter()
        done = subprocess.run(
            [Path(sys.executable).with_name("mending"), "files", disk, "--every", "--json"],
            capture_output=True,
            check=False,
        )
        took = time.perf_counter() - began
    judged = "ok" if took <= _WANTED and done.returncode == 0 else "missed"
    says = f"files --every: {_COUNT} programs, {total / 1e6:.0f} MB in {took:.1f} s"
    print(f"{says} (wanted {_WANTED:.0f}) {judged}")


def _disk(folder: Path) -> tuple[Path, int]:
    """A disk in a file, and how many bytes its programs have."""
    disk, place, seeded = folder / "many.img", folder / "mounted", random.Random(4000)
    volume = folder / "volume"
    place.mkdir()
    for path, size in ((disk, _IMAGE), (volume, _IMAGE - (_START + 2048) * 512)):
        with path.open("wb") as file:
            file.truncate(size)
    table = f"label: dos\nstart={_START},type=7,bootable\n"
    subprocess.run(["/sbin/sfdisk", "-q", str(disk)], input=table, text=True, check=True)
    words = ["/sbin/mkfs.ntfs", "-q", "-Q", "-F", "-p", str(_START), "-H", "255", "-S", "63"]
    subprocess.run([*words, str(volume)], check=True, capture_output=True)
    subprocess.run(["ntfs-3g", str(volume), str(place)], check=True)
    total = 0
    try:
        for name, data in nt.system_tree(bytes(12)).items():
            (place / name).parent.mkdir(parents=True, exist_ok=True)
            (place / name).write_bytes(data)
        for number in range(_COUNT):
            data = _program(seeded)
            ending = ("dll", "dll", "exe", "sys")[number % 4]
            home = "drivers/" if ending == "sys" else ""
            name = f"{nt.ROOT}/system32/{home}berth{number:04}.{ending}"
            (place / name).write_bytes(data)
            total += len(data)
    finally:
        subprocess.run(["umount", str(place)], check=True)
    subprocess.run(
        ["dd", f"if={volume}", f"of={disk}", f"seek={_START}", "bs=512", "conv=notrunc,sparse"],
        check=True,
        capture_output=True,
    )
    volume.unlink()
    return disk, total


def _program(seeded: random.Random) -> bytes:
    """A sound program with random bytes behind it, and a checksum that fits."""
    length = int(min(max(seeded.lognormvariate(_MIDDLE, 1.1), _SHORT), _LONG)) & ~1
    head = program_bytes()
    image = bytearray(head + seeded.randbytes(length - len(head)))
    at = struct.unpack_from("<I", image, 60)[0] + 24 + 64
    image[at : at + 4] = bytes(4)
    words = int(np.frombuffer(image, "<u2").astype(np.uint64).sum())
    while words >> 16:
        words = (words & 0xFFFF) + (words >> 16)
    image[at : at + 4] = struct.pack("<I", words + len(image))
    return bytes(image)
