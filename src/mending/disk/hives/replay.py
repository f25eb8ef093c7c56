"""A hive as the kernel would see it: with what its logs hold of writes that were cut off. All in
memory; nothing is written.
"""

from collections.abc import Sequence

import msgspec

from mending.formats.nt import hive_base, hive_log
from mending.formats.nt.hive_base import BASE_BYTES, HiveBase
from mending.model import InputError, Problem, Window
from mending.model.limits import HIVE_BYTES

_FATAL = {"hive-magic", "hive-checksum"}
"""A log whose head is damaged like this is not used."""


class Replayed(msgspec.Struct, frozen=True):
    """A hive after its logs.

    Attributes:
        data: the whole file.
        applied: how many writes were taken from logs.
        needed: whether the hive itself says that a write was cut off, or its base block is damaged.
        problems: why logs, or parts of them, were not used.
    """

    data: bytes
    applied: int
    needed: bool
    problems: tuple[Problem, ...] = ()

    @property
    def is_whole(self) -> bool:
        """Whether nothing is missing any more: no write was cut off, or logs had it."""
        return not self.needed or self.applied > 0


def replayed(hive: bytes, logs: Sequence[bytes]) -> Replayed:
    """A hive with the writes of its logs that came after its last finished one.

    Args:
        hive: the whole file. logs: those beside it, in any order.

    Raises:
        InputError: the hive is shorter than a base block.
    """
    reading = hive_base.read(Window(hive[:BASE_BYTES]))
    base = reading.record
    needed = not base.is_finished or reading.has("hive-checksum") or reading.has("hive-magic")
    if not needed:
        return Replayed(hive, 0, False)
    problems: list[Problem] = []
    sound = sorted(_sound_logs(logs, problems), key=lambda log: log[0].second)
    # where the base block itself is damaged, nothing tells how far the hive had got
    got = 0 if reading.has("hive-checksum") or reading.has("hive-magic") else base.second
    data, applied, last = bytearray(hive), 0, None
    for head, changes in sound:
        if head.second < got:
            found = f"log of write {head.second}"
            problems.append(Problem("log-older", 8, 4, found, f"{got} or later"))
            continue
        for change in changes:
            number = head.second if change.sequence is None else change.sequence
            if number < got or (last is not None and number <= last):
                continue
            if last is not None and change.sequence is not None and number != last + 1:
                break
            if _put(data, change):
                last, applied = number, applied + 1
                _settle(data, head, change, number)
    return Replayed(bytes(data), applied, True, tuple(problems))


def newest_of(logs: Sequence[bytes]) -> int:
    """The number of the last write that logs tell of, whether it can be used or not."""
    newest = 0
    for head, changes in _sound_logs(logs, []):
        numbers = [change.sequence or 0 for change in changes]
        newest = max(newest, head.first, head.second, *numbers)
    return newest


def _sound_logs(
    logs: Sequence[bytes], problems: list[Problem]
) -> list[tuple[HiveBase, list[hive_log.LogEntry]]]:
    found = []
    for log in logs:
        try:
            reading = hive_base.read(Window(log[: hive_base.HEAD_BYTES]))
        except InputError:
            continue  # an empty log: nothing was ever written to it
        damaged = [
            each for each in reading.problems if each.code in {"hive-magic", "hive-checksum"}
        ]
        if damaged or reading.record.bins > HIVE_BYTES:
            problems += damaged
            continue
        changes, wrong = hive_log.entries(log, reading.record.bins)
        problems += wrong
        found.append((reading.record, changes))
    return found


def _put(data: bytearray, change: hive_log.LogEntry) -> bool:
    """Put the pages of one write in; false where one of them lies beyond any hive."""
    if any(offset + len(page) > HIVE_BYTES for offset, page in change.pages):
        return False
    for offset, page in change.pages:
        start, end = BASE_BYTES + offset, BASE_BYTES + offset + len(page)
        if len(data) < end:
            data.extend(bytes(end - len(data)))
        data[start:end] = page
    return True


def _settle(data: bytearray, head: HiveBase, change: hive_log.LogEntry, number: int) -> None:
    """The base block after a write: that of its log, as of a hive."""
    after = hive_base.BASE.encode(
        msgspec.structs.replace(
            head,
            kind=0,
            first=number,
            second=number,
            bins=head.bins if change.bins is None else change.bins,
        )
    )
    rows = hive_base.BASE.rows.values()
    for row in rows:  # what lies between the fields stays as it is
        data[row.offset : row.offset + row.width] = after[row.offset : row.offset + row.width]
    data[508:512] = hive_base.checksum(bytes(data[:512])).to_bytes(4, "little")
