"""Histories of PCs of the Skerrivane Ferries: weeks of starts, changes and failures, of which the
truth is known.
"""

import math
from collections.abc import Iterator
from dataclasses import dataclass, field
from random import Random

HOUR = 3600.0
_FIRST = 1_793_000_000.0
"""A morning in autumn 2026, in Unix seconds."""
_DRIVERS = (
    "tillcom.sys",
    "slipprint.sys",
    "gatelamp.sys",
    "pierscan.sys",
    "quaynet.sys",
    "horn.sys",
)
_PROGRAMS = (
    "Timetable Board",
    "Tide Tables",
    "Seat Plan",
    "ResidualBelief Luggage",
    "Crew Roster",
    "Chart Viewer",
)
_UPDATES = (
    "Autumn rollup 1",
    "Autumn rollup 2",
    "Till firmware helper",
    "Font set",
    "Clock rules",
    "Print spooler fix",
)
_CODES = (0x1A, 0x50, 0x3B, 0x7E, 0x1E, 0xA, 0x24, 0xC2, 0x19, 0x139, 0x124, 0xF7)
KINDS = (
    "driver",
    "update",
    "program",
    "plugged",
    "heat",
    "memory",
    "worn",
    "sound",
    "regular-loop",
    "irregular-loop",
)


@dataclass(frozen=True)
class Entry:
    """Something that happened. `what`: `start signed-in stop crash installed plugged
    sign-of-life`.
    """

    at: float
    what: str
    kind: str = ""
    name: str = ""
    code: int = 0


@dataclass(frozen=True)
class History:
    """What happened, and the truth behind it.

    Attributes:
        kind: one of `KINDS`. onset: Unix seconds at which failing began; None where it never did.
        guilty: name of the change or device behind it; empty where none is.
    """

    kind: str
    entries: tuple[Entry, ...]
    onset: float | None
    guilty: str


@dataclass
class _World:
    """What is decided about a history before it is played."""

    random: Random
    kind: str
    days: int
    onset: float = math.inf
    guilty: str = ""
    calm: float = 0.0
    rough: float = 0.0
    code: int = 0
    changes: list[Entry] = field(default_factory=list)

    def next_failure(self, at: float, ran: float, end: float) -> float:
        """When it fails next, if at all before `end`; thinning of a rate that differs with time and
        warmth.
        """
        fastest = max(self.calm, self.rough) / HOUR
        while fastest and (at := at + self.random.expovariate(fastest)) < end:
            ran_then = ran + at
            rate = self.rough if at >= self.onset and self.kind != "plugged" else self.calm
            rate = 0.0 if self.kind == "heat" and at >= self.onset and ran_then < 1500 else rate
            if self.random.random() * fastest * HOUR < rate:
                return at
        return math.inf


def history(kind: str, seed: int) -> History:
    """One history.

    Args:
        kind: one of `KINDS`; `worn` begins to fail without any change, `sound` fails once in weeks
            at the most.
        seed: the same seed makes the same history.
    """
    world = _decided(kind, Random(f"{kind} {seed}"))
    entries: list[Entry] = []
    for start, end in _sessions(world):
        entries += _session(world, start, end)
    if kind.endswith("loop"):
        entries += _looping(world, entries[-1].at + HOUR)
    onset = None if kind == "sound" else world.onset
    return History(kind, tuple(sorted(entries, key=lambda entry: entry.at)), onset, world.guilty)


def _decided(kind: str, random: Random) -> _World:
    world = _World(random, kind, random.randint(30, 80))
    world.calm = 1 / random.uniform(150, 500)
    world.rough = 1 / random.uniform(1, 6)
    world.code = random.choice(_CODES)
    sessions = list(_sessions(_World(Random(random.random()), kind, world.days)))
    every = {"driver": _DRIVERS, "update": _UPDATES, "program": _PROGRAMS}
    names = {what: random.sample(known, 4) for what, known in every.items()}
    for _ in range(random.randint(3, 10)):
        what = random.choice(("driver", "update", "update", "program"))
        if names[what]:
            world.changes.append(
                Entry(_moment(random, sessions, 0.02, 0.98), "installed", what, names[what].pop())
            )
    if kind in {"driver", "update", "program"}:
        name = {"driver": "berthcam.sys", "update": "Winter rollup", "program": "Wave Watcher"}[
            kind
        ]
        world.onset, world.guilty = _moment(random, sessions, 0.25, 0.8), name
        world.changes.append(Entry(world.onset, "installed", kind, name))
    elif kind in {"heat", "memory", "worn"}:
        world.onset = _moment(random, sessions, 0.25, 0.8)
    elif kind == "plugged":
        world.onset, world.guilty = _moment(random, sessions, 0.25, 0.6), "HID-KEYS-0451"
    elif kind.endswith("loop"):
        world.onset = sessions[-1][1] + HOUR
    return world


def _moment(
    random: Random, sessions: list[tuple[float, float]], first: float, last: float
) -> float:
    """A time in a session, between two shares of all of them, that is not just after a start."""
    start, end = sessions[int(len(sessions) * random.uniform(first, last))]
    return random.uniform(start + 300, end - 60)


def _sessions(world: _World) -> Iterator[tuple[float, float]]:
    """Times of work, one or two a day; the same for every world of that many days."""
    for day in range(world.days):
        morning = _FIRST + day * 24 * HOUR
        for offset, hours in ((0.0, 3.5), (5.0, 4.0))[: 1 + day % 7 % 2 + (day % 3 == 0)]:
            wobble = ((day * 7919 + int(offset) * 104729) % 1000) / 1000
            yield (
                morning + (offset + 0.5 * wobble) * HOUR,
                morning + (offset + hours + 0.4 * wobble) * HOUR,
            )


def _session(world: _World, start: float, end: float) -> Iterator[Entry]:
    """One time of work: a start, signs of life, changes, failures with a start behind each, and a
    clean stop.
    """
    at, code = start, 0
    while True:
        yield Entry(at, "start", code=code)
        yield Entry(at + world.random.uniform(25, 70), "signed-in")
        fails, plugged = world.next_failure(at + 90, -at, end), math.inf
        if world.guilty and world.kind == "plugged":
            plugged = at + world.random.expovariate(1 / (3 * HOUR)) + 200
        if plugged < min(fails, end):
            yield Entry(plugged, "plugged", "device", world.guilty)
            fails = plugged + world.random.uniform(0.5, 6) if plugged >= world.onset else fails
        until = min(fails, end)
        yield from _signs(world, at + 90, until)
        yield from (entry for entry in world.changes if at < entry.at <= until)
        if fails >= end:
            yield Entry(end, "stop")
            return
        rough = fails >= world.onset
        code = world.code if rough and world.kind != "memory" else world.random.choice(_CODES)
        code = 0 if world.kind == "heat" and rough else code
        yield Entry(fails, "crash", code=code)
        at = fails + world.random.uniform(40, 240)
        if at > end - 600:
            at = math.inf
            return


def _signs(world: _World, start: float, end: float) -> Iterator[Entry]:
    """What is written to the log anyway."""
    at = start
    while (at := at + world.random.expovariate(1 / 600)) < end:
        yield Entry(at, "sign-of-life")


def _looping(world: _World, at: float) -> Iterator[Entry]:
    """Starts that never come to the sign-in: always after the same time, or after times that
    differ.
    """
    for number in range(world.random.randint(4, 9)):
        yield Entry(at, "start", code=world.code if number else 0)
        yield Entry(at + 8, "sign-of-life")
        regular = world.kind == "regular-loop"
        at += 62 + world.random.uniform(-1.5, 1.5) if regular else world.random.uniform(25, 260)
        yield Entry(at - 10, "crash", code=world.code)
