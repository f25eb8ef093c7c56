"""The rows of a knowledge pack that say what can be done: steps, precautions, visits."""

from collections.abc import Mapping
from enum import StrEnum

import msgspec

from mending.model import Place, RepairId, Risk

Need = str | tuple[str, ...]
"""The answer, or one of the answers, that a fact or sign must have."""

_INSIDE = {Place.DESKTOP, Place.SAFE_MODE, Place.RECOVERY, Place.RESCUE_STICK}
"""Places at which what mends the PC writes to its drive."""


_USUAL_DRIVE, _LEAST_SHARE, _MOST_SHARE = 512e9, 0.1, 8.0
"""The drive for which minutes are written down, and how far they are stretched."""
DRIVE_KIND = "drive-kind"
"""The fact of what the drive keeps its data on."""
_PACES = {"turning": 1.6, "solid": 0.6}
"""What reading the whole of a drive takes, against the minutes of the pack, which know of no kind:
platters give about 150 MB/s from end to end, chips behind the same plug three times as much.
"""


class ReportKind(StrEnum):
    """What a step said when it was done. Whether the PC starts is another matter."""

    DONE = "done"
    FOUND = "found"
    NOTHING_WRONG = "nothing-wrong"
    MENDED = "mended"
    NOT_MENDED = "not-mended"
    NOT_RUN = "not-run"


class WhyNotRun(StrEnum):
    """Why a step could not be run."""

    REFUSED = "refused"
    NO_KEY = "no-key"
    NO_MENU = "no-menu"
    NO_TIME = "no-time"
    """It can be planned again."""


class Step(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Something to do.

    Attributes:
        does: one sentence: what it is. done: the same as the PC's user reads it afterwards.
        how: how it is done.
        worked_if: how to tell that it worked.
        normal: what is normal while it runs, so that nobody cuts it off.
        also: other places where it can be done as well.
        minutes: at work. waits: minutes in which it runs by itself.
        undone: how it can be undone; empty where it cannot.
        put_back: what has to be put back afterwards.
        needs: facts or signs that must have one of these answers.
        gives: answers to facts or signs that hold once it is done.
        after: steps that must have been tried before; after_if_possible: those too, where they
            can be done.
        fixes: how likely the step puts each cause right, a key of `chances`.
        finds: how likely the step's own report names each cause when it is there, a key of
            `chances`.
        reads_whole: it reads the whole drive.
        by_size: `waits` is for a drive of 512 GB, and grows with its size and goes by its kind.
        beside: it is done away from the PC and can be begun while other steps run.
        reports: what each of its reports says, by kind of report.
        said: how people say that it was done: phrases as those of a sign's answers.
        repair: the repair that Mending does itself.
    """

    id: str
    does: str
    done: str = ""
    how: str
    worked_if: str
    normal: str = ""
    minutes: float
    waits: float = 0.0
    place: Place
    also: tuple[Place, ...] = ()
    stakes: Risk = Risk.NOTHING
    undone: str = ""
    put_back: str = ""
    needs: Mapping[str, Need] = {}
    gives: Mapping[str, str] = {}
    after: tuple[str, ...] = ()
    after_if_possible: tuple[str, ...] = ()
    fixes: Mapping[str, str] = {}
    finds: Mapping[str, str] = {}
    reads_whole: bool = False
    by_size: bool = False
    beside: bool = False
    reports: Mapping[ReportKind, str] = {}
    said: tuple[str, ...] = ()
    repair: RepairId | None = None

    @property
    def fitting(self) -> tuple[ReportKind, ...]:
        """The reports that make sense of this step: a test finds something or nothing, a repair
        that looks mends it or does not, what merely changes something is done or fails.
        """
        if not self.finds:
            return (ReportKind.DONE, ReportKind.NOT_MENDED, ReportKind.NOT_RUN)
        if not self.fixes:
            return (ReportKind.NOTHING_WRONG, ReportKind.FOUND, ReportKind.NOT_RUN)
        mends = (ReportKind.MENDED, ReportKind.NOT_MENDED)
        return (ReportKind.NOTHING_WRONG, *mends, ReportKind.NOT_RUN)

    @property
    def takes(self) -> float:
        """Minutes at work and waiting."""
        return self.minutes + self.waits

    def takes_on(self, drive_bytes: int, drive_kind: str | None = None) -> float:
        """The same on a drive of that size and kind, where it reads all of it.

        Args:
            drive_bytes: 0: nobody knows the size.
            drive_kind: an answer to the fact; None: nobody knows.
        """
        if not self.by_size or not (drive_bytes or drive_kind):
            return self.takes
        share = (drive_bytes or _USUAL_DRIVE) / _USUAL_DRIVE * _PACES.get(drive_kind or "", 1.0)
        return round(self.minutes + self.waits * min(max(share, _LEAST_SHARE), _MOST_SHARE))

    @property
    def strains(self) -> bool:
        """Whether it reads the whole drive or writes to it."""
        writes = self.repair is not None or (bool(self.fixes) and self.place in _INSIDE)
        return writes or self.reads_whole


class Precaution(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A step that comes first under a condition, whatever it saves.

    Attributes:
        says: why.
        step: what comes first, where it can be done.
        when: facts or signs that must be known to have one of these answers.
        cause: and `above`: it holds while this cause is likelier than that.
        before: the steps that wait for it; `straining`: all that read the whole drive or write to
            it.
    """

    id: str
    says: str
    step: str
    when: Mapping[str, Need] = {}
    cause: str = ""
    above: float = 0.0
    before: tuple[str, ...] = ()
    straining: bool = False

    def holds_back(self, step: Step) -> bool:
        """Whether that step waits for it."""
        return step.id != self.step and (
            step.id in self.before or (self.straining and step.strains)
        )


class Way(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Another way to a place, open when facts have these answers.

    Attributes:
        only: there is no other way then; the first of several such.
    """

    when: Mapping[str, Need]
    how: str
    minutes: float
    only: bool = False


class Visit(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What it takes to get to a place.

    Attributes:
        how: how to get there.
        minutes: for getting there, and for the test start afterwards.
        ways: other ways; the shortest of those that are open is taken, whose facts are all known.
    """

    place: Place
    how: str
    minutes: float
    test_start_minutes: float
    needs: Mapping[str, Need] = {}
    ways: tuple[Way, ...] = ()


class ToolReport(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What a tool says, as callers pass it on.

    Attributes:
        pattern: a regular expression; case does not count.
        report: what the step under way reported so; None: it is no report yet. why: it could not
            be run.
        says: what to do about it.
    """

    id: str
    pattern: str
    report: ReportKind | None = None
    why: WhyNotRun | None = None
    says: str


class Resort(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A last resort.

    Attributes:
        says: what it is.
        steps: what it consists of, the first that fits the PC first; none: handing over.
    """

    id: str
    says: str
    steps: tuple[str, ...] = ()


def answers_of(need: Need) -> tuple[str, ...]:
    """The answers that meet a need."""
    return (need,) if isinstance(need, str) else need
