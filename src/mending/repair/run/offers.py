"""Which of the repairs that findings call for can be done, and what is in the way of the others.

A finding names repairs by its kind; whether one is possible on this disk only its proposal knows.
So each is asked, in the order in which they build on each other. One that is refused may wait for
another (boot code needs the flag, the flag a boot sector), so after each that is let through the
rest is asked again, on the disk as it would be then. Nothing is written.
"""

import msgspec

from mending.boot.chain import BarredRepair, Trace
from mending.model import Finding, MendingError, RepairId, silent
from mending.repair.base import MendSettings, WholeDiskError
from mending.repair.run.mend import Examined, examine
from mending.repair.run.registry import propose
from mending.repair.run.sequence import barred_by, wanted

_SMALL = 1 << 30
"""In bytes: larger disks are not searched just to tell whether a repair could be done."""
_MOST_ROUNDS = 6


def with_offers(found: Examined, settings: MendSettings) -> Trace:
    """A trace whose findings name only repairs that can be done, and that says what is in the way
    of the others.

    Raises:
        InputError
    """
    now, possible, barred = found, set[RepairId](), dict[RepairId, BarredRepair]()
    unsearched = set[RepairId]()
    may_search = found.trace.target.bytes <= _SMALL
    settings = msgspec.structs.replace(settings, searching=may_search, asking=True)
    for _ in range(_MOST_ROUNDS):
        let_through: Examined | None = None
        for repair in wanted(now.trace):
            if repair in possible:
                continue
            try:
                proposal = propose(repair, now.environment, now.trace, settings, silent)
            except WholeDiskError:
                possible.add(repair)
                unsearched.add(repair)
                continue
            except MendingError as error:
                urgent = any(repair in finding.repairs for finding in now.trace.fatal)
                barred[repair] = barred_by(repair, error, urgent)
                continue
            possible.add(repair)
            barred.pop(repair, None)
            if barred and let_through is None:
                changes = now.environment.on_disk(proposal.changes)
                let_through = examine(now.target.overlaid(changes), settings)
        if let_through is None or not barred:
            break
        now = let_through
    asked = wanted(found.trace)
    return msgspec.structs.replace(
        found.trace,
        findings=tuple(_only(finding, possible) for finding in found.trace.findings),
        unsearched=tuple(repair for repair in asked if repair in unsearched),
        barred=tuple(barred[repair] for repair in asked if repair in barred),
    )


def _only(finding: Finding, possible: set[RepairId]) -> Finding:
    kept = tuple(repair for repair in finding.repairs if repair in possible)
    return finding if kept == finding.repairs else msgspec.structs.replace(finding, repairs=kept)
