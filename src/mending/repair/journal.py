"""The only module that writes to a target.

Order: undo point on the medium → patches written → flushed → read back → point marked done. Cut the power anywhere
and each patched byte is the one before or the one after, both of which the point keeps.
"""

from collections.abc import Sequence
from pathlib import Path

from mending.model import Change, FileChange, MendingError, RefusedError, RepairFailedError
from mending.repair.points import (
    PatchOnFile,
    PointFile,
    UndoPoint,
    belongs_to,
    digest_of,
    identity_of,
    load_points,
    mark,
    save_point,
)
from mending.repair.proposal import Proposal
from mending.repair.touching import Ground, between, named, present, put


def write_point(source: Ground, proposal: Proposal, folder: Path, at: str) -> UndoPoint:
    """Carry out a proposal.

    Args:
        folder: where undo points of this target live; never on the target.
        at: time in RFC 3339, also used to name the point.

    Raises:
        RefusedError: the target is no longer what the proposal was made for.
        RepairFailedError: a write or the read-back failed; everything was put back.
        InputError: the undo point could not be made; nothing was written.
    """
    _require(source, proposal.patches)
    point = save_point(folder, _file(source, proposal, folder, at), proposal.patches)
    try:
        _write(source, proposal.patches)
    except MendingError as error:
        roll_back(source, point, at)
        raise RepairFailedError(f"{proposal.repair} failed and was rolled back: {error.says}", error.hint) from error
    mark(point, "done", at)
    return point


def roll_back(source: Ground, point: UndoPoint, at: str) -> None:
    """Put back what a point keeps, right after a failure. Raises RepairFailedError when even that fails."""
    try:
        _write(source, [patch.turned_round() for patch in point.patches])
    except MendingError as error:
        says = f"The target could not be put back: {error.says}"
        raise RepairFailedError(says, f"Once it can be written again, undo {point.file.id}.") from error
    mark(point, "undone", at)


def undo_point(source: Ground, point: UndoPoint, at: str) -> None:
    """Take a repair back, also one that was cut off half-way.

    Raises:
        RefusedError: another target, already undone, or changed since by something else.
        RepairFailedError: a write or the read-back failed.
    """
    if point.state.state == "undone":
        raise RefusedError(f"{point.file.id} was already undone.")
    if not belongs_to(point, source):
        raise RefusedError(f"{point.file.id} was made for another disk ({point.file.target.path}).")
    for patch in point.patches:
        if not between(present(source, patch), patch):
            raise RefusedError(f"{named(patch)} changed since by something else.", "Undo what came later first.")
    try:
        _write(source, [patch.turned_round() for patch in reversed(point.patches)])
    except MendingError as error:
        raise RepairFailedError(f"{point.file.id} could not be undone: {error.says}", error.hint) from error
    mark(point, "undone", at)


def _require(target: Ground, changes: tuple[Change, ...]) -> None:
    for one in changes:
        if present(target, one) != one.before:
            raise RefusedError(f"{named(one)} changed while the repair was prepared.")


def _write(target: Ground, changes: Sequence[Change]) -> None:
    put(target, changes)
    for one in changes:
        if present(target, one) != one.after:
            says = f"{named(one)} read back differently from what was written."
            raise RepairFailedError(says, "The drive may be failing: copy it before anything else.")


def _file(source: Ground, proposal: Proposal, folder: Path, at: str) -> PointFile:
    taken = {point.file.id for point in load_points(folder)}
    stem = f"{at[:19].replace(':', '').replace('-', '')}-{proposal.repair}"
    names = (stem if number == 1 else f"{stem}-{number}" for number in range(1, len(taken) + 2))
    kept = [_on_file(one) for one in proposal.patches]
    return PointFile(
        id=next(name for name in names if name not in taken),
        repair=proposal.repair,
        made=at,
        target=identity_of(source, proposal.patches),
        patches=tuple(kept),
    )


def _on_file(one: Change) -> PatchOnFile:
    place = one.path if isinstance(one, FileChange) else ""
    offset = 0 if isinstance(one, FileChange) else one.offset
    return PatchOnFile(offset, one.length, one.says, digest_of(one.before), digest_of(one.after), place)
