"""Everything that is known about one PC, as values."""

from collections.abc import Mapping

import msgspec

from mending.boot.chain import Trace
from mending.crash.screens import SeenCode
from mending.knowledge import ReportKind
from mending.model import Finding


class Report(msgspec.Struct, frozen=True):
    """A step that was tried, and what it reported."""

    step: str
    kind: ReportKind


class Watched(msgspec.Struct, frozen=True):
    """A PC that started and has run since, with trouble that comes and goes.

    Attributes:
        done: the steps done since the test start before.
        hours: how long it has run without failing.
        usual_hours: after how many it used to fail, on average.
    """

    done: tuple[Report, ...]
    hours: float
    usual_hours: float


class Evidence(msgspec.Struct, frozen=True, kw_only=True):
    """What bears on the causes.

    Attributes:
        facts: answers to facts; unknown ones are left out.
        seen: answers to signs; unknown ones are left out.
        screens: other answers to what the screen shows, from before the one in `seen`.
        heard: signs whose answers were understood from what somebody said; they weigh a little
            less than chosen ones.
        trace: the newest trace of the disk as it is now.
        clues: what crash records show.
        codes: codes and messages that stand for causes: off a screen, or most often in the records.
        reports: all steps tried so far.
        failed_starts: for every test start that failed, the steps done since the one before.
        watched: the newest test start, where it is under watch.
        worked: the steps after which it started.
    """

    facts: Mapping[str, str] = {}
    seen: Mapping[str, str] = {}
    screens: tuple[str, ...] = ()
    heard: frozenset[str] = frozenset()
    trace: Trace | None = None
    clues: tuple[Finding, ...] = ()
    codes: tuple[SeenCode, ...] = ()
    reports: tuple[Report, ...] = ()
    failed_starts: tuple[tuple[Report, ...], ...] = ()
    watched: Watched | None = None
    worked: tuple[Report, ...] = ()
