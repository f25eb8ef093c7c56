"""The room for cells in a hive in memory: taken, given back, made by a further bin.

A bin is filled by its cells to the end. A cell begins with its length: below zero where it is in
use. What is given back becomes one with the free cells beside it. Source: the public registry file
format specification, sections "Hive bin" and "Cell".
"""

import struct

from mending.formats.nt.hive_base import BASE_BYTES, BIN_MAGIC, check_bins
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.model import InputError
from mending.model.limits import HIVE_BYTES

_BIN_HEAD, _BIN_STEP = 32, 4096
_LENGTH_AT = 40
"""Of all bins, in the base block."""


class CellSpace:
    """The cells of one hive. Places count from the first bin.

    Args:
        data: the whole file.

    Attributes:
        data: the same as it is now; another object once a bin was added.
    """

    def __init__(self, data: bytes) -> None:
        self.data = bytearray(data)
        self.length = int.from_bytes(data[_LENGTH_AT : _LENGTH_AT + 4], "little")
        self._free: dict[int, int] | None = None

    def capacity(self, at: int) -> int:
        """How many bytes fit into a cell in use."""
        (length,) = struct.unpack_from("<i", self.data, BASE_BYTES + at)
        return -int(length) - 4

    def patch(self, at: int, into: int, raw: bytes) -> None:
        """Bytes in the body of a cell."""
        place = BASE_BYTES + at + 4 + into
        self.data[place : place + len(raw)] = raw

    def take(self, body: bytes) -> int:
        """A cell with this body; the smallest free one that it fits into.

        Raises:
            DamagedHiveError: the bins do not hang together. InputError: there is no room.
        """
        size = -(-(len(body) + 4) // 8) * 8
        free = self._known_free()
        fitting = [at for at, length in free.items() if length >= size]
        at = min(fitting, key=lambda each: (free[each], each)) if fitting else self._add_bin(size)
        left = free.pop(at) - size
        if left:
            self._mark(at + size, left)
            free[at + size] = left
        self._mark(at, -size)
        self.patch(at, 0, body.ljust(size - 4, b"\0"))
        return at

    def put(self, at: int, body: bytes) -> int:
        """Another body for a cell: where it is if it fits, else in a new one; says where."""
        if len(body) <= self.capacity(at):
            self.patch(at, 0, body)
            return at
        self.give(at)
        return self.take(body + bytes(len(body) // 4))  # lists that grow once grow again

    def give(self, at: int) -> None:
        """A cell that is not used any more.

        Raises:
            DamagedHiveError: it is free already: two structures share it.
        """
        free = self._known_free()
        size = self.capacity(at) + 4
        if size < 8 or at in free:
            raise DamagedHiveError(f"the cell at {at} is used twice.")
        size += free.pop(at + size, 0)
        before = next((start for start, length in free.items() if start + length == at), None)
        if before is not None:
            size += free[before]
            at = before
        self._mark(at, size)
        free[at] = size

    def _known_free(self) -> dict[int, int]:
        """The free cells, place and length; told once, when room is first needed."""
        if self._free is None:
            bins = memoryview(self.data)[BASE_BYTES:]
            problems = check_bins(bins, self.length)
            bins.release()
            if problems:
                raise DamagedHiveError(
                    f"its bins are damaged at offset {problems[0].offset} ({problems[0].code})."
                )
            self._free = dict(self._walk())
        return self._free

    def _walk(self) -> list[tuple[int, int]]:
        found, start = [], 0
        while start < self.length:
            (size,) = struct.unpack_from("<I", self.data, BASE_BYTES + start + 8)
            at = start + _BIN_HEAD
            while at < start + size:
                (length,) = struct.unpack_from("<i", self.data, BASE_BYTES + at)
                if length > 0:
                    found.append((at, length))
                at += abs(length)
            start += size
        return found

    def _add_bin(self, size: int) -> int:
        """A bin behind the others, of which one free cell takes up all; says where that is."""
        start, length = self.length, -(-(size + _BIN_HEAD) // _BIN_STEP) * _BIN_STEP
        if BASE_BYTES + start + length > HIVE_BYTES:
            raise InputError("The hive has no room for that.")
        head = struct.pack("<4sII20x", BIN_MAGIC, start, length)
        place, known = BASE_BYTES + start, self._known_free()
        self.data = bytearray(self.data)  # whoever looks at the bytes keeps those from before
        self.data[place : place + length] = head.ljust(length, b"\0")
        self.length += length
        self.data[_LENGTH_AT : _LENGTH_AT + 4] = self.length.to_bytes(4, "little")
        self._mark(start + _BIN_HEAD, length - _BIN_HEAD)
        known[start + _BIN_HEAD] = length - _BIN_HEAD
        return start + _BIN_HEAD

    def _mark(self, at: int, length: int) -> None:
        struct.pack_into("<i", self.data, BASE_BYTES + at, length)
