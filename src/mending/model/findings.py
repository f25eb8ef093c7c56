"""A finding: one fact read from evidence, and where it was read."""

from collections.abc import Mapping
from enum import StrEnum
from typing import Generic, TypeVar

import msgspec

# What a reader gives back: the record, and everything that is wrong with it.


R_co = TypeVar("R_co", covariant=True)


class Problem(msgspec.Struct, frozen=True):
    """One thing wrong with a structure, before anybody decides how much it matters.

    Attributes:
        code: kebab-case, unique within its format.
        offset: bytes from the start of the source.
        length: bytes.
        found: what is there, for people.
        expected: what the written format asks for, for people.
        values: what code decides by, where the code alone does not tell; never worked out again
            from the words.
    """

    code: str
    offset: int
    length: int
    found: str
    expected: str
    values: Mapping[str, int] = {}


class Reading(msgspec.Struct, Generic[R_co], frozen=True):
    """A record and its problems. A sound structure has none."""

    record: R_co
    problems: tuple[Problem, ...] = ()

    def has(self, code: str) -> bool:
        """Whether a problem with this code was found."""
        return any(problem.code == code for problem in self.problems)


# The eight phases of starting, in the order in which a PC goes through them.


class Phase(StrEnum):
    """One part of starting. The comparison order is that of `PHASES`, not of the alphabet."""

    POWER = "power"
    FIRMWARE = "firmware"
    BOOT_RECORD = "boot-record"
    BOOT_MANAGER = "boot-manager"
    LOADER = "loader"
    KERNEL = "kernel"
    SESSION = "session"
    DESKTOP = "desktop"

    @property
    def rank(self) -> int:
        """0 for the first phase, 7 for the last."""
        return PHASES.index(self)


PHASES: tuple[Phase, ...] = tuple(Phase)
PHASES_ON_DISK = tuple(phase for phase in PHASES if phase not in {Phase.POWER, Phase.DESKTOP})
"""Those of which a disk can tell."""


class PhaseState(StrEnum):
    """What a trace can say of one phase."""

    PASSED = "passed"
    FAILED = "failed"
    DOUBTFUL = "doubtful"
    NOT_REACHED = "not-reached"
    NOT_CHECKED = "not-checked"
    NOT_ON_DISK = "not-on-disk"
    """Nothing on a disk tells of it: power, and the desktop behind a session."""


class Verdict(StrEnum):
    """What a trace says of the whole chain."""

    NO_FAULT_FOUND = "no-fault-found"
    FAILS = "fails"
    UNSURE = "unsure"


class Severity(StrEnum):
    """What a finding does to starting."""

    FATAL = "fatal"
    """The start really stops here."""
    WARNING = "warning"
    """Damage that firmware or boot code gets past."""
    NOTE = "note"
    """Worth knowing; nothing is wrong."""


class Where(msgspec.Struct, frozen=True, kw_only=True):
    """The place in the evidence.

    Attributes:
        offset: bytes from the start of the source, or of the file named by `path`.
        length: bytes.
        path: a file inside the target, as a person would write it.
        line: line in that file, from 1.
        hex: the first bytes found there, as a person reads them.
    """

    offset: int | None = None
    length: int | None = None
    path: str | None = None
    line: int | None = None
    hex: str | None = None


class Finding(msgspec.Struct, frozen=True, kw_only=True):
    """One fact, its phase, what it does to starting, and the repairs that would answer it.

    Attributes:
        id: kebab-case name of the kind of fact; knowledge packs refer to it.
        says: one sentence.
        repairs: ids of repairs, most fitting first.
        asked_by: the line of a menu or entry that names what is not sound.
    """

    id: str
    phase: Phase
    severity: Severity
    says: str
    where: Where = Where()
    repairs: tuple[str, ...] = ()
    asked_by: Where | None = None


# Who is at work, told by whoever writes and read by the next one.


class Hand(msgspec.Struct, frozen=True):
    """Who is at work, for the next one to read.

    Attributes:
        who: program and process, as a person would look for it.
        since: when it began, RFC 3339.
        patience: how long to wait for another, in seconds.
    """

    who: str
    since: str
    patience: float = 5.0


# One entry of any log, before anybody has said what it means.


class RestorePoint(msgspec.Struct, frozen=True):
    """Something that a PC's own system keeps to go back to: its name there, Unix seconds, what was
    written with it.
    """

    id: str
    at: float
    says: str


class LogRecord(msgspec.Struct, frozen=True, kw_only=True):
    """What a log says in one place.

    Attributes:
        at: Unix seconds, UTC; None where the entry has no time. `zoned` is false where no zone was
            written with it.
        by: who wrote it: a program, a unit, a provider.
        number: of the kind of event, where its author numbers them.
        text: the message.
        data: named values beside the message.
        start: which start of the PC it belongs to, where the log tells; any text that is the same
            for one start.
        clock: seconds since that start, by the kernel's own clock, where it is written.
        line: line or record number, from 1.
    """

    at: float | None
    by: str = ""
    number: int | None = None
    text: str = ""
    data: Mapping[str, str] = {}
    start: str = ""
    line: int = 0
    zoned: bool = True
    clock: float | None = None


# Where work can be done, and what a step can put at stake.


class Place(StrEnum):
    """A place where steps are done; each visit to one costs minutes."""

    OUTSIDE = "outside"
    DESKTOP = "desktop"
    SAFE_MODE = "safe-mode"
    RECOVERY = "recovery"
    RESCUE_STICK = "rescue-stick"
    OWN_STICK = "own-stick"
    FIRMWARE_SETUP = "firmware-setup"
    MAKER_TESTS = "maker-tests"
    BENCH = "bench"


class Risk(StrEnum):
    """The worst that a step may cost the user, from least to most."""

    NOTHING = "nothing"
    SETTINGS = "settings"
    PROGRAMS = "programs"
    FILES = "files"

    @property
    def rank(self) -> int:
        """0 where nothing is at stake, 3 where personal files are."""
        return RISKS.index(self)


RISKS: tuple[Risk, ...] = tuple(Risk)
