"""The bytes of one value on an NTFS volume, from wherever its runs of clusters lie.

A short value stands in the file's record itself. A longer one is a list of runs (first cluster and
count, none for a hole), perhaps in several pieces that have to join without a gap. Behind the
length up to which it was ever written it reads as zeros, whatever lies there. A packed value is cut
into units of usually 16 clusters: a unit with as many clusters as it has is stored as it is, one
with fewer is packed into these, one with none is zeros.
"""

from bisect import bisect_right
from collections.abc import Sequence

from mending.formats.filesystem import lznt1
from mending.formats.filesystem.ntfs_records import COMPRESSED, ENCRYPTED, Attribute
from mending.model import InputError
from mending.source import Source

_STEP = 4 * 1024 * 1024
"""Bytes that are read at a time."""
_MOST_UNPACKED = 8 * 1024 * 1024
"""Packed bytes that are expanded at a time; more would cost seconds."""
_MOST_RUNS = 262_144
"""Runs of one value: a file of a terabyte in pieces of 4 MiB."""


class Stream:
    """One value, read by offset.

    Args:
        volume: absolute offset of the volume. cluster: bytes in a cluster.
        pieces: all pieces of one attribute, in any order.

    Raises:
        InputError: pieces are missing, or there are too many runs.
    """

    def __init__(
        self, source: Source, volume: int, cluster: int, pieces: Sequence[Attribute]
    ) -> None:
        self._source, self._volume, self._cluster = source, volume, cluster
        ordered = sorted(pieces, key=lambda piece: piece.first)
        head = ordered[0]
        self.bytes, self.flags, self.unit = head.bytes, head.flags, head.unit
        self._value = head.value
        self._initialized = min(head.initialized, head.bytes)
        self._starts: list[int] = []
        self._runs: list[tuple[int | None, int]] = []
        at = 0
        for piece in ordered if head.value is None else ():
            if piece.first != at:
                raise InputError(f"its clusters from {at} on are not listed.")
            for cluster_number, count in piece.runs:
                if len(self._runs) >= _MOST_RUNS:
                    raise InputError(f"it lies in more than {_MOST_RUNS} pieces.")
                self._starts.append(at)
                self._runs.append((cluster_number, count))
                at += count
        self._clusters = at

    @property
    def is_packed(self) -> bool:
        """Whether it is kept compressed by the file system."""
        return self._value is None and bool(self.flags & COMPRESSED)

    def extents(self) -> list[tuple[int, int]] | None:
        """Where it lies, offset in the volume and length in bytes; None where its bytes do not
        stand on the disk as they read.
        """
        plain = self._value is None and not self.flags & (COMPRESSED | ENCRYPTED)
        whole = self._initialized >= self.bytes
        if not plain or not whole or any(number is None for number, _ in self._runs):
            return None
        return [
            ((number or 0) * self._cluster, count * self._cluster) for number, count in self._runs
        ]

    def read(self, offset: int, length: int) -> bytes:
        """Bytes of the value, fewer at its end.

        Raises:
            InputError: they are encrypted, packed otherwise than known, or not all listed.
            ReadError: a sector cannot be read.
        """
        length = min(length, self.bytes - offset)
        if length <= 0:
            return b""
        if self._value is not None:
            return self._value[offset : offset + length]
        if self.flags & ENCRYPTED:
            raise InputError("it is encrypted by the file system.")
        written = max(min(length, self._initialized - offset), 0)
        data = self._unpacked(offset, written) if self.is_packed else self._plain(offset, written)
        return data + bytes(length - written)

    def _plain(self, offset: int, length: int) -> bytes:
        parts, size = [], self._cluster
        while length > 0:
            number = bisect_right(self._starts, offset // size) - 1
            if number < 0 or offset >= self._clusters * size:
                raise InputError(f"its clusters from {offset // size} on are not listed.")
            first, count = self._runs[number]
            into = offset - self._starts[number] * size
            step = min(length, count * size - into, _STEP)
            if first is None:
                parts.append(bytes(step))
            else:
                parts.append(self._from_disk(first * size + into, step))
            offset, length = offset + step, length - step
        return b"".join(parts)

    def _from_disk(self, offset: int, length: int) -> bytes:
        data = self._source.read(self._volume + offset, length).data
        if len(data) < length:
            raise InputError("it lies behind the end of the disk.")
        return data

    def _unpacked(self, offset: int, length: int) -> bytes:
        """Units of clusters that are packed together: a packed one ends in a hole, one that could
        not be packed has none, one of zeros is all hole.
        """
        if length > _MOST_UNPACKED:
            raise InputError(f"it is packed, and {length} bytes of it are more than are expanded.")
        unit = self.unit * self._cluster
        parts = [
            self._unit(number, unit)
            for number in range(offset // unit, -(-(offset + length) // unit))
        ]
        into = offset % unit
        return b"".join(parts)[into : into + length]

    def _unit(self, number: int, unit: int) -> bytes:
        kept, at = [], number * self.unit
        end = min(at + self.unit, self._clusters)
        while at < end:
            run = bisect_right(self._starts, at) - 1
            first, count = self._runs[run]
            step = min(end, self._starts[run] + count) - at
            if first is not None:
                kept.append((first + at - self._starts[run], step))
            at += step
        there = sum(count for _, count in kept)
        data = b"".join(
            self._from_disk(first * self._cluster, count * self._cluster) for first, count in kept
        )
        if not kept or there == self.unit:
            return data.ljust(unit, b"\0")
        return lznt1.unpack(data, unit).ljust(unit, b"\0")
