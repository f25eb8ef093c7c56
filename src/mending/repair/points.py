"""Undo points: what a repair is about to change, kept so that it can be undone. Format: `docs/formats.md`.

One folder each: `point.json`, `state.json`, and for patch N `before-N.bin` and `after-N.bin`.
"""

import hashlib
from collections.abc import Sequence
from pathlib import Path

import msgspec

from mending.model import Change, FileChange, InputError, Patch, ReadError
from mending.model.limits import IDENTITY_RANGE_BYTES, IDENTITY_RANGES, LARGEST_CHANGE, WINDOW_BYTES
from mending.repair.touching import Ground
from mending.source import (
    FolderSource,
    PatchedFolder,
    Source,
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
    """How a target is known again: size, serial number where it has one, and hashes of untouched ranges."""

    path: str
    bytes: int
    serial: str
    ranges: tuple[KnownRange, ...]


class PatchOnFile(msgspec.Struct, frozen=True):
    """One change without its bytes, which lie beside.

    `path` is set for a file of a mounted tree; its hash is empty where it was not, or will not be, there.
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
    """The content of `state.json`: `planned` until the write was read back, then `done`, later perhaps `undone`."""

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


class PointsResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="undo-points/1"):
    """The undo points of one target, oldest first."""

    points: tuple[PointResult, ...]


def identity_of(target: Ground, changes: Sequence[Change]) -> Identity:
    """What the target is known by; ranges and files that cannot be read or will be changed are left out."""
    if isinstance(target, FolderSource | PatchedFolder):
        touched = {one.path for one in changes if isinstance(one, FileChange)}
        held = ((path, _held(target, path)) for path in _KNOWN_FILES if path not in touched)
        files = tuple(KnownRange(0, len(data), sha256(data), path) for path, data in held if data is not None)
        return Identity(target.path, 0, "", files)
    step = max((target.size - IDENTITY_RANGE_BYTES) // max(IDENTITY_RANGES - 1, 1), 1)
    starts = sorted({number * step // 512 * 512 for number in range(IDENTITY_RANGES) if number * step < target.size})
    patches = [one for one in changes if isinstance(one, Patch)]
    ranges = []
    for start in starts:
        length = min(IDENTITY_RANGE_BYTES, target.size - start)
        touches = any(start < patch.offset + patch.length and patch.offset < start + length for patch in patches)
        digest = None if touches else _hash(target, start, length)
        if digest is not None:
            ranges.append(KnownRange(start, length, digest))
    return Identity(target.path, target.size, target.serial, tuple(ranges))


_KNOWN_FILES = ("/etc/machine-id", "/etc/hostname", "/etc/fstab", "/etc/os-release", "/usr/lib/os-release")
"""By what a mounted tree is known again."""


def _held(tree: FolderSource | PatchedFolder, path: str) -> bytes | None:
    """A whole file; None where it is not there, is a link, or cannot be read: it then says nothing about the tree."""
    try:
        return tree.holds(path)
    except InputError:
        return None


def belongs_to(point: UndoPoint, target: Ground) -> bool:
    """Whether the target is the one the point was made for.

    Size and serial number must agree, and three quarters of the ranges: a later repair may have changed some.
    """
    known = point.file.target
    if isinstance(target, FolderSource | PatchedFolder):
        held = ((one, _held(target, one.path)) for one in known.ranges if one.path)
        same = sum(data is not None and sha256(data) == one.sha256 for one, data in held)
        return known.bytes == 0 and bool(known.ranges) and 4 * same >= 3 * len(known.ranges)
    if known.bytes != target.size or known.serial != target.serial:
        return False
    same = sum(_hash(target, one.offset, one.length) == one.sha256 for one in known.ranges)
    return 4 * same >= 3 * len(known.ranges)


def save_point(folder: Path, file: PointFile, patches: Sequence[Change]) -> UndoPoint:
    """Put an undo point on the medium, whole or not at all. Raises InputError."""
    state = PointState("planned", file.made)
    files = {"point.json": msgspec.json.format(msgspec.json.encode(file)), "state.json": msgspec.json.encode(state)}
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
    return sorted((_load(path) for path in names), key=lambda point: (point.file.made, point.file.id))


def _load(folder: Path) -> UndoPoint:
    try:
        file = msgspec.json.decode(read_file(folder / "point.json", WINDOW_BYTES), type=PointFile)
        state = msgspec.json.decode(read_file(folder / "state.json", WINDOW_BYTES), type=PointState)
    except msgspec.DecodeError as error:
        raise InputError(
            f"The undo point {folder} is damaged: {error}.", "Do not delete it; its bytes may be whole."
        ) from error
    return UndoPoint(folder, file, state, tuple(_patch(folder, number, one) for number, one in enumerate(file.patches)))


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
            f"The bytes kept in {path.parent} are not the ones that were saved.", "Use another undo point."
        )
    return data if digest else None


def digest_of(data: bytes | None) -> str:
    """Hash of one side of a change, empty where there is no file."""
    return "" if data is None else sha256(data)


def sha256(data: bytes) -> str:
    """Hash of some bytes in hex."""
    return hashlib.sha256(data).hexdigest()


def _hash(source: Source, offset: int, length: int) -> str | None:
    try:
        return sha256(source.read(offset, length).data)
    except ReadError:
        return None
