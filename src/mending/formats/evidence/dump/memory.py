"""The memory that a dump of the whole system, or of its kernel, holds: pages found by their number,
addresses translated as the processor does, and the list of drivers walked.

Behind the header lie either runs of pages, one behind the other, or a bitmap of all pages, with a
bit for each that is there. An address is four indexes into tables of 512 entries and a place in the
page; an entry may name a large page instead of a table.

Sources: as of the header; Intel 64 and IA-32 Architectures Software Developer's Manual, volume 3A,
4.5 (4-level paging); the published layout of the list of loaded modules.
"""

from collections.abc import Callable

import msgspec

from mending.model import clean_text

Reader = Callable[[int, int], bytes]
"""Bytes of the file: offset, length; fewer at its end."""
PAGE = 4096
_HEADER = 0x2000
_TABLES, _RUN_COUNT, _FIRST_RUN = 0x10, 0x88, 0x98
_RUN_BYTES, _MOST_RUNS = 16, 64
_BITMAP_KINDS, _RUN_KINDS = {5, 6}, {1}
_FIRST_PAGE, _BITS, _BITMAP = 0x20, 0x30, 0x38
_MOST_BITMAP, _CHUNK = 64 << 20, 4096
_PRESENT, _LARGE, _ADDRESS = 1, 1 << 7, 0x000F_FFFF_FFFF_F000
_LEVELS = (39, 30, 21, 12)
_ENTRY_BYTES, _BASE, _SIZE, _NAME, _STAMP = 0xA0, 0x30, 0x40, 0x58, 0x80
_MOST_ENTRIES, _NAME_BYTES = 2048, 520


class Entry(msgspec.Struct, frozen=True):
    """A row of the list: file name, address, bytes, and time of its build."""

    name: str
    base: int
    bytes: int
    built: int


class DumpMemory:
    """The memory in a dump.

    Args:
        reader: gives bytes of the file.
        kind: number of the kind of dump, as its header has it.
    """

    def __init__(self, reader: Reader, kind: int) -> None:
        self._reader = reader
        head = reader(0, _HEADER).ljust(_HEADER, b"\0")
        self._tables = _number(head, _TABLES, 8) & _ADDRESS
        self._runs = _runs(head) if kind in _RUN_KINDS else []
        self._first_page, self._bits = 0, b""
        self._before: list[int] = []
        if kind in _BITMAP_KINDS:
            self._read_bitmap()

    @property
    def is_read(self) -> bool:
        """Whether pages can be found at all."""
        return bool(self._tables) and bool(self._runs or self._bits)

    def _read_bitmap(self) -> None:
        block = self._reader(_HEADER, _BITMAP)
        self._first_page, count = _number(block, _FIRST_PAGE, 8), _number(block, _BITS, 8)
        length = min(-(-count // 8), _MOST_BITMAP)
        self._bits = self._reader(_HEADER + _BITMAP, length) if block[4:8] == b"DUMP" else b""
        total = 0
        for at in range(0, len(self._bits), _CHUNK):
            self._before.append(total)
            total += int.from_bytes(self._bits[at : at + _CHUNK], "little").bit_count()

    def _place(self, page: int) -> int | None:
        """Where a page of memory is in the file; None where it is not."""
        if self._bits:
            byte, bit = divmod(page, 8)
            if byte >= len(self._bits) or not self._bits[byte] >> bit & 1:
                return None
            start = byte // _CHUNK * _CHUNK
            inside = int.from_bytes(self._bits[start:byte], "little").bit_count()
            inside += (self._bits[byte] & (1 << bit) - 1).bit_count()
            return self._first_page + (self._before[byte // _CHUNK] + inside) * PAGE
        before = 0
        for first, count in self._runs:
            if first <= page < first + count:
                return _HEADER + (before + page - first) * PAGE
            before += count
        return None

    def physical(self, at: int, length: int) -> bytes:
        """Bytes inside one page by their address in memory; none where the dump has not got it."""
        place = self._place(at // PAGE)
        if place is None:
            return b""
        return self._reader(place + at % PAGE, min(length, PAGE - at % PAGE))

    def translated(self, address: int) -> int | None:
        """The address in memory of one of the kernel's; None where nothing is there."""
        table = self._tables
        for shift in _LEVELS:
            row = self.physical(table + (address >> shift & 511) * 8, 8)
            entry = _number(row, 0, 8)
            if len(row) < 8 or not entry & _PRESENT:
                return None
            table = entry & _ADDRESS
            if shift in _LEVELS[1:3] and entry & _LARGE:
                size = 1 << shift
                return (table & ~(size - 1)) + (address & size - 1)
        return table + address % PAGE

    def read(self, address: int, length: int) -> bytes:
        """Bytes by an address of the kernel; fewer where a page is not there."""
        found = b""
        while length > 0:
            at = self.translated(address)
            data = self.physical(at, length) if at is not None else b""
            if not data:
                break
            found += data
            address, length = address + len(data), length - len(data)
        return found

    def modules(self, head: int) -> tuple[Entry, ...]:
        """The list of loaded drivers, as far as the dump holds it; damage ends it.

        Args:
            head: address of its head.
        """
        found = list[Entry]()
        at, seen = _number(self.read(head, 8), 0, 8), {head}
        while at not in seen and at and len(found) < _MOST_ENTRIES:
            seen.add(at)
            row = self.read(at, _ENTRY_BYTES)
            if len(row) < _ENTRY_BYTES:
                break
            length, place = _number(row, _NAME, 2), _number(row, _NAME + 8, 8)
            name = self.read(place, min(length, _NAME_BYTES)).decode("utf-16-le", "replace")
            found.append(
                Entry(
                    clean_text(name, 80) or "no name",
                    _number(row, _BASE, 8),
                    _number(row, _SIZE, 4),
                    _number(row, _STAMP, 4),
                )
            )
            at = _number(row, 0, 8)
        return tuple(found)


def _runs(head: bytes) -> list[tuple[int, int]]:
    """First page and number of pages of each run."""
    count = _number(head, _RUN_COUNT, 4)
    rows = range(min(count, _MOST_RUNS))
    places = ((_FIRST_RUN + row * _RUN_BYTES) for row in rows)
    return [(_number(head, at, 8), _number(head, at + 8, 8)) for at in places]


def _number(data: bytes, at: int, width: int) -> int:
    return int.from_bytes(data[at : at + width], "little")
