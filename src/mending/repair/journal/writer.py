"""The only module that writes to a target.

Order: undo point on the medium, patches written, flushed, read back, point marked done. Cut the
power anywhere and each patched byte is the one before or the one after, both of which the point
keeps.
"""

from collections.abc import Sequence
from pathlib import Path

from mending.model import Change, FileChange, MendingError, RefusedError, RepairFailedError
from mending.repair.base import Proposal
from mending.repair.journal.undo_points import (
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
from mending.source import Target


def write_point(source: Target, proposal: Proposal, folder: Path, at: str) -> UndoPoint:
    """Carry out a proposal.

    Args:
        folder: where undo points of this target live; never on the target.
        at: time in RFC 3339, also used to name the point.

    Raises:
        RefusedError: the target is no longer what the proposal was made for.
        RepairFailedError: a write or the read-back failed; everything was put back.
        InputError: the undo point could not be made; nothing was written.
    """
    _require(source, proposal.changes)
    point = save_point(folder, _file(source, proposal, folder, at), proposal.changes)
    try:
        _write(source, proposal.changes)
    except MendingError as error:
        roll_back(source, point, at)
        raise RepairFailedError(
            f"{proposal.repair} failed and was rolled back: {error.says}", error.hint
        ) from error
    mark(point, "done", at)
    return point


def roll_back(source: Target, point: UndoPoint, at: str) -> None:
    """Put back what a point keeps, right after a failure. Raises RepairFailedError when even that
    fails.
    """
    try:
        _write(source, [patch.turned_round() for patch in point.patches])
    except MendingError as error:
        says = f"The target could not be put back: {error.says}"
        raise RepairFailedError(
            says, f"Once it can be written again, undo {point.file.id}."
        ) from error
    mark(point, "undone", at)


def undo_point(source: Target, point: UndoPoint, at: str) -> None:
    """Take a repair back, also one that was cut off half-way.

    Raises:
        RefusedError: another target, already undone, or changed since by something else.
        RepairFailedError: a write or the read-back failed.
    """
    if point.state.state == "undone":
        raise RefusedError(f"{point.file.id} was already undone.")
    if not belongs_to(point, source):
        raise RefusedError(f"{point.file.id} was made for another disk ({point.file.target.path}).")
    for change in point.patches:
        if not change.may_have_left(source.current(change)):
            raise RefusedError(
                f"{change.shown} changed since by something else.", "Undo what came later first."
            )
    try:
        _write(source, [patch.turned_round() for patch in reversed(point.patches)])
    except MendingError as error:
        raise RepairFailedError(
            f"{point.file.id} could not be undone: {error.says}", error.hint
        ) from error
    mark(point, "undone", at)


def _require(target: Target, changes: tuple[Change, ...]) -> None:
    for change in changes:
        if target.current(change) != change.before:
            raise RefusedError(f"{change.shown} changed while the repair was prepared.")


def _write(target: Target, changes: Sequence[Change]) -> None:
    target.apply(changes)
    for change in changes:
        if target.current(change) != change.after:
            says = f"{change.shown} read back differently from what was written."
            raise RepairFailedError(says, "The drive may be failing: copy it before anything else.")


def _file(source: Target, proposal: Proposal, folder: Path, at: str) -> PointFile:
    taken = {point.file.id for point in load_points(folder)}
    stem = f"{at[:19].replace(':', '').replace('-', '')}-{proposal.repair}"
    names = (stem if number == 1 else f"{stem}-{number}" for number in range(1, len(taken) + 2))
    kept = [_on_file(change) for change in proposal.changes]
    return PointFile(
        id=next(name for name in names if name not in taken),
        repair=proposal.repair,
        made=at,
        target=identity_of(source, proposal.changes),
        patches=tuple(kept),
    )


def _on_file(change: Change) -> PatchOnFile:
    place = change.path if isinstance(change, FileChange) else ""
    offset = 0 if isinstance(change, FileChange) else change.offset
    return PatchOnFile(
        offset, change.length, change.says, digest_of(change.before), digest_of(change.after), place
    )
