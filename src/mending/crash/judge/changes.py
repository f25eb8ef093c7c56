"""Changes of a PC as its records tell them: what was installed or taken out, and what shows itself
for the first time.
"""

import re
from bisect import bisect_right

import msgspec

from mending.crash.judge.alignment import kernel_version
from mending.crash.judge.timeline import Timeline
from mending.crash.read import LogEvent
from mending.knowledge import EventKind

_TOGETHER = 900.0
"""Seconds of the day within which changes count as one: nothing can tell them apart."""
_KINDS = {"driver": 0.4, "update": 0.3, "firmware": 0.3, "device": 0.2, "program": 0.0}
"""What is known beforehand: logarithms of how much more often a kind of change is behind crashes
than a program is.
"""

_NUMBERS = re.compile(r"[\d\[]")
"""What is in front of the first is the same for all devices of a bus."""


class Change(msgspec.Struct, frozen=True):
    """One change, or several at the same time."""

    at: float
    what: str
    names: tuple[str, ...]
    removed: bool

    @property
    def says(self) -> str:
        """One line for people."""
        shown = ", ".join(self.names[:3]) + (
            f" and {len(self.names) - 3} more" if len(self.names) > 3 else ""
        )
        return f"{self.what} {shown}{' removed' if self.removed else ''}"


def beforehand_of(what: str) -> float:
    """What is known of a kind of change before anything was seen, as a logarithm."""
    return _KINDS.get(what, 0.0)


def changes_in(line: Timeline) -> list[Change]:
    """Changes in order. A driver, a firmware, a kernel or a device that shows itself for the first
    time, in a later run than the first, is one, too.
    """
    groups: list[list[LogEvent]] = []
    first_seen = _FirstSeen(line)
    for event in line.events:
        event = _as_loaded(event)
        if event.kind in {EventKind.LOADED, EventKind.PLUGGED}:
            if not first_seen.is_new(event):
                continue
        elif event.kind not in {EventKind.INSTALLED, EventKind.REMOVED} or event.what == "device":
            continue
        if groups and event.at - groups[-1][0].at < _TOGETHER:
            groups[-1].append(event)
        else:
            groups.append([event])
    return [_change(group) for group in groups]


class _FirstSeen:
    """What shows itself, and since when."""

    def __init__(self, line: Timeline) -> None:
        self._starts = [run.start for run in line.runs]
        self._first_end = line.runs[0].end if line.runs else 0.0
        self._things: set[str] = set()
        self._buses: dict[str, float] = {}

    def is_new(self, event: LogEvent) -> bool:
        """Whether this is the first time. Records may begin in the middle of a run: a device is new
        only after a run that showed others of the same bus.
        """
        place, colon, ids = event.name.partition(": ")
        thing = ids if colon else place  # a device may change its place
        new = thing not in self._things and event.at > self._first_end
        self._things.add(thing)
        if event.what != "device":
            return new
        since = self._buses.setdefault(_NUMBERS.split(thing, maxsplit=1)[0], event.at)
        run = bisect_right(self._starts, event.at) - 1
        return new and run >= 0 and since < self._starts[run]


def _as_loaded(event: LogEvent) -> LogEvent:
    """A start as what it loads: its kernel."""
    version = kernel_version(event.says) if event.kind is EventKind.START else ""
    if not version:
        return event
    name = f"linux-kernel {version}"
    return msgspec.structs.replace(event, kind=EventKind.LOADED, what="update", name=name)


def _change(group: list[LogEvent]) -> Change:
    kinds = [event.what for event in group]
    what = max(set(kinds), key=lambda kind: (_KINDS.get(kind, 0.0), kind))
    names = tuple(dict.fromkeys(event.name or event.says for event in group))
    return Change(group[0].at, what, names, all(event.kind is EventKind.REMOVED for event in group))
