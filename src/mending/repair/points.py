"""Undo points: what a repair is about to change, kept so that it can be undone. Format: `docs/formats.md`.

One folder each: `point.json`, `state.json`, and for patch N `before-N.bin` and `after-N.bin`.
"""

import hashlib
from collections.abc import Sequence
from pathlib import Path

import msgspec

from mending.model import InputError, Patch, ReadError
from mending.model.limits import IDENTITY_RANGE_BYTES, IDENTITY_RANGES, WINDOW_BYTES
from mending.source import Source, make_folder_durably, read_file, read_folder, write_durably


class KnownRange(msgspec.Struct, frozen=True):
    """A range that the repair does not touch, and its hash."""

    offset: int
    length: int
    sha256: str


class Identity(msgspec.Struct, frozen=True):
    """How a target is known again: size, serial number where it has one, and hashes of untouched ranges."""

    path: str
    bytes: int
    serial: str
    ranges: tuple[KnownRange, ...]


class PatchOnFile(msgspec.Struct, frozen=True):
    """One patch without its bytes, which lie beside."""

    offset: int
    length: int
    says: str
    sha256_before: str
    sha256_after: str


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
    patches: tuple[Patch, ...]


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


def identity_of(source: Source, patches: Sequence[Patch]) -> Identity:
    """What the target is known by; ranges that cannot be read or will be patched are left out."""
    step = max((source.size - IDENTITY_RANGE_BYTES) // max(IDENTITY_RANGES - 1, 1), 1)
    starts = sorted({number * step // 512 * 512 for number in range(IDENTITY_RANGES) if number * step < source.size})
    ranges = []
    for start in starts:
        length = min(IDENTITY_RANGE_BYTES, source.size - start)
        touched = any(start < patch.offset + patch.length and patch.offset < start + length for patch in patches)
        digest = None if touched else _hash(source, start, length)
        if digest is not None:
            ranges.append(KnownRange(start, length, digest))
    return Identity(source.path, source.size, source.serial, tuple(ranges))


def belongs_to(point: UndoPoint, source: Source) -> bool:
    """Whether the target is the one the point was made for.

    Size and serial number must agree, and three quarters of the ranges: a later repair may have changed some.
    """
    known = point.file.target
    if known.bytes != source.size or known.serial != source.serial:
        return False
    same = sum(_hash(source, one.offset, one.length) == one.sha256 for one in known.ranges)
    return 4 * same >= 3 * len(known.ranges)


def save_point(folder: Path, file: PointFile, patches: Sequence[Patch]) -> UndoPoint:
    """Put an undo point on the medium, whole or not at all. Raises InputError."""
    state = PointState("planned", file.made)
    files = {"point.json": msgspec.json.format(msgspec.json.encode(file)), "state.json": msgspec.json.encode(state)}
    for number, patch in enumerate(patches):
        files[f"before-{number}.bin"] = patch.before
        files[f"after-{number}.bin"] = patch.after
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


def _patch(folder: Path, number: int, kept: PatchOnFile) -> Patch:
    before = read_file(folder / f"before-{number}.bin", WINDOW_BYTES)
    after = read_file(folder / f"after-{number}.bin", WINDOW_BYTES)
    if sha256(before) != kept.sha256_before or sha256(after) != kept.sha256_after:
        raise InputError(f"The bytes kept in {folder} are not the ones that were saved.", "Use another undo point.")
    return Patch(kept.offset, before, after, kept.says)


def sha256(data: bytes) -> str:
    """Hash of some bytes in hex."""
    return hashlib.sha256(data).hexdigest()


def _hash(source: Source, offset: int, length: int) -> str | None:
    try:
        return sha256(source.read(offset, length).data)
    except ReadError:
        return None
