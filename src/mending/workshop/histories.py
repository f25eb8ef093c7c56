"""Histories of PCs of the Skerrivane Ferries: weeks of starts, changes and failures, of which the
truth is known.
"""

import json
import math
import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from random import Random
from xml.sax.saxutils import escape

from mending.model.data import nt_ticks

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


# Kernel dumps of our own making, with known truth, in the layout that the real ones have.
#
# The layout is written down here a second time, apart from the reader, as plain offsets (sources:
# as of the reader).


_TICKS = 10_000_000


@dataclass(frozen=True)
class DumpDraft:
    """What a dump shall say.

    Attributes:
        drivers: name, address and length of each, in the order of loading.
        stack: words from its top. kind: 1 full, 2 kernel, 4 small.
        at: Unix seconds. uptime: seconds.
    """

    bits: int
    code: int
    parameters: tuple[int, int, int, int]
    drivers: Sequence[tuple[str, int, int]] = ()
    stack: Sequence[int] = ()
    exception: tuple[int, int] | None = None
    instruction: int = 0
    kind: int = 4
    at: float = 1_795_000_000.0
    uptime: float = 5400.0
    build: int = 19045
    processors: int = 4
    needed: int = 0
    filler: bytes = field(default=b"PAGE")

    def encode(self) -> bytes:
        """The bytes of the file."""
        return _small(self, self._header()) if self.kind == 4 else self._header()

    def _header(self) -> bytes:
        wide = self.bits == 64
        size = 0x2000 if wide else 0x1000
        data = bytearray((self.filler * size)[:size])
        data[:8] = b"PAGEDU64" if wide else b"PAGEDUMP"
        struct.pack_into("<II", data, 8, 15, self.build)
        struct.pack_into(
            "<II", data, 0x30 if wide else 0x20, 0x8664 if wide else 0x14C, self.processors
        )
        struct.pack_into("<I", data, 0x38 if wide else 0x28, self.code)
        struct.pack_into("<4Q" if wide else "<4I", data, 0x40 if wide else 0x2C, *self.parameters)
        context, pointer = (0x348, 0xF8) if wide else (0x320, 0xB8)
        data[context : context + 0x200] = bytes(0x200)
        struct.pack_into("<Q" if wide else "<I", data, context + pointer, self.instruction)
        record = 0xF00 if wide else 0x7D0
        code, address = self.exception or (0, 0)
        struct.pack_into("<IIQQ" if wide else "<IIII", data, record, code, 0, 0, address)
        struct.pack_into("<I", data, 0xF98 if wide else 0xF88, self.kind)
        struct.pack_into("<Q", data, 0xFA0, self.needed)
        struct.pack_into("<Q", data, 0xFA8 if wide else 0xFC0, nt_ticks(self.at))
        struct.pack_into("<Q", data, 0x1030 if wide else 0xFB8, int(self.uptime * _TICKS))
        return bytes(data)


def _small(draft: DumpDraft, header: bytes) -> bytes:
    """Behind the header: where things are, the stack, the driver list, the names."""
    wide = draft.bits == 64
    row, word = (0x90, 8) if wide else (0x4C, 4)
    stack_at = len(header) + 0x100
    stack = b"".join(number.to_bytes(word, "little") for number in draft.stack)
    list_at = stack_at + len(stack)
    pool_at = list_at + row * len(draft.drivers)
    rows, pool = b"", b""
    for name, base, size in draft.drivers:
        driver = bytearray(row)
        struct.pack_into("<I", driver, 0, pool_at + len(pool))
        struct.pack_into("<Q" if wide else "<I", driver, 0x38 if wide else 0x1C, base)
        struct.pack_into("<I", driver, 0x48 if wide else 0x24, size)
        struct.pack_into("<I", driver, 0x88 if wide else 0x48, 1_700_000_000)
        rows += bytes(driver)
        pool += struct.pack("<I", len(name)) + name.encode("utf-16-le") + b"\0\0"
    block = bytearray(0x100)
    struct.pack_into("<4I", block, 0x28, stack_at, len(stack), list_at, len(draft.drivers))
    struct.pack_into("<2I", block, 0x38, pool_at, len(pool))
    return header + bytes(block) + stack + rows + pool


# A history as the files that a PC would have left: exported events of the nt family, a journal, a
# text log.


_HOST = "slip-desk"
_MAKER = "Skerrivane-"


def as_xml(story: History) -> bytes:
    """Events as XML, in the order in which they were written down: a crash is told of after the
    next start.
    """
    rows: list[str] = []
    crash = None
    for entry in story.entries:
        if entry.what == "crash":
            crash = entry
            continue
        for by, number, values in _events(entry, crash if entry.what == "start" else None):
            rows.append(_row(entry.at, by, number, values, len(rows) + 1))
        crash = None if entry.what == "start" else crash
    return (
        "<?xml version='1.0' encoding='utf-8'?>\n<Events>\n" + "\n".join(rows) + "\n</Events>\n"
    ).encode()


def _events(entry: Entry, crash: Entry | None) -> Iterator[tuple[str, int, dict[str, str]]]:
    match entry.what:
        case "start":
            yield "Kernel-General", 12, {}
            if crash is not None:
                yield (
                    "Kernel-Power",
                    41,
                    {"BugcheckCode": str(crash.code), "BugcheckParameter1": "0x0"},
                )
            if crash is not None and crash.code:
                yield (
                    "SystemErrorReporting",
                    1001,
                    {"param1": f"0x{crash.code:08x} (0x0, 0x0, 0x0, 0x0)"},
                )
            yield "EventLog", 6005, {}
        case "signed-in":
            yield "Logon", 7001, {}
        case "stop":
            yield "EventLog", 6006, {}
            yield "Kernel-General", 13, {}
        case "installed" if entry.kind == "driver":
            yield "UserPnp", 20001, {"DriverName": entry.name}
        case "installed" if entry.kind == "update":
            yield "UpdateClient", 19, {"updateTitle": entry.name}
        case "installed":
            yield "Installer", 1033, {"param1": entry.name}
        case "plugged":
            yield "Kernel-PnP", 410, {"DeviceInstanceId": entry.name}
        case _:
            yield "Time-Service", 37, {"param1": "time.skerrivane.example"}


def _row(at: float, by: str, number: int, values: dict[str, str], record: int) -> str:
    time = datetime.fromtimestamp(at, UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
    data = "".join(
        f'<Data Name="{escape(name)}">{escape(value)}</Data>' for name, value in values.items()
    )
    return (
        f'<Event><System><Provider Name="{_MAKER}{by}"/><EventID>{number}</EventID><TimeCreated'
        f' SystemTime="{time}"/>'
        f"<EventRecordID>{record}</EventRecordID></System><EventData>{data}</EventData></Event>"
    )


def as_journal(story: History) -> bytes:
    """Entries of a journal, a JSON object a line."""
    rows: list[str] = []
    boot = 0
    for told in story.entries:
        boot += told.what == "start"
        for by, words in _lines(told):
            entry = {
                "__REALTIME_TIMESTAMP": str(int(told.at * 1e6)),
                "_BOOT_ID": f"{boot:032x}",
                "MESSAGE": words,
                "SYSLOG_IDENTIFIER": by,
                "_TRANSPORT": "kernel" if by == "kernel" else "syslog",
            }
            rows.append(json.dumps(entry))
    return ("\n".join(rows) + "\n").encode()


def as_text(story: History) -> bytes:
    """A text log with month, day and time, but no year."""
    rows: list[str] = []
    for entry in story.entries:
        time = datetime.fromtimestamp(entry.at, UTC)
        for by, words in _lines(entry):
            rows.append(f"{time:%b} {time.day:2d} {time:%H:%M:%S} {_HOST} {by}: {words}\n")
    return "".join(rows).encode()


def _lines(entry: Entry) -> Iterator[tuple[str, str]]:
    match entry.what:
        case "start":
            yield "kernel", "Linux version 6.1.0-ferry (build@skerrivane) #1 SMP"
        case "signed-in":
            yield "systemd-logind", "New session 2 of user clerk."
        case "stop":
            yield "systemd", "Reached target Power-Off."
        case "crash" if entry.code:
            yield "kernel", f"Kernel panic - not syncing: fault {entry.code:#x}"
        case "installed" if entry.kind == "driver":
            yield (
                "kernel",
                f"{entry.name.removesuffix('.sys')}: loading out-of-tree module taints kernel.",
            )
        case "installed" if entry.kind == "update":
            yield "dpkg", f"upgrade {entry.name.lower().replace(' ', '-')}:amd64 1.0 1.1"
        case "installed":
            yield "dpkg", f"install {entry.name.lower().replace(' ', '-')}:amd64 <none> 1.0"
        case "plugged":
            yield (
                "kernel",
                "usb 1-4: New USB device found, idVendor=0451, idProduct=2046, bcdDevice= 1.00",
            )
        case "sign-of-life":
            yield "till[412]", "ticket sold, no error"


_CORE = 0xFFFFF800_00000000
"""Where drivers of 64 bits are loaded."""


def slip_desk_records() -> dict[str, bytes]:
    """What was brought along from the desk at the slip: events, the newest small dump, a list of
    restore points.
    """
    story = history("driver", 16)
    crash = next(entry for entry in reversed(story.entries) if entry.what == "crash" and entry.code)
    start = next(
        entry for entry in reversed(story.entries) if entry.what == "start" and entry.at < crash.at
    )
    inside = _CORE + 0x3001234
    drivers = [
        ("kernel.exe", _CORE, 0x800000),
        ("layer.dll", _CORE + 0x900000, 0x80000),
        ("slipprint.sys", _CORE + 0x2000000, 0x20000),
        (story.guilty, _CORE + 0x3000000, 0x30000),
    ]
    dump = DumpDraft(
        64,
        crash.code,
        (0xC0000005, inside, 0, 0),
        drivers,
        (_CORE + 0x1000, inside - 0x200, _CORE + 0x2000100),
        (0xC0000005, inside),
        inside,
        at=crash.at,
        uptime=crash.at - start.at,
    )
    onset = story.onset or 0.0
    days = (("41", -16.0, "Before the seat plan"), ("44", -3.0, "Weekly"), ("47", 6.0, "Weekly"))
    points = [
        {
            "id": name,
            "at": datetime.fromtimestamp(onset + shift * 86_400, UTC).isoformat(),
            "says": says,
        }
        for name, shift, says in days
    ]
    return {
        "events.xml": as_xml(story),
        "last.dmp": dump.encode(),
        "restore-points.json": (
            json.dumps({"mending": "restore-points/1", "points": points}).encode()
        ),
    }


# A text log of any length, of a desk that sells tickets and is sound but for what is asked for.


_ROWS = 40_000


def write_log(path: Path, size: int, last: str = "") -> None:
    """Write a log of at least `size` bytes. Raises OSError.

    Args:
        last: lines to end it with: the only ones that tell of anything.
    """
    rows = (
        f"Nov 23 10:{row % 60:02d}:{row * 7 % 60:02d} desk till[{row % 9999}]: ticket {row} sold,"
        " no error\n"
        for row in range(_ROWS)
    )
    block = "".join(rows).encode()
    with path.open("wb") as file:
        for _ in range(size // len(block) + 1):
            file.write(block)
        file.write(last.encode())
