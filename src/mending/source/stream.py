"""A source as a stream of bytes, unpacked on the way where it is a packed file; a trap ends at a
limit.
"""

import bz2
import gzip
import io
import lzma
import zipfile
import zlib
from collections.abc import Callable
from typing import BinaryIO

from mending.model import InputError, load_unpacker
from mending.model.limits import EXPANDED_LEAST, EXPANDED_MOST, EXPANDED_TIMES
from mending.source.base import Source

_BUFFER = 1 << 18
_ERRORS = (
    OSError,
    EOFError,
    zlib.error,
    lzma.LZMAError,
    zipfile.BadZipFile,
    NotImplementedError,
    RuntimeError,
    ValueError,
)
_SUFFIX_Z, _MOST_FILES = 0x78, 400
_MOST_WINDOW = 1 << 26
"""Bytes that an unpacker may have to look back, and so has to hold."""


class SourceStream(io.RawIOBase):
    """The bytes of a source, from its beginning."""

    def __init__(self, source: Source) -> None:
        self._source = source
        self._at = 0

    def readable(self) -> bool:
        """Yes."""
        return True

    def seekable(self) -> bool:
        """Yes."""
        return True

    def seek(self, offset: int, whence: int = 0) -> int:
        """As of files."""
        self._at = max({0: 0, 1: self._at, 2: self._source.size}[whence] + offset, 0)
        return self._at

    def tell(self) -> int:
        """As of files."""
        return self._at

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        """As of files.

        Raises:
            ReadError
        """
        data = self._source.read(self._at, len(buffer)).data
        buffer[: len(data)] = data
        self._at += len(data)
        return len(data)


class _Allowance:
    """How many bytes may still come out of one packed file, all that is in it taken together."""

    def __init__(self, name: str, size: int) -> None:
        self.name = name
        self.left = min(max(EXPANDED_LEAST, EXPANDED_TIMES * size), EXPANDED_MOST)


class _Bounded(io.RawIOBase):
    """Bytes out of an unpacker; damage and more bytes than are allowed are our own errors."""

    def __init__(self, inner: BinaryIO, allowance: _Allowance) -> None:
        self._inner, self._allowance = inner, allowance

    def readable(self) -> bool:
        """Yes."""
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        """As of files.

        Raises:
            InputError
        """
        try:
            data = self._inner.read(min(len(buffer), _BUFFER))
        except _ERRORS as error:
            raise InputError(f"{self._allowance.name} is packed and damaged: {error}.") from error
        self._allowance.left -= len(data)
        if self._allowance.left < 0:
            raise InputError(
                f"{self._allowance.name} grows beyond every log when it is unpacked; the rest is"
                " not read."
            )
        buffer[: len(data)] = data
        return len(data)


def unpacked(source: Source, name: str) -> list[tuple[str, BinaryIO]]:
    """The file as a stream; of an archive, every file in it. What is not packed comes as it is.

    Raises:
        InputError: an archive cannot be opened. Damage further behind is raised while it is read.
    """
    head = source.read(0, 6).data
    raw = io.BufferedReader(SourceStream(source), _BUFFER)
    allowance = _Allowance(name, source.size)
    if head.startswith(b"PK\x03\x04"):
        return _archive(raw, name, allowance)
    opener = _opener(head)
    return [(name, _bounded(opener(raw), allowance) if opener else raw)]


def _opener(head: bytes) -> Callable[[BinaryIO], BinaryIO] | None:
    if head.startswith(b"\x1f\x8b"):
        return lambda raw: gzip.GzipFile(fileobj=raw)  # type: ignore[return-value]
    if head.startswith(b"\xfd7zXZ\x00"):
        return lambda raw: lzma.LZMAFile(raw)  # type: ignore[return-value]
    if head.startswith(b"BZh"):
        return lambda raw: bz2.BZ2File(raw)  # type: ignore[return-value]
    if head.startswith(b"\x28\xb5\x2f\xfd"):
        return lambda raw: io.BufferedReader(_Zstd(raw), _BUFFER)
    if head.startswith(b"\x04\x22\x4d\x18"):
        return lambda raw: load_unpacker("lz4.frame").LZ4FrameFile(raw)
    if (
        len(head) > 2
        and head[0] == _SUFFIX_Z
        and int.from_bytes(head[:2], "big") % 31 == 0
        and head[1] in b"\x01\x5e\x9c\xda"
    ):
        return _inflating
    return None


def _inflating(raw: BinaryIO) -> BinaryIO:
    """Records that a kernel packed before it kept them: RFC 1950."""
    return io.BufferedReader(_Inflater(raw), _BUFFER)


class _Zstd(io.RawIOBase):
    """Frames of Zstandard (RFC 8878), whose library has errors of its own."""

    def __init__(self, raw: BinaryIO) -> None:
        library = load_unpacker("zstandard")
        engine = library.ZstdDecompressor(max_window_size=_MOST_WINDOW)
        self._error: type[Exception] = library.ZstdError
        self._inner = engine.stream_reader(raw, read_across_frames=True)

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        try:
            data: bytes = self._inner.read(len(buffer))
        except self._error as error:
            raise ValueError(str(error)) from error
        buffer[: len(data)] = data
        return len(data)


class _Inflater(io.RawIOBase):
    def __init__(self, raw: BinaryIO) -> None:
        self._raw, self._engine = raw, zlib.decompressobj()

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        data = b""
        while not data and not self._engine.eof:
            piece = self._engine.unconsumed_tail or self._raw.read(_BUFFER)
            if not piece:
                break
            data = self._engine.decompress(piece, len(buffer))
        buffer[: len(data)] = data
        return len(data)


def _archive(raw: BinaryIO, name: str, allowance: _Allowance) -> list[tuple[str, BinaryIO]]:
    try:
        opened = zipfile.ZipFile(raw)
        files = [member for member in opened.infolist() if not member.is_dir()][:_MOST_FILES]
        return [
            (f"{name}: {member.filename}", _bounded(_Member(opened, member), allowance))
            for member in files
        ]
    except _ERRORS as error:
        raise InputError(f"{name} begins as an archive, but cannot be opened: {error}.") from error


class _Member(io.RawIOBase):
    """A file in an archive, opened when it is first read."""

    def __init__(self, archive: zipfile.ZipFile, info: zipfile.ZipInfo) -> None:
        self._archive, self._info = archive, info
        self._inner: BinaryIO | None = None

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        if self._inner is None:
            self._inner = self._archive.open(self._info)  # type: ignore[assignment]
        data = self._inner.read(len(buffer))  # type: ignore[union-attr]
        buffer[: len(data)] = data
        return len(data)


def _bounded(inner: object, allowance: _Allowance) -> BinaryIO:
    return io.BufferedReader(_Bounded(inner, allowance), _BUFFER)  # type: ignore[arg-type]
