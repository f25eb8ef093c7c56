"""Initramfs images of Linux: cpio archives one behind the other, packed or not, walked to their
trailers.

Sources: Linux kernel documentation, "initramfs buffer format" and "Early microcode"; RFC 1952
(gzip), the published xz and zstd (RFC 8878) formats; LZ4 "Legacy frame" of its frame format
description.
"""

import lzma
import zlib
from collections.abc import Callable, Iterator

import msgspec

from mending.model import Problem, hex_preview, load_unpacker

_NEWC = (b"070701", b"070702")
_HEAD = 110
_TRAILER = "TRAILER!!!"
MOST_BYTES = 1 << 30
"""Of unpacked data: ten times a usual one."""
_STEP = 1 << 20
_MOST_NAMES = 200_000
_KEPT = frozenset({"modules.dep", "modules.builtin", "crypttab"})
"""Last parts of the names whose content is kept: what depends on what, and what is unlocked."""
_MOST_KEPT = 8 << 20
_KINDS = {
    b"\x1f\x8b": "gzip",
    b"\xfd7zXZ\x00": "xz",
    b"\x28\xb5\x2f\xfd": "zstd",
    b"\x02\x21\x4c\x18": "lz4",
    b"\x5d\x00\x00": "lzma",
    b"BZh": "bzip2",
    b"\x89LZO": "lzo",
}


class Initramfs(msgspec.Struct, frozen=True):
    """What was walked. `kind` is the packing of the last archive; `names` are its files.

    Attributes:
        unchecked: why the walk could not be made; empty when it was.
        kept: content of the few files that say what the others are for, by name.
    """

    kind: str
    names: frozenset[str]
    archives: int
    unchecked: str = ""
    kept: dict[str, bytes] = {}

    @property
    def module_versions(self) -> frozenset[str]:
        """Kernel versions for which modules are inside."""
        parts = (name.split("/") for name in self.names if "lib/modules/" in name)
        return frozenset(
            row[row.index("modules") + 1] for row in parts if len(row) > row.index("modules") + 1
        )


def read(data: bytes, problems_at: int = 0) -> tuple[Initramfs, tuple[Problem, ...]]:
    """Walk all archives in the file. Args: problems_at: offset that is added to the ones
    reported.
    """
    walk = _Walk()
    kind, at = "cpio", 0
    while at < len(data):
        if not data[at : at + 4].strip(b"\0"):  # archives may be filled up to the next one
            at += 4
            continue
        if data[at : at + 6] in _NEWC:
            used = walk.feed_all(data[at:])
            if used is None:
                return _result(walk, kind), (_cut(problems_at + at, "ends before its trailer"),)
            at += used
            continue
        kind = next((name for magic, name in _KINDS.items() if data.startswith(magic, at)), "")
        if not kind:
            found = hex_preview(data[at : at + 16])
            return _result(walk, ""), (
                Problem("no-archive", problems_at + at, 16, found, "a cpio archive"),
            )
        return _packed(walk, kind, data[at:], problems_at + at)
    if not walk.archives:
        return _result(walk, ""), (
            Problem("empty", problems_at, len(data), "nothing but 00", "a cpio archive"),
        )
    return _result(walk, kind), ()


def _packed(
    walk: "_Walk", kind: str, data: bytes, at: int
) -> tuple[Initramfs, tuple[Problem, ...]]:
    make = _UNPACKERS.get(kind)
    if make is None:
        return _result(walk, kind, f"It is packed with {kind}, which is not unpacked here."), ()
    try:
        for block in make(data):
            walk.feed(block)
            if walk.total > MOST_BYTES:
                return _result(walk, kind, "It unpacks to more than is looked at."), ()
    except (zlib.error, lzma.LZMAError, EOFError, OSError, ValueError, RuntimeError) as error:
        return _result(walk, kind), (_cut(at, f"cannot be unpacked ({kind}): {error}"),)
    if walk.broken or not walk.closed:
        return _result(walk, kind), (_cut(at, "ends before its trailer"),)
    return _result(walk, kind), ()


def _cut(at: int, found: str) -> Problem:
    return Problem("cut-short", at, 0, found, "an archive up to its trailer")


def _result(walk: "_Walk", kind: str, unchecked: str = "") -> Initramfs:
    return Initramfs(kind, frozenset(walk.names), walk.archives, unchecked, walk.kept)


class _Walk:
    """Walks newc archives block by block; only heads and names are kept."""

    def __init__(self) -> None:
        self.names: set[str] = set()
        self.kept: dict[str, bytes] = {}
        self.archives = self.total = 0
        self.closed = self.broken = False
        self._buffer = bytearray()
        self._skip = 0

    def feed(self, block: bytes) -> None:
        """Take some more bytes."""
        self.total += len(block)
        skipped = min(self._skip, len(block))
        self._skip -= skipped
        self._buffer += memoryview(block)[skipped:]
        while not self.broken and not self._skip and self._entry():
            pass

    def feed_all(self, data: bytes) -> int | None:
        """Take an archive that lies open; how long it is up to the end of its trailer, None where
        that is missing.
        """
        at = 0
        while at + _HEAD <= len(data):
            sizes = _sizes(data[at : at + _HEAD])
            if sizes is None:
                return None
            name, head = _name(data, at, sizes), _padded(_HEAD + sizes[1])
            if _wanted(name, sizes):
                self._keep(name, data[at + head : at + head + sizes[0]])
            at += head + _padded(sizes[0])
            if name == _TRAILER:
                self.archives += 1
                return at
            if at <= len(data) and len(self.names) < _MOST_NAMES:
                self.names.add(name)
        return None

    def _entry(self) -> bool:
        """One entry off the buffer; False where more bytes are needed."""
        if self.closed:  # another archive may follow behind a filling
            rest = bytes(self._buffer).lstrip(b"\0")
            self._buffer = bytearray(rest)
            if len(rest) < _HEAD:
                return False
            self.closed = False
        if len(self._buffer) < _HEAD:
            return False
        sizes = _sizes(bytes(self._buffer[:_HEAD]))
        if sizes is None:
            self.broken = True
            return False
        if len(self._buffer) < _padded(_HEAD + sizes[1]):
            return False
        name = _name(bytes(self._buffer[: _HEAD + sizes[1]]), 0, sizes)
        head = _padded(_HEAD + sizes[1])
        whole = head + _padded(sizes[0])
        if _wanted(name, sizes):
            if len(self._buffer) < whole:
                return False
            self._keep(name, bytes(self._buffer[head : head + sizes[0]]))
        taken = min(whole, len(self._buffer))
        del self._buffer[:taken]
        self._skip = whole - taken
        if name == _TRAILER:
            self.closed, self.archives = True, self.archives + 1
        elif len(self.names) < _MOST_NAMES:
            self.names.add(name)
        return True

    def _keep(self, name: str, content: bytes) -> None:
        if content and sum(map(len, self.kept.values())) + len(content) <= _MOST_KEPT:
            self.kept[name] = content


def _wanted(name: str, sizes: tuple[int, int]) -> bool:
    return name.rpartition("/")[2] in _KEPT and sizes[0] <= _MOST_KEPT


def _sizes(head: bytes) -> tuple[int, int] | None:
    """Length of the file and of its name, from a head; None where it is none."""
    if head[:6] not in _NEWC:
        return None
    try:
        return int(head[54:62], 16), int(head[94:102], 16)
    except ValueError:
        return None


def _name(data: bytes, at: int, sizes: tuple[int, int]) -> str:
    raw = data[at + _HEAD : at + _HEAD + min(sizes[1], 4096)]
    return raw.split(b"\0", 1)[0].decode("utf-8", errors="replace").removeprefix("./").lstrip("/")


def _padded(length: int) -> int:
    return -(-length // 4) * 4


def _gzip(data: bytes) -> Iterator[bytes]:
    unpack = zlib.decompressobj(wbits=31)
    yield from _blocks(unpack.decompress, data)
    if not unpack.eof:
        raise EOFError("it ends in the middle")


def _xz(data: bytes) -> Iterator[bytes]:
    unpack = lzma.LZMADecompressor()
    yield from _blocks(unpack.decompress, data)
    if not unpack.eof:
        raise EOFError("it ends in the middle")


def _zstd(data: bytes) -> Iterator[bytes]:
    unpack = load_unpacker("zstandard").ZstdDecompressor().decompressobj()
    try:
        yield from _blocks(unpack.decompress, data)
    except Exception as error:  # the library's own error class, known only once it is loaded
        raise ValueError(str(error)) from error
    if not unpack.eof:
        raise EOFError("it ends in the middle")


def _lz4(data: bytes) -> Iterator[bytes]:
    """The legacy frame that the kernel reads: blocks with their length in front, 8 MiB unpacked
    each.
    """
    block = load_unpacker("lz4.block")
    at = 4
    while at + 4 <= len(data):
        length = int.from_bytes(data[at : at + 4], "little")
        if not length or at + 4 + length > len(data):
            if length and data[at : at + 4].strip(b"\0"):
                raise EOFError("it ends in the middle")
            return
        packed = data[at + 4 : at + 4 + length]
        try:
            plain = block.decompress(packed, uncompressed_size=8 << 20)
        except block.LZ4BlockError as error:
            raise ValueError(str(error)) from error
        yield plain
        at += 4 + length


def _blocks(unpack: Callable[[bytes], bytes], data: bytes) -> Iterator[bytes]:
    for at in range(0, len(data), _STEP):
        yield unpack(data[at : at + _STEP])


_UNPACKERS: dict[str, Callable[[bytes], Iterator[bytes]]] = {
    "gzip": _gzip,
    "xz": _xz,
    "lzma": _xz,
    "zstd": _zstd,
    "lz4": _lz4,
}
