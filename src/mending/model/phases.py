"""The eight phases of starting, in the order in which a PC goes through them."""

from enum import StrEnum


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
