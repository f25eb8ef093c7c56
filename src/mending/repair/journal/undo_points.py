"""Undo points: what a repair is about to change, kept so that it can be undone. Format:
`docs/formats.md`.

One folder each: `point.json`, `state.json`, and for patch N `before-N.bin` and `after-N.bin`.
"""

import hashlib
from collections.abc import Sequence
from pathlib import Path

import msgspec

from mending.model import Change, FileChange, InputError, Patch
from mending.model.limits import LARGEST_CHANGE, WINDOW_BYTES
from mending.source import (
    IdentityPart,
    Target,
    make_folder_durably,
    read_file,
    read_folder,
    write_durably,
)


class KnownRange(msgspec.Struct, frozen=True):
    """A range, or with `path` a whole file, that the repair does not touch, and its hash."""

    offset: int
    length: int
    sha256: str
    path: str = ""


class Identity(msgspec.Struct, frozen=True):
    """How a target is known again: size, serial number where it has one, and hashes of untouched
    ranges.
    """

    path: str
    bytes: int
    serial: str
    ranges: tuple[KnownRange, ...]


class PatchOnFile(msgspec.Struct, frozen=True):
    """One change without its bytes, which lie beside.

    `path` is set for a file of a mounted tree; its hash is empty where it was not, or will not be,
    there.
    """

    offset: int
    length: int
    says: str
    sha256_before: str
    sha256_after: str
    path: str = ""


class PointFile(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="undo-point/1"):
    """The content of `point.json`."""

    id: str
    repair: str
    made: str
    target: Identity
    patches: tuple[PatchOnFile, ...]


class PointState(msgspec.Struct, frozen=True):
    """The content of `state.json`: `planned` until the write was read back, then `done`, later
    perhaps `undone`.
    """

    state: str
    at: str


class UndoPoint(msgspec.Struct, frozen=True):
    """An undo point with its bytes."""

    folder: Path
    file: PointFile
    state: PointState
    patches: tuple[Change, ...]


class PointResult(msgspec.Struct, frozen=True, kw_only=True):
    """One undo point in a list."""

    id: str
    repair: str
    made: str
    state: str
    bytes: int
    path: str


class PointsResult(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="undo-points/1"
):
    """The undo points of one target, oldest first."""

    points: tuple[PointResult, ...]


def identity_of(target: Target, changes: Sequence[Change]) -> Identity:
    """What the target is known by; what cannot be read or will be changed is left out."""
    ranges = []
    for part in target.identity_parts(changes):
        data = target.content_of(part)
        if data is not None:
            ranges.append(KnownRange(part.offset, part.length, sha256(data), part.path))
    return Identity(target.path, target.size, target.serial, tuple(ranges))


def belongs_to(point: UndoPoint, target: Target) -> bool:
    """Whether the target is the one the point was made for.

    Size and serial number must agree, and three quarters of the parts: a later repair may have
    changed some. A mounted tree has no size, so it must have parts.
    """
    known = point.file.target
    if (known.bytes, known.serial) != (target.size, target.serial):
        return False
    if not known.ranges and not target.size:
        return False
    same = 0
    for part in known.ranges:
        data = target.content_of(IdentityPart(part.offset, part.length, part.path))
        same += data is not None and sha256(data) == part.sha256
    return 4 * same >= 3 * len(known.ranges)


def save_point(folder: Path, file: PointFile, patches: Sequence[Change]) -> UndoPoint:
    """Put an undo point on the medium, whole or not at all. Raises InputError."""
    state = PointState("planned", file.made)
    files = {
        "point.json": msgspec.json.format(msgspec.json.encode(file)),
        "state.json": msgspec.json.encode(state),
    }
    for number, patch in enumerate(patches):
        files[f"before-{number}.bin"] = patch.before or b""
        files[f"after-{number}.bin"] = patch.after or b""
    make_folder_durably(folder / file.id, files)
    return UndoPoint(folder / file.id, file, state, tuple(patches))


def mark(point: UndoPoint, state: str, at: str) -> None:
    """Record how far a point has come. Raises InputError."""
    write_durably(point.folder / "state.json", msgspec.json.encode(PointState(state, at)))


def load_points(folder: Path) -> list[UndoPoint]:
    """All undo points in a folder, oldest first. Raises InputError for one that is damaged."""
    names = [path for path in read_folder(folder) if not path.name.startswith(".")]
    return sorted(
        (_load(path) for path in names), key=lambda point: (point.file.made, point.file.id)
    )


def _load(folder: Path) -> UndoPoint:
    try:
        file = msgspec.json.decode(read_file(folder / "point.json", WINDOW_BYTES), type=PointFile)
        state = msgspec.json.decode(read_file(folder / "state.json", WINDOW_BYTES), type=PointState)
    except msgspec.DecodeError as error:
        raise InputError(
            f"The undo point {folder} is damaged: {error}.",
            "Do not delete it; its bytes may be whole.",
        ) from error
    return UndoPoint(
        folder,
        file,
        state,
        tuple(_patch(folder, number, patch) for number, patch in enumerate(file.patches)),
    )


def _patch(folder: Path, number: int, kept: PatchOnFile) -> Change:
    before = _kept(folder / f"before-{number}.bin", kept.sha256_before)
    after = _kept(folder / f"after-{number}.bin", kept.sha256_after)
    if kept.path:
        return FileChange(kept.path, before, after, kept.says)
    return Patch(kept.offset, before or b"", after or b"", kept.says)


def _kept(path: Path, digest: str) -> bytes | None:
    data = read_file(path, LARGEST_CHANGE)
    if digest and sha256(data) != digest:
        raise InputError(
            f"The bytes kept in {path.parent} are not the ones that were saved.",
            "Use another undo point.",
        )
    return data if digest else None


def digest_of(data: bytes | None) -> str:
    """Hash of one side of a change, empty where there is no file."""
    return "" if data is None else sha256(data)


def sha256(data: bytes) -> str:
    """Hash of some bytes in hex."""
    return hashlib.sha256(data).hexdigest()
