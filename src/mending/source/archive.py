"""A bundle: what diagnosis read of a disk, in one file that can be sent. Format: `docs/formats.md`.

A ZIP with `bundle.json` (the index: the disk's length, its sector size, the ranges with their sums)
and `range-N.bin` for each range. It is opened as a disk on which everything else is missing: a read
that touches what is missing is refused with a sentence, and is never taken for damage.

While a target is gathered, every read of it is noted (`noting`); what was noted is what a bundle
holds, so that the same reader finds the same bytes again.
"""

import hashlib
import os
import zlib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from mending.model import InputError, NotGatheredError, decode_json
from mending.source.imaging import ByteRanges
from mending.source.output import Output
from mending.source.plain_file import open_plain

# One open file with members: written whole or not at all, read with a bound for each member.
#
# It is a ZIP (APPNOTE 6.3), so that anybody can look into it.


if TYPE_CHECKING:
    import zipfile  # lazy: it is slow, and a bare disk is no archive

_LEVEL = 1
_SAMPLE, _WORTH = 64 << 10, 0.9
"""What does not pack in its first bytes, as kernels do not, is stored as it is."""
_NO_TIME = (1980, 1, 1, 0, 0, 0)
"""The same members make the same file, whenever it is written."""


def _packs(data: bytes) -> bool:
    sample = data[:_SAMPLE]
    return len(zlib.compress(sample, _LEVEL)) < len(sample) * _WORTH


def bytes_packed(data: bytes) -> int:
    """How many bytes of an archive a member's content takes."""
    return len(zlib.compress(data, _LEVEL)) if _packs(data) else len(data)


class ArchiveWriter:
    """Takes members, one after the other."""

    def __init__(self, archive: "zipfile.ZipFile") -> None:
        self._archive = archive

    def put(self, name: str, data: bytes) -> None:
        """Add a member.

        Raises:
            OSError
        """
        import zipfile  # noqa: PLC0415 - lazy: see above

        info = zipfile.ZipInfo(name, _NO_TIME)
        how = zipfile.ZIP_DEFLATED if _packs(data) else zipfile.ZIP_STORED
        self._archive.writestr(info, data, how, _LEVEL)


@contextmanager
def new_archive(output: Output) -> Iterator[ArchiveWriter]:
    """A file that only its owner can read, and that has its name once it is whole on the medium.

    Raises:
        InputError: it cannot be written. RefusedError: the name is taken.
    """
    import zipfile  # noqa: PLC0415 - lazy: see above

    with output.opened() as file, zipfile.ZipFile(file, "w") as archive:
        yield ArchiveWriter(archive)


class ArchiveReader:
    """Members by name.

    Raises:
        InputError: no such file, or it is no archive.
    """

    def __init__(self, path: Path) -> None:
        import zipfile  # noqa: PLC0415 - lazy: see above

        self._path = path
        try:
            self._file = open_plain(path)
        except OSError as error:
            raise InputError(f"{path} cannot be read: {error.strerror}.") from error
        try:
            self._archive = zipfile.ZipFile(self._file)
        except (OSError, zipfile.BadZipFile, ValueError, NotImplementedError) as error:
            self._file.close()
            raise InputError(f"{path} is no archive that can be read.") from error

    def holds(self, name: str) -> bool:
        """Whether there is a member of that name."""
        return name in self._archive.NameToInfo

    def read(self, name: str, most: int) -> bytes:
        """A member of at most so many bytes.

        Raises:
            InputError: it is not there, too long or damaged.
        """
        import zipfile  # noqa: PLC0415 - lazy: see above

        try:
            info = self._archive.getinfo(name)
            with self._archive.open(info) as file:
                data = file.read(most + 1)
        except (KeyError, zipfile.BadZipFile, zlib.error, OSError) as error:
            raise InputError(f"{self._path} does not hold {name} whole.") from error
        except (RuntimeError, NotImplementedError, EOFError, ValueError) as error:
            raise InputError(f"{self._path} cannot be unpacked: {name}.") from error
        if len(data) > most:
            raise InputError(f"{name} in {self._path} is larger than it may be.")
        return data

    def close(self) -> None:
        """Let go of it."""
        self._archive.close()
        self._file.close()


INDEX = "bundle.json"
_INDEX_BYTES, _MOST_RANGES = 16 << 20, 200_000
RANGE_BYTES = 1 << 20
"""The longest range: a reader unpacks one at a time."""
_MOST_BYTES = 1 << 30
"""Of all ranges together: no bundle that is made here has a tenth of it."""
_LARGEST_DISK = 1 << 56
_ZIP = b"PK\x03\x04"


class BundleRange(msgspec.Struct, frozen=True):
    """Bytes of the disk. `offset` and `length` are in bytes."""

    offset: int
    length: int
    sha256: str


class BundledFile(msgspec.Struct, frozen=True):
    """A file of which the bundle holds the content or only says that it is there."""

    volume: int
    path: str
    bytes: int
    sha256: str = ""


class BundleIndex(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="bundle/1"):
    """What a bundle holds.

    Attributes:
        name: of the target's last part, as it was called.
        bytes: length of the disk. sector: bytes of a sector.
        ranges: in order of their offset; they do not overlap.
        listing: files that starting needs, of the ESP and of folders for it.
        left_out: what diagnosis read and the bundle does not hold, and why.
        documents: sums of the documents that were made when it was gathered, by member.
        crossed_out: what was crossed out changes what is found, as where a sum of the file system
            is over it: the documents are the answers then.
    """

    name: str
    bytes: int
    sector: int
    ranges: tuple[BundleRange, ...]
    listing: tuple[BundledFile, ...] = ()
    left_out: tuple[str, ...] = ()
    documents: Mapping[str, str] = {}
    crossed_out: bool = False


_noted: ContextVar[tuple[str, ByteRanges] | None] = ContextVar("noted", default=None)


@contextmanager
def noting(path: str) -> Iterator[ByteRanges]:
    """Note what is read of the disk at `path` meanwhile."""
    ranges = ByteRanges()
    token = _noted.set((str(Path(path).resolve()), ranges))
    try:
        yield ranges
    finally:
        _noted.reset(token)


def note_read(path: str, start: int, end: int) -> None:
    """Note one read, where somebody wants to know."""
    noted = _noted.get()
    if noted is not None and start < end and noted[0] == str(Path(path).resolve()):
        noted[1].add(start, end)


def is_bundle(path: Path) -> bool:
    """Whether a file is one, by what it holds."""
    try:
        with open_plain(path) as file:
            if file.read(4) != _ZIP:
                return False
        archive = ArchiveReader(path)
    except (OSError, InputError):
        return False
    try:
        return archive.holds(INDEX)
    finally:
        archive.close()


class Bundle:
    """An opened bundle.

    Raises:
        InputError: it is none, or damaged.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._archive = ArchiveReader(path)
        try:
            data = self._archive.read(INDEX, _INDEX_BYTES)
            self.index = decode_json(data, BundleIndex)
        except (msgspec.DecodeError, UnicodeDecodeError) as error:
            raise InputError(f"{path} is no sound bundle: {error}.") from error
        _check(self.index, path)

    def document(self, name: str) -> bytes:
        """A document that was made when the bundle was.

        Raises:
            InputError: it is not there, or is another.
        """
        data = self._archive.read(name, _INDEX_BYTES)
        return _sound(data, self.index.documents.get(name, ""), name, self.path)

    def unpacked(self) -> int:
        """A handle on a disk with holes that holds all ranges and is gone when it is closed.

        Raises:
            InputError: a range is damaged, or there is no room.
        """
        fd = _nameless_file()
        try:
            os.ftruncate(fd, self.index.bytes)
            for number, each in enumerate(self.index.ranges):
                data = self._archive.read(f"range-{number}.bin", each.length)
                os.pwrite(fd, _sound(data, each.sha256, f"range {number}", self.path), each.offset)
        except (OSError, InputError) as error:
            os.close(fd)
            if isinstance(error, OSError):
                raise InputError(f"{self.path} cannot be unpacked: {error.strerror}.") from error
            raise
        return fd

    def missing(self) -> ByteRanges:
        """What of the disk is not in it."""
        missing, at = ByteRanges(), 0
        for each in self.index.ranges:
            if at < each.offset:
                missing.add(at, each.offset)
            at = each.offset + each.length
        if at < self.index.bytes:
            missing.add(at, self.index.bytes)
        return missing

    def close(self) -> None:
        """Let go of it."""
        self._archive.close()


def refuse_missing(path: str, missing: ByteRanges, start: int, end: int) -> None:
    """Raise NotGatheredError for a read that touches what a bundle does not hold."""
    if missing.touches(start, end):
        first, last = next(missing.inside(start, end))
        raise NotGatheredError(
            f"{last - first} bytes at offset {first} of the disk were not gathered into {path}.",
            "Work on the disk itself, or gather again with a larger --limit.",
        )


def _check(index: BundleIndex, path: Path) -> None:
    """Nothing of a bundle is believed that a bundle made here would not have."""
    wrong = not 0 < index.bytes <= _LARGEST_DISK or index.sector not in {512, 4096}
    wrong = wrong or len(index.ranges) > _MOST_RANGES
    at, total = 0, 0
    for each in index.ranges:
        wrong = wrong or each.offset < at or not 0 < each.length <= RANGE_BYTES
        at, total = each.offset + each.length, total + each.length
    if wrong or at > index.bytes or total > _MOST_BYTES:
        raise InputError(f"{path} is no sound bundle: its ranges do not fit its disk.")


def _sound(data: bytes, digest: str, name: str, path: Path) -> bytes:
    if hashlib.sha256(data).hexdigest() != digest:
        raise InputError(f"{name} in {path} is not what was gathered.", "Ask for it again.")
    return data


def _nameless_file() -> int:
    """A file without a name, in memory where the machine can."""
    if hasattr(os, "memfd_create"):
        return os.memfd_create("bundle", os.MFD_CLOEXEC)
    from tempfile import TemporaryFile  # noqa: PLC0415 - lazy: memory is the usual place

    with TemporaryFile() as file:
        return os.dup(file.fileno())


def in_pieces(ranges: ByteRanges, size: int, page: int) -> list[tuple[int, int]]:
    """Noted ranges widened to whole pages, cut so that none is longer than one may be."""
    whole = ByteRanges()
    for start, end in ranges:
        whole.add(start // page * page, min(-(-end // page) * page, size))
    pieces: list[tuple[int, int]] = []
    for start, end in whole:
        pieces += [(at, min(RANGE_BYTES, end - at)) for at in range(start, end, RANGE_BYTES)]
    return pieces
