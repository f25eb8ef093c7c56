"""The document that a trace gives, as `docs/json.md` describes it."""

import re
from collections.abc import Callable
from functools import wraps
from typing import Any, TypeVar

import msgspec

from mending.disk.files import FilesUnavailableError
from mending.disk.layout import Scheme
from mending.disk.scan import DiskMap
from mending.disk.system import Contents
from mending.disk.volume import Volume
from mending.model import (
    FINDINGS,
    ByteOffset,
    Finding,
    FindingId,
    Moment,
    Phase,
    PhaseState,
    RepairId,
    Severity,
    Verdict,
    VolumeInfo,
    VolumeState,
    Where,
    hex_preview,
)
from mending.model.limits import CHAIN_CHECKS


class TargetResult(msgspec.Struct, frozen=True, kw_only=True):
    """What was looked at. `sector` is bytes per sector; `bytes_read` is what the trace cost."""

    path: str
    kind: str
    bytes: int
    sector: int
    bytes_read: int


class TraceCheck(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that was checked, in the order of starting.
    `ran_to` is the file that boot code, run in the emulator, got to.
    """

    phase: Phase
    state: PhaseState
    says: str
    where: Where
    ran_to: str = ""


class PhaseResult(msgspec.Struct, frozen=True, kw_only=True):
    """One phase and the ids of its findings."""

    id: Phase
    state: PhaseState
    findings: tuple[str, ...]


class VolumeResult(msgspec.Struct, frozen=True, kw_only=True):
    """One volume. `start` is in sectors, `bytes` and `used` are bytes; `used` is None where it is
    not cheap to know.

    `believes` is the length that the file system gives itself, 0 where it does not tell;
    `partition` is the identifier of the table entry, `identifier` that of the file system;
    `earlier` lists folders of moved-aside installations, `contained` the volumes of a container,
    `locks` the ways into a locked volume; `moments` those that its
    shadow copies keep.
    What has a default was added later: records of older cases lack it.
    """

    number: int
    start: int
    bytes: int
    type: str
    filesystem: str
    label: str
    role: str
    encrypted: bool
    active: bool
    identifier: str = ""
    partition: str = ""
    believes: int = 0
    used: int | None = None
    state: str = VolumeState.UNKNOWN
    earlier: tuple[str, ...] = ()
    contained: tuple[str, ...] = ()
    locks: tuple[str, ...] = ()
    moments: tuple[Moment, ...] = ()

    @classmethod
    def of(cls, volume: Volume, inside: Contents | None, *, runs_code: bool) -> "VolumeResult":
        """What the table says, and what the volume says of itself.

        Args:
            inside: None for an extended entry, which holds nothing itself.
            runs_code: whether its boot code is a link of the chain, which makes plain data a system
                partition.
        """
        info = inside.info if inside is not None else VolumeInfo()
        role = inside.role if inside is not None else "unknown"
        return cls(
            number=volume.number,
            start=volume.start,
            bytes=volume.bytes,
            type=volume.type,
            filesystem=volume.filesystem,
            label=info.label or volume.label,
            role="system-partition" if runs_code and role in {"data", "unknown"} else role,
            encrypted=volume.encrypted,
            active=volume.active,
            identifier=info.identifier,
            partition=volume.partuuid,
            believes=info.bytes,
            used=info.used,
            state=info.state,
            earlier=inside.earlier if inside is not None else (),
            contained=info.contained,
            locks=info.locks,
            moments=info.moments,
        )


class SystemResult(msgspec.Struct, frozen=True, kw_only=True):
    """An installed system; `starts` is None where the trace is unsure."""

    family: str
    volume: int
    title: str
    starts: bool | None


class UnreadResult(msgspec.Struct, frozen=True, kw_only=True):
    """The first phase that was not read to its end, and why: what keeps a trace without a fault
    from calling the disk sound.
    """

    phase: Phase
    says: str


class ChangedPart(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that a healthy copy has otherwise than the disk.

    `kind` is `range` or `file`, `number` its place in the copy; `state` is `differs missing
    unreadable volume-missing`; `offset` is of a range, `path` of a file.
    """

    kind: str
    number: int
    phase: Phase
    what: str
    state: str
    path: str | None = None
    offset: int | None = None


class BarredRepair(msgspec.Struct, frozen=True, kw_only=True):
    """A repair that a finding calls for and that cannot be done as things are.

    Attributes:
        says: what is in the way. hint: what a person can do about it.
        option: what, added to `mending mend TARGET REPAIR`, would settle it; empty where nothing
            would.
        fatal: whether what keeps the PC from starting calls for it.
    """

    repair: str
    says: str
    hint: str = ""
    option: str = ""
    fatal: bool = False


class Trace(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="trace/1"):
    """Which phase of starting fails on this disk, and why. Records of older cases have no map
    and do not say what was not read. `against` is what a healthy copy has otherwise, where the
    trace was made against one. `barred` are repairs that findings call for and that cannot be done;
    whether those in `unsearched` can, only a search of the whole disk tells.
    """

    target: TargetResult
    firmware: str
    scheme: str
    verdict: Verdict
    failing_phase: Phase | None
    phases: tuple[PhaseResult, ...]
    checks: tuple[TraceCheck, ...] = msgspec.field(name="rungs")
    findings: tuple[Finding, ...]
    volumes: tuple[VolumeResult, ...]
    systems: tuple[SystemResult, ...]
    map: DiskMap | None = None
    unread: UnreadResult | None = None
    against: tuple[ChangedPart, ...] | None = None
    barred: tuple[BarredRepair, ...] = ()
    unsearched: tuple[str, ...] = ()

    @property
    def table(self) -> str:
        """The kind of partition table in words."""
        return f"{'no' if self.scheme == Scheme.NONE else self.scheme} table"

    @property
    def fatal(self) -> tuple[Finding, ...]:
        """The findings that stop the start, in chain order."""
        return tuple(finding for finding in self.findings if finding.severity == "fatal")


# The walk along a chain of starting, one check after the other.
#
# A chain is what a PC goes through from firmware to the session: each *link* of it names the next
# one (the MBR names the active volume, its boot sector a file, the file a menu, ...). A check looks
# at one link and gives a `CheckResult`: what it saw, and the check of the next link.
#
#     firmware ──> MBR ──> boot sector ──> boot manager ──> kernel ──> root ──> session │          │
# │               │ └─ every check says: passed, failed, doubtful or not checked, with the byte or
# line it rests on
#
# Rules of the walk:
#
# * A chain is never followed by recursion: `run_chain` is a loop over checks with a limit, so that
#   a disk whose links point at each other costs a bounded time and no stack.
# * After a failure the walk goes on wherever the next link is still known, so that two faults at
#   once are both found. The first failed check in the order of phases decides what is said.
# * What cannot be read is a result like any other. `not_followed` is the one place where an
#   unreadable volume becomes one; checks themselves read as if everything could be read.


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


# Keys that sort versions as people do: numbers by value, letters by the alphabet.


_PARTS = re.compile(r"(\d+)")
Key = tuple[tuple[int, object], ...]


def falling(text: str) -> Key:
    """A key that puts higher versions first."""
    parts = (part for part in _PARTS.split(text) if part)
    return tuple(
        (0, -int(part[:18])) if part.isdecimal() else (1, tuple(-ord(letter) for letter in part))
        for part in parts
    )
