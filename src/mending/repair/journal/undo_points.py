"""Undo points: what a repair is about to change, kept so that it can be undone. Format:
`docs/formats.md`.

One folder each: `point.json`, `seal`, `state.json`, and for change N `before-N.bin` and
`after-N.bin`. The seal is a keyed hash of `point.json`, which holds the hashes of the rest, under a
key that this machine alone has: a folder from elsewhere cannot make us write what it likes.
"""

import hashlib
import hmac
import re
from collections.abc import Sequence
from pathlib import Path

import msgspec

from mending.model import (
    Change,
    FileAttributes,
    FileChange,
    InputError,
    MendingError,
    Patch,
    decode_json,
    encode_json,
    format_json,
)
from mending.model.limits import LARGEST_CHANGE, WINDOW_BYTES
from mending.source import (
    Identity,
    Target,
    make_folder_durably,
    place_of,
    read_file,
    read_folder,
    remove_folder,
    sha256,
    write_durably,
)

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
