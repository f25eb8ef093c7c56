"""Copies of all hives in a folder beside them: whole, or not worth putting back.

A set may only be put back whole, from one moment. Recent systems leave the folder there with empty
files in it, so a folder alone tells nothing.
"""

import datetime

import msgspec

from mending.boot.chain import BootEnvironment
from mending.disk.hives import Hive
from mending.disk.volume import Volume
from mending.model import InputError
from mending.model.limits import HIVE_BYTES
from mending.model.nt_time import unix_seconds

SET = ("SYSTEM", "SOFTWARE", "SAM", "SECURITY", "DEFAULT")
"""The hives that the whole system shares."""
_MOST_FOLDERS = 32


class HiveCopies(msgspec.Struct, frozen=True):
    """A folder with copies.

    Attributes:
        why_not: why the set may not be put back; empty where it is whole.
        written: when its system hive was last written, RFC 3339 in UTC; empty where unknown.
    """

    folder: str
    why_not: str
    written: str


def copies_beside(environment: BootEnvironment, volume: Volume, folder: str) -> list[HiveCopies]:
    """The folders inside a folder of hives that hold a system hive of their own.

    Raises:
        OutOfReachError: damage hides what is in it.
    """
    inside = environment.listing(volume, folder)
    folders = [file.path for file in inside if file.is_folder][:_MOST_FOLDERS]
    holding = [path for path in folders if environment.find(volume, f"{path}/{SET[0]}")]
    return [_judged(environment, volume, path) for path in holding]


def _judged(environment: BootEnvironment, volume: Volume, folder: str) -> HiveCopies:
    written = ""
    for name in SET:
        data = environment.read(volume, f"{folder}/{name}", HIVE_BYTES)
        if not data:
            there = environment.find(volume, f"{folder}/{name}") is not None
            why = f"{name} is {'empty' if there else 'not there'}"
            return HiveCopies(folder, why, written)
        try:
            hive = Hive(data)
            problems = hive.check()
        except InputError:
            problems, hive = (), None
        if hive is None or problems:
            return HiveCopies(folder, f"{name} is damaged or was not written to its end", written)
        if name == SET[0]:
            written = _time(hive.base.written)
    return HiveCopies(folder, "", written)


def _time(ticks: int) -> str:
    """A time in 100 ns since 1601."""
    try:
        at = datetime.datetime.fromtimestamp(int(unix_seconds(ticks)), datetime.UTC)
        return at.isoformat(timespec="seconds")
    except (OverflowError, ValueError, OSError):
        return ""
