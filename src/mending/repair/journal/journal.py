"""The journal: the only module that writes to a target, and the way back from everything it writes.

A repair goes through these states, each on stable storage before the next begins:

1. *guards*: the target holds what the proposal was made for, and can be known again.
2. *planned*: the undo point is there, with every folder above it.
3. *written*: the changes are on the target, in the order of the proposal, flushed and read back.
4. *done*: the point says so.

Cut the power anywhere. Before 2 nothing was written. Between 2 and 4 every byte of a patch is the
one before or the one after, and every file is the old or the new one, whole; the point keeps both,
so `undo` puts all of it back. Whatever goes wrong after the first write (an error, the interrupt
key) is rolled back here; what cannot be rolled back now can be undone later.
"""

import contextlib
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

import msgspec

from mending.model import (
    Change,
    InputError,
    MendingError,
    Patch,
    RefusedError,
    RepairFailedError,
)
from mending.repair.base import Proposal
from mending.repair.journal.undo_points import (
    ChangeOnFile,
    PointFile,
    TargetState,
    UndoPoint,
    UndoPoints,
    drop,
    load_point,
    load_points,
    mark,
    on_file,
    save_point,
)
from mending.repair.journal.writing import no_interrupt, put_back, state_on, write
from mending.source import (
    IdentityPart,
    Target,
    fault_of,
    identity_of,
    is_known_by,
    machine_key,
    place_of,
)


class Allowed(msgspec.Struct, frozen=True):
    """What a person allows beyond the usual.

    Attributes:
        used_since: content of the target may have changed in between.
        made_elsewhere: a point that another machine made is believed.
    """

    used_since: bool = False
    made_elsewhere: bool = False


NOTHING_MORE = Allowed()


class Journal:
    """The undo points of one folder.

    Args:
        folder: where they live; never on a target.
        key: file with the key of this machine, made when it is first needed.
    """

    def __init__(self, folder: Path, key: Path) -> None:
        self.folder, self._key = folder, key

    def load(self) -> UndoPoints:
        """Every point, and what cannot be used as one.

        Raises:
            InputError
        """
        if not self.folder.exists():
            return UndoPoints((), ())
        return load_points(self.folder, machine_key(self._key))

    def load_one(self, folder: Path) -> UndoPoint:
        """A point by its own folder, wherever that is.

        Raises:
            InputError
        """
        return load_point(folder.absolute(), machine_key(self._key))

    def points_of(self, target: Target, allowed: Allowed = NOTHING_MORE) -> list[UndoPoint]:
        """The points that were written to a target, oldest first; of a copy of it that is not
        mended there are none.

        Raises:
            InputError
        """
        points = self.load().points
        found = []
        for point in points:
            fault, by_use = self._fault(point, target, points)
            is_of_target = not fault or (by_use and allowed.used_since)
            if is_of_target and state_here(point, target) is not None:
                found.append(point)
        return found

    def settle(self, target: Target, at: str) -> None:
        """See to it that no earlier repair of this target is open.

        One whose writes all reached the target, or none of them, is marked as what it is.

        Raises:
            RefusedError: one was cut off half-way.
        """
        for point in self.points_of(target):
            here = point.state.on(place_of(target)) or point.state
            if here.state != "planned":
                continue
            state = state_on(target, point.changes())
            if not state:
                raise RefusedError(
                    f"An earlier repair was cut off half-way: {point.file.id}.", "Undo it first."
                )
            mark(point, target, state, at)

    def write(
        self, target: Target, proposal: Proposal, identifiers: Iterable[IdentityPart], at: str
    ) -> UndoPoint:
        """Carry out a proposal; the point stays `planned` until `finish`.

        Args:
            identifiers: where those of the target stand.
            at: time in RFC 3339, also used to name the point.

        Raises:
            RefusedError: the target is no longer what the proposal was made for, or could not be
                known again.
            RepairFailedError: a write or the read-back failed; everything was put back.
            InputError: the undo point could not be made; nothing was written.
        """
        self._refuse_own_target(target)
        for change in proposal.changes:
            if target.current(change) != change.before:
                raise RefusedError(f"{change.shown} changed while the repair was prepared.")
        target.refuse_barred(proposal.changes)
        identity = identity_of(target, proposal.changes, identifiers)
        if not is_known_by(identity) or fault_of(identity, target)[0]:
            raise RefusedError(
                f"Nothing on {target.path} would tell it from another one later, so the repair"
                " could not be undone.",
                "Copy it to an image and work on that.",
            )
        file = PointFile(
            id=self._new_name(f"{at[:19].replace(':', '').replace('-', '')}-{proposal.repair}"),
            repair=proposal.repair,
            made=at,
            target=identity,
            patches=tuple(on_file(change) for change in proposal.changes),
            number=1 + max((each.file.number for each in self.load().points), default=0),
        )
        point = save_point(
            self.folder, file, proposal.changes, machine_key(self._key), place_of(target)
        )
        with self.rolled_back(target, point, at, f"{proposal.repair} failed"):
            write(target, proposal.changes)
        return point

    @contextlib.contextmanager
    def rolled_back(self, target: Target, point: UndoPoint, at: str, what: str) -> Iterator[None]:
        """Whatever goes wrong inside is answered by a roll-back.

        Raises:
            RepairFailedError
        """
        try:
            yield
        except MendingError as error:
            self.roll_back(target, point, at)
            raise RepairFailedError(
                f"{what} and was rolled back: {error.says}", error.hint
            ) from error
        except KeyboardInterrupt as error:
            self.roll_back(target, point, at)
            raise RepairFailedError(f"{what}: it was stopped, and rolled back.") from error
        except (ArithmeticError, LookupError, MemoryError, RecursionError, ValueError) as error:
            self.roll_back(target, point, at)
            raise RepairFailedError(
                f"{what} and was rolled back: {type(error).__name__}.",
                "This is a fault of the program; please report it.",
            ) from error

    def finish(self, target: Target, point: UndoPoint, at: str) -> str:
        """Mark a point as done. What was written stays, even where that fails: then says so, for
        the point can be used all the same.
        """
        try:
            mark(point, target, "done", at)
        except InputError as error:
            return f"The repair is written, but could not be noted as done: {error.says}"
        return ""

    def roll_back(self, target: Target, point: UndoPoint, at: str) -> None:
        """Put back what a point keeps, right after a failure; only what is not as before is
        written.

        Raises:
            RepairFailedError: even that fails.
        """
        with no_interrupt():
            try:
                put_back(target, point.changes())
            except MendingError as error:
                says = f"The target could not be put back: {error.says}"
                raise RepairFailedError(
                    says, f"Once it can be written again, undo {point.file.id}."
                ) from error
            with contextlib.suppress(InputError):  # it is put back; a planned point says no more
                mark(point, target, "undone", at)

    def undo(
        self, target: Target, point: UndoPoint, at: str, allowed: Allowed = NOTHING_MORE
    ) -> UndoPoint:
        """Take a repair back, also one that was cut off half-way.

        Raises:
            RefusedError: another target, already undone, or changed since by something else.
            RepairFailedError: a write or the read-back failed.
            InputError: the point's bytes are damaged.
        """
        changes = self._checked(target, point, allowed)
        here = point.state.on(place_of(target))
        if here is not None and here.state == "undone":
            raise RefusedError(f"{point.file.id} was already undone.", "Add --redo to do it again.")
        if here is None and state_on(target, changes) == "undone":
            raise RefusedError(
                f"{target.path} is not mended by {point.file.id}: nothing to undo here.",
                f"It was written to {point.file.target.path}.",
            )
        for change in changes:
            if not change.may_have_left(target.current(change)):
                raise RefusedError(
                    f"{change.shown} changed since by something else.",
                    "Undo what came later first.",
                )
        with no_interrupt():
            try:
                put_back(target, changes)
            except MendingError as error:
                raise RepairFailedError(
                    f"{point.file.id} could not be undone: {error.says}", error.hint
                ) from error
            return _noted(point, target, "undone", at)

    def redo(
        self, target: Target, point: UndoPoint, at: str, allowed: Allowed = NOTHING_MORE
    ) -> UndoPoint:
        """Do again what was undone. Raises as `undo`."""
        changes = self._checked(target, point, allowed)
        here = point.state.on(place_of(target))
        if here is None or here.state != "undone":
            raise RefusedError(f"{point.file.id} is not undone on {target.path}.")
        for change in changes:
            if target.current(change) != change.before:
                raise RefusedError(f"{change.shown} changed since by something else.")
        planned = mark(point, target, "planned", at)
        with self.rolled_back(target, planned, at, f"{point.file.id} could not be done again"):
            write(target, changes)
        return _noted(planned, target, "done", at)

    def drop(self, point: UndoPoint) -> None:
        """Take a point away for good.

        Raises:
            InputError
        """
        drop(point)

    def _checked(self, target: Target, point: UndoPoint, allowed: Allowed) -> tuple[Change, ...]:
        """The changes of a point, after everything that speaks against using it."""
        self._refuse_own_target(target)
        name = point.file.id
        if not point.made_here and not allowed.made_elsewhere:
            raise RefusedError(
                f"{name} was not made on this machine, or was changed since.",
                "If you know who made it, add --made-elsewhere.",
            )
        points = self.load().points
        fault, by_use = self._fault(point, target, points)
        if fault and not (by_use and allowed.used_since):
            made_for = f"{name} was made for another disk or system ({point.file.target.path})"
            hint = "If it is surely the same and was used since, add --used-since."
            raise RefusedError(f"{made_for}: {fault}.", hint if by_use else "")
        for other in _later(point, points):
            if state_here(other, target) not in {None, "undone"} and _overlap(
                other.file.patches, point.file.patches
            ):
                raise RefusedError(
                    f"{other.file.id} changed the same place later.", f"Undo {other.file.id} first."
                )
        return point.changes()

    def _fault(
        self, point: UndoPoint, target: Target, points: Sequence[UndoPoint]
    ) -> tuple[str, bool]:
        touched = [
            Patch(kept.offset, bytes(kept.length), bytes(kept.length), "")
            for other in _later(point, points)
            for kept in other.file.patches
            if not kept.path
        ]
        return fault_of(point.file.target, target, touched)

    def _new_name(self, stem: str) -> str:
        names = (stem if number == 1 else f"{stem}-{number}" for number in range(1, 10_000))
        return next(name for name in names if not (self.folder / name).exists())

    def _refuse_own_target(self, target: Target) -> None:
        if target.holds_path(self.folder):
            raise RefusedError(
                f"The undo points would lie on {target.path} itself.",
                "Set XDG_DATA_HOME to a folder elsewhere, or move the case.",
            )


def state_here(point: UndoPoint, target: Target) -> str | None:
    """How far a point has come on a target: as its bytes tell, else as was noted; None where it was
    never written there.
    """
    noted = point.state.on(place_of(target))
    found = state_on(target, point.changes())
    if noted is None:
        return None if found == "undone" else found or point.state.state
    return found if found and noted.state != "planned" else noted.state


def _noted(point: UndoPoint, target: Target, state: str, at: str) -> UndoPoint:
    """A point of which is noted how far it has come. What was written stays, even where that fails:
    then the point says so, for it can be used all the same.
    """
    try:
        return mark(point, target, state, at)
    except InputError as error:
        now = point.state.after(TargetState(place_of(target), target.path, state, at))
        says = f"{target.path} is {state}, but that could not be noted: {error.says}"
        return msgspec.structs.replace(point, state=now, warning=says)


def _later(point: UndoPoint, points: Sequence[UndoPoint]) -> list[UndoPoint]:
    """Points of a target of the same size, made after this one and in force."""
    known, order = point.file.target, point.file.order
    return [
        other
        for other in points
        if other.file.order > order
        and other.state.state != "undone"
        and (other.file.target.bytes, other.file.target.serial) == (known.bytes, known.serial)
    ]


def _overlap(ours: Sequence[ChangeOnFile], theirs: Sequence[ChangeOnFile]) -> bool:
    return any(kept.touches(other) for kept in ours for other in theirs)
