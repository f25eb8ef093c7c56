"""A hive as its kernel would see it: with the writes of the logs beside it, in memory."""

from collections.abc import Sequence

from mending.boot.chain import BootEnvironment
from mending.disk.hives import Hive, Replayed, replayed
from mending.disk.volume import Volume
from mending.formats.nt import hive_base
from mending.formats.nt.hive_base import BASE_BYTES
from mending.model import Problem, RepairId, Window
from mending.model.limits import HIVE_BYTES

ENDS_THE_START = {"hive-magic", "hive-checksum", "hive-root", "hive-length", "hive-cut"}
"""Problems with which a loader or kernel cannot use a hive at all."""
LOGS = (".log", ".log1", ".log2")
"""How the names of logs beside a hive end."""
_LEAST = 512
_WORDS = {
    "hive-magic": "the mark of its base block",
    "hive-checksum": "the checksum of its base block",
    "hive-root": "the place of its root",
    "hive-length": "its length",
    "hive-cut": "what is there",
    "hive-version": "its version",
    "bin-magic": "the mark of a bin",
    "bin-offset": "the place that a bin names",
    "bin-length": "the length of a bin",
    "cell-length": "the length of a cell",
}


def replayed_hive(
    environment: BootEnvironment, volume: Volume, path: str
) -> tuple[Hive | None, Replayed, str]:
    """A hive, what its logs did to it, and why it cannot be used: then there is none.

    Raises:
        OutOfReachError: its file cannot be read. InputError: a log makes no sense.
    """
    data = environment.read(volume, path, HIVE_BYTES)
    if len(data) < _LEAST:
        return None, Replayed(data, 0, False), f"it has only {len(data)} bytes"
    logs = [environment.read(volume, f"{path}{ending}", HIVE_BYTES) for ending in LOGS]
    after = replayed(data, logs)
    hive = Hive(after.data)
    fatal = [each for each in hive.check() if each.code in ENDS_THE_START]
    return (None, after, told(fatal)) if fatal else (hive, after, "")


def lost_bins(data: bytes) -> RepairId | None:
    """The repair that is not possible where more than the base block of a hive is damaged; None
    where its bins are sound as far as the base block tells of them.
    """
    base = hive_base.read(Window(data[:BASE_BYTES])).record if len(data) >= BASE_BYTES else None
    wanted = base.bins if base is not None and not base.bins % BASE_BYTES else 0
    length = hive_base.bins_length(data)
    broken = not length or length < wanted or hive_base.check_bins(data[BASE_BYTES:], length)
    return RepairId.HIVE_HEADER if broken else None


def told(problems: Sequence[Problem]) -> str:
    """What is wrong with a hive, in words."""
    first = problems[0]
    what = _WORDS.get(first.code, "a number in it")
    more = f"; {len(problems) - 1} more faults" if len(problems) > 1 else ""
    return f"{what} is {first.found} instead of {first.expected}, at offset {first.offset}{more}"
