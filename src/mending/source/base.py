"""The one interface of everything that can be traced and mended, and its two kinds: a disk and a
mounted tree.

A *target* can be read in its own way, and in one way that both kinds share: what stands now where a
change goes (`current`), the change made (`apply`), the target as it would be afterwards
(`overlaid`), and by what it is known again (`identity_parts`). Whoever works on targets uses these
four and never asks of which class one is.
"""

from collections.abc import Iterator, Sequence
from enum import StrEnum
from pathlib import Path
from typing import Protocol, cast

import msgspec

from mending.model import Change, FileAttributes, FileChange, Window


class TargetKind(StrEnum):
    """What a target is, as the file system of this machine sees it."""

    IMAGE = "image"
    DEVICE = "device"
    FOLDER = "folder"


class IdentityPart(msgspec.Struct, frozen=True):
    """A part of a target by which it is known again: a byte range, or with `path` a whole file."""

    offset: int
    length: int
    path: str = ""


class Target(Protocol):
    """A disk or a mounted tree.

    Attributes:
        path: how the person named it.
        size: bytes of a disk; 0 for a tree.
        serial: serial number of a device; empty for everything else.
    """

    path: str
    kind: TargetKind
    size: int
    serial: str

    @property
    def bytes_read(self) -> int:
        """How many bytes have been read so far."""

    def current(self, change: Change) -> bytes | None:
        """What stands now where a change goes; None where there is no such file.

        Raises:
            ReadError: InputError.
        """

    def apply(self, changes: Sequence[Change]) -> None:
        """Make all changes, in their order, and wait until they are on the medium.

        Raises:
            RefusedError: it was opened to be read, or the change is for another kind of target.
            InputError: a write failed.
        """

    def refuse_barred(self, changes: Sequence[Change]) -> None:
        """Raise RefusedError where this account may not make the changes, as far as that can be
        told without making them.
        """

    def holds_path(self, place: Path) -> bool:
        """Whether a place of this machine lies on the target."""

    def overlaid(self, changes: Sequence[Change]) -> "Target":
        """The target as it would be after some changes. Nothing can be written to it."""

    def identity_parts(self, changes: Sequence[Change]) -> list[IdentityPart]:
        """By what the target is known again, leaving out what the changes touch."""

    def content_of(self, part: IdentityPart) -> bytes | None:
        """The bytes of a part; None where it is not there or cannot be read."""


class Source(Target, Protocol):
    """A disk: bytes with a size, a sector size and a counter.

    Attributes:
        bytes_per_sector: 512 or 4096; the unit of every LBA on this source.
    """

    bytes_per_sector: int

    def read(self, offset: int, length: int) -> Window:
        """At most `length` bytes from `offset`; fewer at the end.

        Raises:
            ReadError, InputError
        """

    def count_read(self, count: int) -> None:
        """Add what was read on our behalf elsewhere to the counter."""

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """Start and length of everything but the holes of a sparse file.

        Raises:
            InputError
        """

    def read_into(self, offset: int, buffer: memoryview) -> int:
        """Fill a buffer from `offset`; returns how many bytes came.

        Raises:
            ReadError
        """

    def write(self, offset: int, data: bytes) -> None:
        """Put `data` at `offset`, never past the end.

        Raises:
            RefusedError: opened read-only, InputError.
        """

    def flush(self) -> None:
        """Return when everything written is on the medium.

        Raises:
            InputError
        """

    def close(self) -> None:
        """Let go of it; closing twice is fine."""


TreeRow = tuple[str, int, bool, bool, int]
"""Name, length in bytes, whether it is a folder, whether it is a link, permission bits."""


class MountedTree(Target, Protocol):
    """The files of an installed system below a folder. Links are never followed here; whoever asks
    resolves them.
    """

    def listing(self, folder: str) -> list[TreeRow]:
        """What a folder holds.

        Raises:
            OSError
        """

    def read(self, path: str, length: int) -> bytes:
        """The first bytes of a file.

        Raises:
            OSError: also for a file that became a link or a device.
        """

    def link(self, path: str) -> str:
        """What a link points at.

        Raises:
            OSError
        """

    def number_of(self, folder: str) -> bytes | None:
        """Which folder this is, as its file system counts; None where that does not last."""

    def holds(self, path: str, links: bool = False) -> bytes | None:
        """The whole content of a file; None where there is none.

        Args:
            links: of a link, what it points at; else a link is an error.

        Raises:
            InputError
        """

    def change_of(
        self, path: str, data: bytes | None, says: str, attributes: FileAttributes | None = None
    ) -> FileChange:
        """The change that puts a file, or (None) takes it away, with what stands there now.

        Args:
            attributes: of the new file; None for those of the file that is there, or the usual.

        Raises:
            InputError: what stands there cannot be read, or is no plain file.
            RefusedError: the file has further names in other folders.
        """

    def room(self) -> tuple[int, int] | None:
        """Bytes and inodes that are free for everybody; None where the folder is not the top of a
        mounted volume.
        """


def as_tree(target: Target) -> MountedTree | None:
    """The target as a mounted tree; None where it is a disk."""
    return cast(MountedTree, target) if target.kind is TargetKind.FOLDER else None


def as_disk(target: Target) -> Source:
    """The target as a disk. Ask `as_tree` first."""
    if target.kind is TargetKind.FOLDER:
        raise ValueError(f"{target.path} is a mounted tree")
    return cast(Source, target)
