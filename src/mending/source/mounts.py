"""What is mounted where, as far as a walk through a tree has to know it."""

import os
from pathlib import Path

PARTS = frozenset(
    {
        "boot",
        "boot/efi",
        "efi",
        "home",
        "opt",
        "srv",
        "usr",
        "usr/local",
        "var",
        "var/log",
    }
)
"""Where volumes of an installed system are mounted, from its top."""
NUMBERLESS = frozenset({"vfat", "msdos", "exfat", "fuse", "fuseblk", "9p", "nfs", "cifs"})
"""Types of file systems that number their folders anew at each mount."""


def type_of(handle: int) -> str:
    """The type of the file system that a handle lies on; empty where it is not told."""
    number = _mount_number(handle)
    try:
        rows = Path("/proc/self/mountinfo").read_text(errors="replace").splitlines()
    except OSError:
        return ""
    row = next((row for row in rows if row.split(" ", 1)[0] == number), "")
    return row.partition(" - ")[2].split(" ")[0]


def is_other_mount(above: int, handle: int) -> bool:
    """Whether a folder lies on another file system than the one that it is in.

    Parts of one file system may have device numbers of their own; the number of the mount tells
    them from others.
    """
    if os.fstat(above).st_dev == os.fstat(handle).st_dev:
        return False
    numbers = {_mount_number(above), _mount_number(handle)}
    return len(numbers) > 1 or "" in numbers


def _mount_number(handle: int) -> str:
    try:
        rows = Path(f"/proc/self/fdinfo/{handle}").read_text().splitlines()
    except OSError:
        return ""
    return next((row.partition(":")[2].strip() for row in rows if row.startswith("mnt_id:")), "")
