"""Names of block devices (Linux, sysfs and udev). A name such as `/dev/sdb` goes to whatever is
plugged in next; the links in `/dev/disk/by-id` are made of what the drive says of itself, so they
go with the drive.
"""

import os
from collections.abc import Iterator
from pathlib import Path

_LASTING, _BLOCKS, _DEVICES = Path("/dev/disk/by-id"), Path("/sys/class/block"), Path("/dev")
_SYSFS_SECTOR = 512
"""Sizes in sysfs are in sectors of so many bytes, whatever the device has."""
_MOST = 4096
"""Devices and links that are looked at."""


def lasting_name(device: str) -> str:
    """The link that goes with the drive, the shortest of several; empty where there is none."""
    real = os.path.realpath(device)
    try:
        links = sorted(_LASTING.iterdir())[:_MOST]
    except OSError:
        return ""
    fitting = [str(link) for link in links if os.path.realpath(link) == real]
    return min(fitting, key=lambda name: (len(name), name), default="")


def devices_of_size(count: int) -> Iterator[str]:
    """All block devices that have so many bytes, by name."""
    try:
        rows = sorted(_BLOCKS.iterdir())[:_MOST]
    except OSError:
        return
    for row in rows:
        try:
            sectors = int((row / "size").read_text())
        except (OSError, ValueError):
            continue  # pulled meanwhile
        if sectors * _SYSFS_SECTOR == count:
            yield str(_DEVICES / row.name.replace("!", "/"))
