"""The walk along a chain of starting, one check after the other.

A chain is what a PC goes through from firmware to the session: each *link* of it names the next
one (the MBR names the active volume, its boot sector a file, the file a menu, ...). A check looks
at one link and gives a `CheckResult`: what it saw, and the check of the next link.

    firmware ──> MBR ──> boot sector ──> boot manager ──> kernel ──> root ──> session
       │          │           │               │
       └─ every check says: passed, failed, doubtful or not checked, with the byte or line it rests
       on

Rules of the walk:

* A chain is never followed by recursion: `run_chain` is a loop over checks with a limit, so that
  a disk whose links point at each other costs a bounded time and no stack.
* After a failure the walk goes on wherever the next link is still known, so that two faults at once
  are both found. The first failed check in the order of phases decides what is said.
* What cannot be read is a result like any other. `not_followed` is the one place where an
unreadable
  volume becomes one; checks themselves read as if everything could be read.
"""

from collections.abc import Callable
from functools import wraps
from typing import Any, TypeVar

import msgspec

from mending.disk.files import FilesUnavailableError
from mending.model import (
    FINDINGS,
    ByteOffset,
    Finding,
    FindingId,
    Phase,
    PhaseState,
    RepairId,
    Severity,
    Where,
    hex_preview,
)
from mending.model.limits import CHAIN_CHECKS

NOWHERE = Where()
Link = Callable[[], "CheckResult"]
"""A check that is still to be made: the next link of a chain."""
Checks = TypeVar("Checks")


class OutOfReachError(Exception):
    """A link lies on a device that is not a volume of this disk, or in files that cannot be read.
    Nothing can be said about it; `not_followed` turns it into a result.
    """


class CheckResult(msgspec.Struct, frozen=True, kw_only=True):
    """What one check saw.

    Attributes:
        says: one sentence for the list of checks.
        ran_to: the file that boot code, run in the emulator, got to; empty where none was run.
        then: the check of the next link, also after a failure wherever it can still be told; None
            at the end.
    """

    phase: Phase
    state: PhaseState
    says: str
    where: Where = NOWHERE
    findings: tuple[Finding, ...] = ()
    then: Link | None = None
    ran_to: str = ""

    def with_findings(self, *more: Finding) -> "CheckResult":
        """The same result with further findings behind its own."""
        return msgspec.structs.replace(self, findings=(*self.findings, *more))


def run_chain(first: Link, reached: Callable[[Phase], None] | None = None) -> list[CheckResult]:
    """The results of all checks from `first` on, at most as many as the limit allows.

    Args:
        reached: called with the phase of each check that is done.
    """
    results: list[CheckResult] = []
    link: Link | None = first
    while link is not None and len(results) < CHAIN_CHECKS:
        results.append(link())
        if reached is not None:
            reached(results[-1].phase)
        link = results[-1].then
    return results


def not_followed(
    kind: FindingId,
    subject: str,
    then: Callable[[Any], Link] | None = None,
    phase: Phase | None = None,
) -> Callable[[Callable[[Checks], CheckResult]], Callable[[Checks], CheckResult]]:
    """Marks a check of a class whose link may be out of reach; then this is its result.

    Args:
        kind: the note that says so.
        subject: what was not checked, for the sentence.
        then: the check to go on with, where it is known without this link.
        phase: where it is not that of the note.
    """

    def decorate(check: Callable[[Checks], CheckResult]) -> Callable[[Checks], CheckResult]:
        @wraps(check)
        def guarded(checks: Checks) -> CheckResult:
            try:
                return check(checks)
            except (OutOfReachError, FilesUnavailableError) as error:
                says = f"{subject} was not checked: {error}"
                note = finding(kind, Severity.NOTE, says, phase=phase)
                return not_checked(note, then(checks) if then is not None else None)

        return guarded

    return decorate


def shifted(link: Link | None, phase: Phase) -> Link | None:
    """The same links as part of a later phase: what a boot manager starts another system by."""
    if link is None:
        return None

    def later() -> CheckResult:
        result = link()
        moved = tuple(msgspec.structs.replace(fault, phase=phase) for fault in result.findings)
        then = shifted(result.then, phase)
        return msgspec.structs.replace(result, phase=phase, findings=moved, then=then)

    return later


def place(offset: int, data: bytes) -> Where:
    """Where some bytes were read, with the first of them."""
    return Where(offset=offset, length=len(data), hex=hex_preview(data))


def finding(
    kind: FindingId,
    severity: Severity,
    says: str,
    where: Where = NOWHERE,
    repairs: tuple[RepairId, ...] = (),
    phase: Phase | None = None,
) -> Finding:
    """A finding of the catalogue.

    Args:
        repairs: those of its row that are possible here, most fitting first.
        phase: where the finding belongs to another phase than its row says.
    """
    row = FINDINGS[kind]
    strange = [repair for repair in repairs if repair not in row.repairs]
    if strange:
        raise ValueError(f"the catalogue does not let {strange[0]} answer {kind}")
    return Finding(
        id=kind,
        phase=phase or row.phase,
        severity=severity,
        says=says,
        where=where,
        repairs=repairs,
    )


def passed(
    phase: Phase,
    says: str,
    where: Where = NOWHERE,
    then: Link | None = None,
    findings: tuple[Finding, ...] = (),
) -> CheckResult:
    """A sound link."""
    state = PhaseState.PASSED
    return CheckResult(
        phase=phase, state=state, says=says, where=where, findings=findings, then=then
    )


def failed(fault: Finding, then: Link | None = None) -> CheckResult:
    """A link that one fatal finding breaks; the finding speaks for it."""
    return _spoken_for(fault, PhaseState.FAILED, then)


def doubtful(fault: Finding, then: Link | None = None) -> CheckResult:
    """A link of which a finding says that it may or may not hold."""
    return _spoken_for(fault, PhaseState.DOUBTFUL, then)


def not_checked(note: Finding, then: Link | None = None) -> CheckResult:
    """A link that could not be read; the note says why."""
    return _spoken_for(note, PhaseState.NOT_CHECKED, then)


def _spoken_for(fault: Finding, state: PhaseState, then: Link | None) -> CheckResult:
    return CheckResult(
        phase=fault.phase,
        state=state,
        says=fault.says,
        where=fault.where,
        findings=(fault,),
        then=then,
    )


def at_sector(lba: int, bytes_per_sector: int) -> ByteOffset:
    """Byte offset of a sector."""
    return ByteOffset(lba * bytes_per_sector)
