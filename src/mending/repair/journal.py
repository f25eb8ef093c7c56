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
import hashlib
import hmac
import re
import signal
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

import msgspec

from mending.model import (
    Change,
    FileAttributes,
    FileChange,
    InputError,
    MendingError,
    Patch,
    ReadError,
    RefusedError,
    RepairFailedError,
    decode_json,
    encode_json,
    format_json,
)
from mending.model.limits import LARGEST_CHANGE, WINDOW_BYTES
from mending.repair.base import Proposal
from mending.source import (
    Identity,
    IdentityPart,
    Target,
    fault_of,
    identity_of,
    is_known_by,
    machine_key,
    make_folder_durably,
    place_of,
    read_file,
    read_folder,
    remove_folder,
    sha256,
    write_durably,
)

# Undo points: what a repair is about to change, kept so that it can be undone. Format:
# `docs/formats.md`.
#
# One folder each: `point.json`, `seal`, `state.json`, and for change N `before-N.bin` and
# `after-N.bin`. The seal is a keyed hash of `point.json`, which holds the hashes of the rest, under
# a key that this machine alone has: a folder from elsewhere cannot make us write what it likes.


_NAME = re.compile(r"[0-9A-Za-z][0-9A-Za-z-]{0,100}")
_FARTHEST = ("planned", "done", "undone")
"""What a point as a whole is: the first of these that it is on any target."""


class ChangeOnFile(msgspec.Struct, frozen=True):
    """One change without its bytes, which lie beside.

    `path` is set for a file of a mounted tree; a hash is empty where the file was not, or will not
    be, there.
    """

    offset: int
    length: int
    says: str
    sha256_before: str
    sha256_after: str
    path: str = ""
    attributes_before: FileAttributes | None = None
    attributes_after: FileAttributes | None = None
    folders: tuple[str, ...] = ()

    def touches(self, other: "ChangeOnFile") -> bool:
        """Whether both are of the same file, or of ranges that overlap."""
        if self.path or other.path:
            return self.path == other.path
        ours, theirs = self.offset + self.length, other.offset + other.length
        return self.offset < theirs and other.offset < ours


class PointFile(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="undo-point/1"):
    """The content of `point.json`. `number` counts the points of a folder: several are made in one
    second, and clocks go back.
    """

    id: str
    repair: str
    made: str
    target: Identity
    patches: tuple[ChangeOnFile, ...]
    number: int = 0

    @property
    def order(self) -> tuple[int, str, str]:
        """What points are sorted by, the oldest first."""
        return self.number, self.made, self.id


class TargetState(msgspec.Struct, frozen=True):
    """How far a point has come on one target. A copy of an image has points in common with it.

    Attributes:
        place: which target, as `place_of` tells it; `path` is for people.
        state: as of the point.
    """

    place: str
    path: str
    state: str
    at: str


class PointState(msgspec.Struct, frozen=True):
    """The content of `state.json`: `planned` until the write was read back, then `done`, later
    perhaps `undone`.

    Attributes:
        state: `undone` only where it is so on every target that was written.
        targets: each target that was written with it.
    """

    state: str
    at: str
    targets: tuple[TargetState, ...] = ()

    def on(self, place: str) -> TargetState | None:
        """How far it has come on one target; None where nothing of it was written there."""
        return next((row for row in self.targets if row.place == place), None)

    def after(self, here: TargetState) -> "PointState":
        """The state once it has come so far on one target."""
        rows = (*(row for row in self.targets if row.place != here.place), here)
        states = {row.state for row in rows}
        everywhere = next(name for name in _FARTHEST if name in states)
        return PointState(everywhere, here.at, rows)


class UndoPoint(msgspec.Struct, frozen=True):
    """An undo point. Its bytes are read when they are asked for.

    Attributes:
        made_here: whether the seal is of this machine.
        warning: what went wrong beside the repair; empty where nothing did.
    """

    folder: Path
    file: PointFile
    state: PointState
    made_here: bool
    warning: str = ""

    def changes(self) -> tuple[Change, ...]:
        """What was changed.

        Raises:
            InputError: the bytes are not the ones that were saved.
        """
        rows = enumerate(self.file.patches)
        return tuple(_change(self.folder, number, kept) for number, kept in rows)


class DamagedPoint(msgspec.Struct, frozen=True):
    """What lies among the undo points and cannot be used as one."""

    folder: Path
    says: str


class UndoPoints(msgspec.Struct, frozen=True):
    """What a folder of undo points holds, oldest first."""

    points: tuple[UndoPoint, ...]
    damaged: tuple[DamagedPoint, ...]


class PointResult(msgspec.Struct, frozen=True, kw_only=True):
    """One undo point in a list. `made_here`: on this machine."""

    id: str
    repair: str
    made: str
    state: str
    bytes: int
    path: str
    made_here: bool


class DamagedResult(msgspec.Struct, frozen=True, kw_only=True):
    """What lies among the undo points and cannot be used, and why."""

    path: str
    says: str


class PointsResult(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="undo-points/1"
):
    """The undo points of one target, oldest first. `warning` says what went wrong beside; empty
    where nothing did.
    """

    points: tuple[PointResult, ...]
    damaged: tuple[DamagedResult, ...] = ()
    warning: str = ""


def save_point(
    folder: Path, file: PointFile, changes: Sequence[Change], key: bytes, place: str
) -> UndoPoint:
    """Put an undo point on the medium, whole or not at all.

    Args:
        place: which target is about to be written, as `place_of` tells it.

    Raises:
        InputError
    """
    here = TargetState(place, file.target.path, "planned", file.made)
    state = PointState("planned", file.made, (here,))
    head = format_json(file)
    files = {
        "point.json": head,
        "seal": _seal(head, key).encode(),
        "state.json": encode_json(state),
    }
    for number, change in enumerate(changes):
        files[f"before-{number}.bin"] = change.before or b""
        files[f"after-{number}.bin"] = change.after or b""
    make_folder_durably(folder / file.id, files)
    return UndoPoint(folder / file.id, file, state, True)


def mark(point: UndoPoint, target: Target, state: str, at: str) -> UndoPoint:
    """Record how far a point has come on a target.

    Raises:
        InputError
    """
    now = point.state.after(TargetState(place_of(target), target.path, state, at))
    write_durably(point.folder / "state.json", encode_json(now))
    return msgspec.structs.replace(point, state=now)


def drop(point: UndoPoint) -> None:
    """Take a point away; a crash leaves it whole or gone.

    Raises:
        InputError
    """
    remove_folder(point.folder)


def load_points(folder: Path, key: bytes) -> UndoPoints:
    """All undo points in a folder. One that is damaged keeps no other from being used.

    Raises:
        InputError: the folder itself cannot be read.
    """
    points, damaged = [], []
    for path in read_folder(folder):
        if path.name.startswith("."):
            continue
        try:
            points.append(load_point(path, key))
        except MendingError as error:
            damaged.append(DamagedPoint(path, error.says))
    points.sort(key=lambda point: point.file.order)
    return UndoPoints(tuple(points), tuple(damaged))


def load_point(folder: Path, key: bytes) -> UndoPoint:
    """One undo point.

    Raises:
        InputError: it is damaged, or is none.
    """
    if not _NAME.fullmatch(folder.name) or folder.is_symlink() or not folder.is_dir():
        raise InputError(f"{folder} is no undo point.")
    head = read_file(folder / "point.json", WINDOW_BYTES, links=False)
    try:
        file = decode_json(head, PointFile)
        state = decode_json(read_file(folder / "state.json", WINDOW_BYTES, links=False), PointState)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise InputError(
            f"The undo point {folder} is damaged: {error}.",
            "Do not delete it; its bytes may be whole.",
        ) from error
    try:
        seal = read_file(folder / "seal", 256, links=False).decode("ascii", errors="replace")
    except InputError:
        seal = ""
    here = hmac.compare_digest(seal.encode(), _seal(head, key).encode())
    return UndoPoint(folder, file, state, here)


def on_file(change: Change) -> ChangeOnFile:
    """A change as `point.json` keeps it."""
    digests = _digest(change.before), _digest(change.after)
    if isinstance(change, FileChange):
        return ChangeOnFile(
            0,
            change.length,
            change.says,
            *digests,
            change.path,
            change.attributes_before,
            change.attributes_after,
            change.folders,
        )
    return ChangeOnFile(change.offset, change.length, change.says, *digests)


def _change(folder: Path, number: int, kept: ChangeOnFile) -> Change:
    before = _kept(folder / f"before-{number}.bin", kept.sha256_before)
    after = _kept(folder / f"after-{number}.bin", kept.sha256_after)
    if kept.path:
        return FileChange(
            kept.path,
            before,
            after,
            kept.says,
            kept.attributes_before,
            kept.attributes_after,
            kept.folders,
        )
    if len(before or b"") != kept.length or len(after or b"") != kept.length:
        raise InputError(f"The undo point {folder} keeps another number of bytes than it says.")
    return Patch(kept.offset, before or b"", after or b"", kept.says)


def _kept(path: Path, digest: str) -> bytes | None:
    data = read_file(path, LARGEST_CHANGE, links=False)
    if digest and sha256(data) != digest:
        raise InputError(
            f"The bytes kept in {path.parent} are not the ones that were saved.",
            "Use another undo point.",
        )
    return data if digest else None


def _digest(data: bytes | None) -> str:
    return "" if data is None else sha256(data)


def _seal(head: bytes, key: bytes) -> str:
    return hmac.new(key, head, hashlib.sha256).hexdigest()


# Changes made on a target and read back: the one place where a target is written.


def state_on(target: Target, changes: Sequence[Change]) -> str:
    """`done` or `undone` where all changes, or none, are on the target; empty in between."""
    now = [target.current(change) for change in changes]
    if all(data == change.after for data, change in zip(now, changes, strict=True)):
        return "done"
    if all(data == change.before for data, change in zip(now, changes, strict=True)):
        return "undone"
    return ""


def put_back(target: Target, changes: Sequence[Change]) -> None:
    """Make it the bytes before, the last change first; what is as before is not written."""
    other = [change for change in changes if _now(target, change) != change.before]
    if other:
        write(target, [change.turned_round() for change in reversed(other)])


def _now(target: Target, change: Change) -> bytes | None:
    """What stands where a change goes; what cannot be read is not what it was."""
    try:
        return target.current(change)
    except ReadError:
        return None if change.before is not None else b""


def write(target: Target, changes: Sequence[Change]) -> None:
    """Make the changes and read them back.

    Raises:
        RepairFailedError, InputError, RefusedError
    """
    target.apply(changes)
    for change in changes:
        if target.current(change) != change.after:
            says = f"{change.shown} read back differently from what was written."
            raise RepairFailedError(says, "The drive may be failing: copy it before anything else.")


@contextlib.contextmanager
def no_interrupt() -> Iterator[None]:
    """The interrupt key waits until this is over; it comes after all."""
    blocked = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, blocked)


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
        if not is_known_by(identity) or fault_of(identity, target).says:
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
        fault, by_use, _ = fault_of(point.file.target, target, touched)
        return fault, by_use

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
