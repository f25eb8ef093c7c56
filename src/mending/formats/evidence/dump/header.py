"""Kernel dumps of the nt family: the header that every kind begins with, and what small dumps carry
behind it.

Sources: QEMU 7.2, its header for dumps of this family in `include/qemu` (headers of 32 and 64 bits,
kinds); the maker's published debugger headers (layout of small dumps, rows of the driver list,
names in the string pool).
"""

import msgspec

from mending.formats.evidence.dump.memory import PAGE, DumpMemory, Reader
from mending.model import Problem, Reading, Window, clean_text
from mending.model.nt_time import unix_seconds

_PAGE, _WIDE, _NARROW = b"PAGE", b"DU64", b"DUMP"
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
    return head[:4] == _PAGE and head[4:8] in {_WIDE, _NARROW}


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
    shape = WIDE if head.data[4:8] == _WIDE else NARROW
    problems: list[Problem] = []
    if len(head) < shape.header:
        problems.append(
            Problem("dump-cut", len(head), 0, f"{len(head)} bytes", f"a header of {shape.header}")
        )
    dump = _header(Window(head.data.ljust(HEAD_BYTES, b"\0")), shape)
    if not any(head.data[8 : shape.header]):
        problems.append(Problem("dump-blank", 8, shape.header - 8, "only zeros", "a header"))
    needed = _number(head.data.ljust(HEAD_BYTES, b"\0"), shape.needed, 8)
    if shape.header <= len(head) and size < needed < 1 << 48:
        problems.append(Problem("dump-cut", size, 0, f"{size} bytes", f"{needed} bytes"))
    if dump.kind in {"full", "kernel"}:
        dump = _with_memory(dump, head.data.ljust(HEAD_BYTES, b"\0"), reader, size, shape)
    if dump.kind == "small" and size > shape.header:
        dump = _with_small(dump, reader, size, shape, problems)
    return Reading(dump, tuple(problems))


def _header(head: Window, shape: Shape) -> Dump:
    data, word = head.data, shape.word
    ticks, running = _number(data, shape.time, 8), _number(data, shape.uptime, 8)
    unset = {int.from_bytes(mark * 2, "little") for mark in _UNSET} | {0}
    seconds = unix_seconds(ticks)
    exception = (
        _number(data, shape.exception, 4),
        _number(data, shape.exception + shape.exception_address, word),
    )
    saved = data[shape.context : shape.context + 0x100]
    instruction = _number(data, shape.context + shape.instruction, word)
    p1, p2, p3, p4 = (_number(data, shape.parameters + word * number, word) for number in range(4))
    return Dump(
        bits=word * 8,
        kind=_KINDS.get(_number(data, shape.kind, 4), "unknown"),
        code=_number(data, shape.code, 4),
        parameters=(p1, p2, p3, p4),
        at=seconds if ticks not in unset and 0 < seconds < 1 << 33 else None,
        uptime=running / _TICKS if running not in unset and running < 1 << 53 else None,
        build=_number(data, 0x0C, 4),
        processors=_number(data, shape.machine + 4, 4),
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
    memory = DumpMemory(reader, _number(head, shape.kind, 4), dump.bits, size)
    if not memory.is_read:
        return dump
    rows = memory.modules(_number(head, shape.modules, word))
    pointer = _number(head, shape.context + shape.stack_pointer, word)
    data = memory.read(pointer, _STACK_READ) if dump.instruction else b""
    words = [_number(data, at, word) for at in range(0, len(data) - word + 1, word)]
    drivers = tuple(Driver(row.name, row.base, row.bytes, row.built) for row in rows)
    return msgspec.structs.replace(dump, drivers=drivers, stack=tuple(words))


def _with_small(
    dump: Dump, reader: Reader, size: int, shape: Shape, problems: list[Problem]
) -> Dump:
    """The driver list and the stack, as far as they lie inside the file."""
    block = reader(shape.header, _SMALL_BYTES).ljust(_SMALL_BYTES, b"\0")
    stack_at, stack_bytes, list_at, count = (
        _number(block, at, 4) for at in (0x28, 0x2C, 0x30, 0x34)
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
        _number(data, at, shape.word) for at in range(0, len(data) - shape.word + 1, shape.word)
    ]
    named = tuple(driver for driver in drivers if driver is not None)
    return msgspec.structs.replace(
        dump, drivers=named, stack=tuple(words), stack_at=stack_at if inside else 0
    )


def _driver(row: bytes, reader: Reader, shape: Shape) -> Driver | None:
    """One row; the name is in the string pool: its length in characters, then UTF-16."""
    if len(row) < shape.row:
        return None
    name_at = _number(row, 0, 4)
    chars = min(_number(reader(name_at, 4).ljust(4, b"\0"), 0, 4), _NAME_CHARS)
    text = reader(name_at + 4, chars * 2).decode("utf-16-le", errors="replace")
    name = clean_text(text.split("\0", 1)[0], 80)
    return Driver(
        name.replace("\\", "/").rpartition("/")[2] or "no name",
        _number(row, shape.row_base, shape.word),
        _number(row, shape.row_size, 4),
        _number(row, shape.row_stamp, 4),
    )


def _number(data: bytes, at: int, width: int) -> int:
    return int.from_bytes(data[at : at + width], "little")
