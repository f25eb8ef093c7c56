"""Kernel dumps of the nt family: the header that every kind begins with, and what small dumps carry
behind it.

Sources: QEMU 7.2, its header for dumps of this family in `include/qemu` (headers of 32 and 64 bits,
kinds); the maker's published debugger headers (layout of small dumps, rows of the driver list,
names in the string pool).
"""

from collections.abc import Callable, Sequence
from itertools import product

import msgspec

from mending.model import Problem, Reading, Window, clean_text
from mending.model.data import unix_seconds

# The memory that a dump of the whole system, or of its kernel, holds: pages found by their number,
# addresses translated as the processor does, and the list of drivers walked.
#
# Behind the header lie either runs of pages, one behind the other, or a bitmap of all pages, with a
# bit for each that is there. An address is some indexes into tables and a place in the page; an
# entry may name a large page instead of a table. Processors of 64 bits have four tables of 512
# entries. Those of 32 bits have two of 1,024 short entries, or, where the header says that
# addresses of memory are longer, one of 4 and two of 512.
#
# Where the words before the bitmap of an older kernel dump, or of one of 32 bits, stand is
# published nowhere. They are found by what must hold: the pages reach from where they begin to the
# end of the file, and the bitmap, before them, has as many bits set as there are pages. What does
# not fit so is not read.
#
# Sources: as of the header; Intel 64 and IA-32 Architectures Software Developer's Manual, volume
# 3A, 4.3 (32-bit paging), 4.4 (PAE paging), 4.5 (4-level paging); the published layout of the list
# of loaded modules.


Reader = Callable[[int, int], bytes]
"""Bytes of the file: offset, length; fewer at its end."""
PAGE = 4096
_TABLES, _LONGER_ADDRESSES = 0x10, 0x5C
_MOST_RUNS = 64
_BITMAP_KINDS, _OLDER_KINDS, _RUN_KINDS = {5, 6}, {2}, {1}
_WORDS = range(8, 0x60, 4)
"""Where words that describe a bitmap are looked for, behind the marks of its block; it begins
behind some of them."""
_FIRST_PAGE, _BITS, _BITMAP = 0x20, 0x30, 0x38
_MOST_BITMAP, _CHUNK = 64 << 20, 4096
_MOST_SEARCHED, _MOST_TRIES = 4 << 20, 128
_PRESENT, _LARGE, _ADDRESS = 1, 1 << 7, 0x000F_FFFF_FFFF_F000
_ADDRESS_BITS = (1 << 52) - 1
_MOST_ENTRIES, _NAME_BYTES = 2048, 520


class Entry(msgspec.Struct, frozen=True):
    """A row of the list: file name, address, bytes, and time of its build."""

    name: str
    base: int
    bytes: int
    built: int


class _Paging(msgspec.Struct, frozen=True, kw_only=True):
    """How addresses are translated: for each table the lowest bit of its index and how many bits
    that has; bytes of an entry; the levels whose entries may name a large page.
    """

    levels: tuple[tuple[int, int], ...]
    entry: int
    large: tuple[int, ...]


class _Layout(msgspec.Struct, frozen=True, kw_only=True):
    """Where the fields of one width are: in the header, and in a row of the list of drivers."""

    word: int
    header: int
    run_count: int
    first_run: int
    row: int
    base: int
    size: int
    name: int
    stamp: int


_FOUR_LEVELS = _Paging(levels=((39, 9), (30, 9), (21, 9), (12, 9)), entry=8, large=(30, 21))
_TWO_LEVELS = _Paging(levels=((22, 10), (12, 10)), entry=4, large=(22,))
_LONGER = _Paging(levels=((30, 2), (21, 9), (12, 9)), entry=8, large=(21,))
_WIDE = _Layout(
    word=8,
    header=0x2000,
    run_count=0x88,
    first_run=0x98,
    row=0xA0,
    base=0x30,
    size=0x40,
    name=0x58,
    stamp=0x80,
)
_NARROW = _Layout(
    word=4,
    header=0x1000,
    run_count=0x64,
    first_run=0x6C,
    row=0x48,
    base=0x18,
    size=0x20,
    name=0x2C,
    stamp=0x44,
)


class DumpMemory:
    """The memory in a dump.

    Args:
        reader: gives bytes of the file.
        kind: number of the kind of dump, as its header has it.
        bits: 64 or 32.
        size: of the file, in bytes; older kinds of kernel dumps are not read without.
    """

    def __init__(self, reader: Reader, kind: int, bits: int = 64, size: int = 0) -> None:
        self._reader = reader
        self._layout = _WIDE if bits == 64 else _NARROW
        head = reader(0, self._layout.header).ljust(self._layout.header, b"\0")
        self._paging, lowest = _FOUR_LEVELS, PAGE
        if bits == 32:
            longer = head[_LONGER_ADDRESSES] == 1
            self._paging, lowest = (_LONGER, 32) if longer else (_TWO_LEVELS, PAGE)
        self._tables = _number(head, _TABLES, self._layout.word) & _ADDRESS_BITS & -lowest
        self._runs = _runs(head, self._layout) if kind in _RUN_KINDS else []
        self._first_page, self._bits = 0, b""
        self._before: list[int] = []
        if kind in _BITMAP_KINDS and bits == 64:
            self._read_bitmap()
        elif kind in _BITMAP_KINDS | _OLDER_KINDS:
            self._find_bitmap(size)

    @property
    def is_read(self) -> bool:
        """Whether pages can be found at all."""
        return bool(self._tables) and bool(self._runs or self._bits)

    def _read_bitmap(self) -> None:
        start = self._layout.header
        block = self._reader(start, _BITMAP)
        self._first_page, count = _number(block, _FIRST_PAGE, 8), _number(block, _BITS, 8)
        length = min(-(-count // 8), _MOST_BITMAP)
        self._bits = self._reader(start + _BITMAP, length) if block[4:8] == b"DUMP" else b""
        self._count()

    def _find_bitmap(self, size: int) -> None:
        start = self._layout.header
        block = self._reader(start, _WORDS.stop)
        if block[4:8] != b"DUMP":
            return
        words = sorted({_number(block, at, 4) for at in _WORDS})
        for first, pages in product(words, words):
            if start < first < size and pages and first + pages * PAGE == size:
                space = self._reader(start, min(first - start, _MOST_SEARCHED))
                bits = _with_so_many(space, pages, words)
                if bits:
                    self._first_page, self._bits = first, bits
                    self._count()
                    return

    def _count(self) -> None:
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
                return self._layout.header + (before + page - first) * PAGE
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
        table, paging = self._tables, self._paging
        for shift, width in paging.levels:
            index = address >> shift & (1 << width) - 1
            row = self.physical(table + index * paging.entry, paging.entry)
            entry = _number(row, 0, paging.entry)
            if len(row) < paging.entry or not entry & _PRESENT:
                return None
            table = entry & _ADDRESS
            if shift in paging.large and entry & _LARGE:
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
        layout, word = self._layout, self._layout.word
        found = list[Entry]()
        at, seen = _number(self.read(head, word), 0, word), {head}
        while at not in seen and at and len(found) < _MOST_ENTRIES:
            seen.add(at)
            row = self.read(at, layout.row)
            if len(row) < layout.row:
                break
            length, place = _number(row, layout.name, 2), _number(row, layout.name + word, word)
            name = self.read(place, min(length, _NAME_BYTES)).decode("utf-16-le", "replace")
            found.append(
                Entry(
                    clean_text(name, 80) or "no name",
                    _number(row, layout.base, word),
                    _number(row, layout.size, 4),
                    _number(row, layout.stamp, 4),
                )
            )
            at = _number(row, 0, word)
        return tuple(found)


def _with_so_many(space: bytes, pages: int, words: Sequence[int]) -> bytes:
    """The bitmap in a block that has a bit set for each page; empty where there is none.

    Args:
        words: one of them counts its bits.
    """
    lengths = {-(-count // 8) for count in words if count >= pages}
    fitting = [(at, length) for at in _WORDS for length in lengths if at + length <= len(space)]
    for at, length in fitting[:_MOST_TRIES]:
        bits = space[at : at + length]
        if int.from_bytes(bits, "little").bit_count() == pages:
            return bits
    return b""


def _runs(head: bytes, layout: _Layout) -> list[tuple[int, int]]:
    """First page and number of pages of each run."""
    word = layout.word
    rows = range(min(_number(head, layout.run_count, 4), _MOST_RUNS))
    places = ((layout.first_run + row * 2 * word) for row in rows)
    return [(_number(head, at, word), _number(head, at + word, word)) for at in places]


def _number(data: bytes, at: int, width: int) -> int:
    return int.from_bytes(data[at : at + width], "little")


_PAGE, _HEADER_WIDE, _HEADER_NARROW = b"PAGE", b"DU64", b"DUMP"
HEAD_BYTES = 0x2000
"""The longer of the two headers, in bytes; the other is half of it."""
_SMALL_BYTES = 0x50
_KINDS = {1: "full", 2: "kernel", 4: "small", 5: "full", 6: "kernel"}
_TICKS = 10_000_000
_STACK_READ = 4 * PAGE
"""Bytes of the stack of a larger dump."""
_MOST_DRIVERS, _MOST_STACK, _NAME_CHARS = 2048, 64 * 1024, 260
_UNSET = (b"PAGE", b"EGAP")


class Shape(msgspec.Struct, frozen=True, kw_only=True):
    """Where the fields of one width are: offsets in bytes from the start of the file, of a row, or
    of a saved state.
    """

    word: int
    header: int
    modules: int
    machine: int
    code: int
    parameters: int
    context: int
    exception: int
    exception_address: int
    kind: int
    needed: int
    time: int
    uptime: int
    instruction: int
    stack_pointer: int
    row: int
    row_base: int
    row_size: int
    row_stamp: int


WIDE = Shape(
    word=8,
    header=0x2000,
    modules=0x20,
    machine=0x30,
    code=0x38,
    parameters=0x40,
    context=0x348,
    exception=0xF00,
    exception_address=0x10,
    kind=0xF98,
    needed=0xFA0,
    time=0xFA8,
    uptime=0x1030,
    instruction=0xF8,
    stack_pointer=0x98,
    row=0x90,
    row_base=0x38,
    row_size=0x48,
    row_stamp=0x88,
)
NARROW = Shape(
    word=4,
    header=0x1000,
    modules=0x18,
    machine=0x20,
    code=0x28,
    parameters=0x2C,
    context=0x320,
    exception=0x7D0,
    exception_address=0x0C,
    kind=0xF88,
    needed=0xFA0,
    time=0xFC0,
    uptime=0xFB8,
    instruction=0xB8,
    stack_pointer=0xC4,
    row=0x4C,
    row_base=0x1C,
    row_size=0x24,
    row_stamp=0x48,
)


class Driver(msgspec.Struct, frozen=True):
    """A loaded driver: file name, address of its first byte, length in bytes, build time in Unix
    seconds (or 0).
    """

    name: str
    base: int
    bytes: int
    built: int


class Dump(msgspec.Struct, frozen=True, kw_only=True):
    """What a dump says of the crash.

    Attributes:
        bits: 32 or 64.
        kind: `full`, `kernel`, `small`, or `unknown`.
        code: the stop code, and its four parameters.
        at: of the crash, in Unix seconds; None where it was not written.
        uptime: seconds since the start; None where it was not written.
        build: number of the system's build. processors: how many.
        exception: code of the exception behind it, and its address; None where there was none.
        instruction: what the processor was about to do, an address; None where it was not saved.
        drivers: in the order in which they were loaded, as far as the dump holds the list.
        stack: words of the stack from its top.
        stack_at: where in the file they begin, of a small dump.
    """

    bits: int
    kind: str
    code: int
    parameters: tuple[int, int, int, int]
    at: float | None
    uptime: float | None
    build: int
    processors: int
    exception: tuple[int, int] | None
    instruction: int | None
    drivers: tuple[Driver, ...] = ()
    stack: tuple[int, ...] = ()
    stack_at: int = 0


def is_dump(head: bytes) -> bool:
    """Whether a file begins as a dump does."""
    return head[:4] == _PAGE and head[4:8] in {_HEADER_WIDE, _HEADER_NARROW}


def read(reader: Reader, size: int) -> Reading[Dump] | None:
    """The dump in a file; None where it is none. Only the header and what it leads
    to are read.

    Args:
        reader: gives bytes of the file.
        size: of the file, in bytes.
    """
    head = Window(reader(0, HEAD_BYTES))
    if not is_dump(head.data):
        return None
    shape = WIDE if head.data[4:8] == _HEADER_WIDE else NARROW
    problems: list[Problem] = []
    if len(head) < shape.header:
        problems.append(
            Problem("dump-cut", len(head), 0, f"{len(head)} bytes", f"a header of {shape.header}")
        )
    dump = _header(Window(head.data.ljust(HEAD_BYTES, b"\0")), shape)
    if not any(head.data[8 : shape.header]):
        problems.append(Problem("dump-blank", 8, shape.header - 8, "only zeros", "a header"))
    needed = _header_number(head.data.ljust(HEAD_BYTES, b"\0"), shape.needed, 8)
    if shape.header <= len(head) and size < needed < 1 << 48:
        problems.append(Problem("dump-cut", size, 0, f"{size} bytes", f"{needed} bytes"))
    if dump.kind in {"full", "kernel"}:
        dump = _with_memory(dump, head.data.ljust(HEAD_BYTES, b"\0"), reader, size, shape)
    if dump.kind == "small" and size > shape.header:
        dump = _with_small(dump, reader, size, shape, problems)
    return Reading(dump, tuple(problems))


def _header(head: Window, shape: Shape) -> Dump:
    data, word = head.data, shape.word
    ticks, running = _header_number(data, shape.time, 8), _header_number(data, shape.uptime, 8)
    unset = {int.from_bytes(mark * 2, "little") for mark in _UNSET} | {0}
    seconds = unix_seconds(ticks)
    exception = (
        _header_number(data, shape.exception, 4),
        _header_number(data, shape.exception + shape.exception_address, word),
    )
    saved = data[shape.context : shape.context + 0x100]
    instruction = _header_number(data, shape.context + shape.instruction, word)
    p1, p2, p3, p4 = (
        _header_number(data, shape.parameters + word * number, word) for number in range(4)
    )
    return Dump(
        bits=word * 8,
        kind=_KINDS.get(_header_number(data, shape.kind, 4), "unknown"),
        code=_header_number(data, shape.code, 4),
        parameters=(p1, p2, p3, p4),
        at=seconds if ticks not in unset and 0 < seconds < 1 << 33 else None,
        uptime=running / _TICKS if running not in unset and running < 1 << 53 else None,
        build=_header_number(data, 0x0C, 4),
        processors=_header_number(data, shape.machine + 4, 4),
        exception=(
            exception
            if exception[0] and data[shape.exception : shape.exception + 4] not in _UNSET
            else None
        ),
        instruction=instruction if any(saved) and saved[:4] not in _UNSET else None,
    )


def _with_memory(dump: Dump, head: bytes, reader: Reader, size: int, shape: Shape) -> Dump:
    """The driver list and the stack, as far as the dump holds their pages."""
    word = shape.word
    memory = DumpMemory(reader, _header_number(head, shape.kind, 4), dump.bits, size)
    if not memory.is_read:
        return dump
    rows = memory.modules(_header_number(head, shape.modules, word))
    pointer = _header_number(head, shape.context + shape.stack_pointer, word)
    data = memory.read(pointer, _STACK_READ) if dump.instruction else b""
    words = [_header_number(data, at, word) for at in range(0, len(data) - word + 1, word)]
    drivers = tuple(Driver(row.name, row.base, row.bytes, row.built) for row in rows)
    return msgspec.structs.replace(dump, drivers=drivers, stack=tuple(words))


def _with_small(
    dump: Dump, reader: Reader, size: int, shape: Shape, problems: list[Problem]
) -> Dump:
    """The driver list and the stack, as far as they lie inside the file."""
    block = reader(shape.header, _SMALL_BYTES).ljust(_SMALL_BYTES, b"\0")
    stack_at, stack_bytes, list_at, count = (
        _header_number(block, at, 4) for at in (0x28, 0x2C, 0x30, 0x34)
    )
    room = max(size - list_at, 0) // shape.row if shape.header <= list_at else 0
    if count > min(room, _MOST_DRIVERS):
        problems.append(
            Problem(
                "dump-list",
                shape.header + 0x34,
                4,
                f"{count} drivers",
                f"at most {room} in the file",
            )
        )
    rows = reader(list_at, min(count, room, _MOST_DRIVERS) * shape.row) if room else b""
    drivers = [
        _driver(rows[at : at + shape.row], reader, shape) for at in range(0, len(rows), shape.row)
    ]
    inside = (
        min(stack_bytes, _MOST_STACK, max(size - stack_at, 0)) if shape.header <= stack_at else 0
    )
    if stack_bytes and not inside:
        problems.append(
            Problem(
                "dump-stack", shape.header + 0x28, 8, f"offset {stack_at}", "a place in the file"
            )
        )
    data = reader(stack_at, inside) if inside else b""
    words = [
        _header_number(data, at, shape.word)
        for at in range(0, len(data) - shape.word + 1, shape.word)
    ]
    named = tuple(driver for driver in drivers if driver is not None)
    return msgspec.structs.replace(
        dump, drivers=named, stack=tuple(words), stack_at=stack_at if inside else 0
    )


def _driver(row: bytes, reader: Reader, shape: Shape) -> Driver | None:
    """One row; the name is in the string pool: its length in characters, then UTF-16."""
    if len(row) < shape.row:
        return None
    name_at = _header_number(row, 0, 4)
    chars = min(_header_number(reader(name_at, 4).ljust(4, b"\0"), 0, 4), _NAME_CHARS)
    text = reader(name_at + 4, chars * 2).decode("utf-16-le", errors="replace")
    name = clean_text(text.split("\0", 1)[0], 80)
    return Driver(
        name.replace("\\", "/").rpartition("/")[2] or "no name",
        _header_number(row, shape.row_base, shape.word),
        _header_number(row, shape.row_size, 4),
        _header_number(row, shape.row_stamp, 4),
    )


def _header_number(data: bytes, at: int, width: int) -> int:
    return int.from_bytes(data[at : at + width], "little")


# The memory of a Linux kernel that crashed, as its crash tools keep it. Only known by how it
# begins, so that nobody takes it for a log.
#
# Source: makedumpfile(8) and its IMPLEMENTATION document (both formats of its own and the flattened
# one); ELF gABI 4.1, "ELF Header" (`e_type` of a core file).


_SIGNS = (b"KDUMP   ", b"DISKDUMP", b"makedumpfile\0")
_ELF, _CORE = b"\x7fELF", 4


def is_core(head: bytes) -> bool:
    """Whether a file begins as such a memory image does."""
    return head.startswith(_SIGNS) or (
        head.startswith(_ELF) and int.from_bytes(head[16:18], "little") == _CORE
    )
