"""Programs of Linux systems: the ELF header, the loader that a program asks for, and the libraries.

Source: System V ABI, edition 4.1, chapter 4 "ELF Header" and chapter 5 "Program Header"
and "Dynamic Linking"; e_machine by its registry.
"""

import struct
from collections.abc import Iterator

import msgspec

from mending.model import Problem, Reading, Window

HEAD_BYTES = 4096
"""How much of a program has to be seen: linkers put header, program headers and the loader's name
in its first page.
"""
MAGIC = b"\x7fELF"
X86 = frozenset({0x03, 0x3E})
"""Machine types that a PC runs, of 32 and of 64 bits."""
_CLASS_64, _HEAD_LEAST = 2, 64
_HEADER_32, _HEADER_64 = 32, 56
"""Bytes of a program header."""
_INTERPRETER = 3
_MOST_HEADERS = 64
_LOADED, _DYNAMIC = 1, 2
_NEEDED, _STRINGS, _OLD_PATH, _PATH = 1, 5, 15, 29
_MOST_ROWS, _MOST_NAME = 4096, 1024


class Program(msgspec.Struct, frozen=True):
    """What the head of a program says. `interpreter` is the path of its loader; empty where it
    needs none.
    """

    machine: int
    interpreter: str


def read(window: Window) -> Reading[Program]:
    """Read the head of a program. Any bytes give a record.

    Args:
        window: the program from its start, `HEAD_BYTES` of it.
    """
    data = window.data
    if len(data) < _HEAD_LEAST or not data.startswith(MAGIC):
        found = data[:4].hex(" ") or "nothing"
        return Reading(
            Program(0, ""), (Problem("no-header", window.offset, 4, found, MAGIC.hex(" ")),)
        )
    wide = data[4] == _CLASS_64
    machine = int.from_bytes(data[18:20], "little")
    for row in _segments(data, wide):
        if row.kind == _INTERPRETER:
            raw = data[row.offset : row.offset + min(row.size, 256)]
            if not raw:
                at = window.offset + min(row.offset, 2**62)
                problem = Problem("interpreter-outside", at, 0, f"at {row.offset}", "a path")
                return Reading(Program(machine, ""), (problem,))
            name = raw.split(b"\0")[0].decode("utf-8", errors="replace")
            return Reading(Program(machine, name), ())
    return Reading(Program(machine, ""), ())


class Linking(msgspec.Struct, frozen=True):
    """What the loader is to do for a program or library.

    Attributes:
        machine: as in its header.
        bits: 32 or 64.
        loaded: bytes of the file up to the end of what is loaded of it.
        libraries: names of the libraries that it needs.
        paths: where it wants them looked for first, in order.
    """

    machine: int
    bits: int
    loaded: int
    libraries: tuple[str, ...] = ()
    paths: tuple[str, ...] = ()


def read_linking(data: bytes) -> Linking | None:
    """What a program or library asks of the loader; None where its head is none. What lies behind
    the end of the data counts as not there.
    """
    if len(data) < _HEAD_LEAST or not data.startswith(MAGIC):
        return None
    wide = data[4] == _CLASS_64
    segments = list(_segments(data, wide))
    loaded = max((row.offset + row.size for row in segments if row.kind == _LOADED), default=0)
    found = Linking(int.from_bytes(data[18:20], "little"), 64 if wide else 32, loaded)
    dynamic = next((row for row in segments if row.kind == _DYNAMIC), None)
    if dynamic is None:
        return found
    code, step = ("<qQ", 16) if wide else ("<iI", 8)
    part = data[dynamic.offset : dynamic.offset + min(dynamic.size, step * _MOST_ROWS)]
    rows = list(struct.iter_unpack(code, part[: len(part) // step * step]))
    strings = next((value for tag, value in rows if tag == _STRINGS), None)
    start = _in_file(segments, strings) if strings is not None else None
    if start is None:
        return found

    def names(wanted: int) -> tuple[str, ...]:
        return tuple(_string(data, start + value) for tag, value in rows if tag == wanted)

    paths = [part for text in names(_PATH) or names(_OLD_PATH) for part in text.split(":")]
    return msgspec.structs.replace(
        found, libraries=tuple(filter(None, names(_NEEDED))), paths=tuple(filter(None, paths))
    )


class _Segment(msgspec.Struct, frozen=True):
    kind: int
    offset: int
    address: int
    size: int


def _segments(data: bytes, wide: bool) -> Iterator[_Segment]:
    table, size, count = (
        (*struct.unpack_from("<Q", data, 32), *struct.unpack_from("<HH", data, 54))
        if wide
        else (*struct.unpack_from("<I", data, 28), *struct.unpack_from("<HH", data, 42))
    )
    length = _HEADER_64 if wide else _HEADER_32
    for number in range(min(count, _MOST_HEADERS)):
        row = data[table + number * size : table + number * size + length]
        if len(row) < length:
            return
        if wide:
            kind, _, offset, address, _, filed = struct.unpack_from("<IIQQQQ", row)
        else:
            kind, offset, address, _, filed = struct.unpack_from("<IIIII", row)
        yield _Segment(kind, offset, address, filed)


def _in_file(segments: list[_Segment], address: int) -> int | None:
    """Where an address of the loaded program stands in the file."""
    for row in segments:
        if row.kind == _LOADED and row.address <= address < row.address + row.size:
            return row.offset + address - row.address
    return None


def _string(data: bytes, at: int) -> str:
    return data[at : at + _MOST_NAME].split(b"\0")[0].decode("utf-8", errors="replace")
