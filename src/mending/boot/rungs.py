"""A rung is one check on the way up; a link makes one and names the next. The walk is a loop over links."""

from collections.abc import Callable

import msgspec

from mending.model import ByteOffset, Finding, Phase, PhaseState, Severity, Where, hex_preview
from mending.model.limits import CHAIN_RUNGS

NOWHERE = Where()
Link = Callable[[], "Rung"]


class Rung(msgspec.Struct, frozen=True, kw_only=True):
    """What one link saw.

    Attributes:
        says: one sentence for the ladder.
        then: the next link, also after a failure wherever it can still be told; None at the end.
    """

    phase: Phase
    state: PhaseState
    says: str
    where: Where = Where()
    findings: tuple[Finding, ...] = ()
    then: Link | None = None


def climb(first: Link) -> list[Rung]:
    """All rungs from `first` on, at most as many as the limit allows."""
    rungs: list[Rung] = []
    link: Link | None = first
    while link is not None and len(rungs) < CHAIN_RUNGS:
        rungs.append(link())
        link = rungs[-1].then
    return rungs


def shifted(link: Link | None, phase: Phase) -> Link | None:
    """The same links as part of a later phase: what a boot manager starts another system by."""
    if link is None:
        return None

    def later() -> Rung:
        rung = link()
        found = tuple(msgspec.structs.replace(one, phase=phase) for one in rung.findings)
        return msgspec.structs.replace(rung, phase=phase, findings=found, then=shifted(rung.then, phase))

    return later


def place(offset: int, data: bytes) -> Where:
    """Where some bytes were read, with the first of them."""
    return Where(offset=offset, length=len(data), hex=hex_preview(data))


def finding(
    code: str, phase: Phase, severity: Severity, says: str, where: Where = NOWHERE, repairs: tuple[str, ...] = ()
) -> Finding:
    """A finding in one line."""
    return Finding(id=code, phase=phase, severity=severity, says=says, where=where, repairs=repairs)


def failed(one: Finding, then: Link | None = None) -> Rung:
    """A rung that one fatal finding breaks; the finding speaks for it."""
    state = PhaseState.FAILED
    return Rung(phase=one.phase, state=state, says=one.says, where=one.where, findings=(one,), then=then)


def at_sector(lba: int, bytes_per_sector: int) -> ByteOffset:
    """Byte offset of a sector."""
    return ByteOffset(lba * bytes_per_sector)
