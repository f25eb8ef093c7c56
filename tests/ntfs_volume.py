"""NTFS volumes written by a real driver, a small one and one of 20,000 files:
`python -m tests.ntfs_volume`, as root with FUSE; they are committed. What is in them follows from
this file alone.
"""

import lzma
import os
import tempfile
from pathlib import Path
from random import Random

from tests.support import tool

FILE = Path(__file__).parent / "data" / "ntfs-driver.img.xz"
_RANDOM = Random(5)
_LINE = b"The quay of Skerrivane, berth %d\r\n"
CONTENTS = {
    **{f"many/ticket-{number:03d}.txt": b"x" * (9 * number) for number in range(180)},
    **{f"packed/list-{number}": (_LINE % number) * 900 * (number + 1) for number in range(3)},
    "packed/mixed": _RANDOM.randbytes(5000) + bytes(200_000) + b"abc" * 30_000,
    "packed/cannot-be-packed": _RANDOM.randbytes(4096),
    "B\u00fcro \u00c4/\u00df/\u65e5\u672c.txt": b"hello" * 1000,
    "a/b/c/deep": b"d" * 70_000,
    "sparse": bytes(3 << 20) + b"the end",
    "empty": b"",
}
GONE = [f"many/ticket-{number:03d}.txt" for number in range(0, 180, 7)]
HARD_LINK = ("a/b/c/deep", "another-name")


MANY = FILE.with_name("ntfs-many.img.xz")
MANY_COUNT = 20_000


def many_contents():
    """Path and content of the files of the volume with many."""
    for number in range(MANY_COUNT):
        data = b"berth %d " % number * (number % 23)
        if number % 400 == 0:
            data = data * 40
        yield f"season-{number % 11}/sailing {number:05d}.txt", data


def make():
    """Make both anew."""
    FILE.parent.mkdir(exist_ok=True)
    _keep(FILE, 8, _fill)
    _keep(MANY, 34, _fill_many)


def _keep(path, mib, fill, *options):
    with tempfile.TemporaryDirectory() as folder:
        image, top = Path(folder) / "volume", Path(folder) / "mounted"
        top.mkdir()
        with image.open("wb") as file:
            file.truncate(mib << 20)
        tool("mkntfs", "-Q", "-F", "-q", "-L", "ferries", *options, image)
        tool("ntfs-3g", "-o", "compression", image, top)
        try:
            fill(top)
        finally:
            tool("umount", top)
        path.write_bytes(lzma.compress(image.read_bytes(), preset=9))


def _fill(top):
    (top / "packed").mkdir()
    os.setxattr(top / "packed", "system.ntfs_attrib_be", (0x810).to_bytes(4, "big"))
    for name, data in CONTENTS.items():
        path = top / name
        path.parent.mkdir(parents=True, exist_ok=True)
        with path.open("wb") as file:
            if name == "sparse":
                file.seek(3 << 20)
                data = b"the end"
            file.write(data)
    os.link(top / HARD_LINK[0], top / HARD_LINK[1])
    for name in GONE:
        (top / name).unlink()


def _fill_many(top):
    for name, data in many_contents():
        path = top / name
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(data)


if __name__ == "__main__":
    make()
