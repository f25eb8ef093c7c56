"""Programs of Linux systems: the ELF header, and the loader that a program asks for.

Source: System V ABI, edition 4.1, chapter 4 "ELF Header" and chapter 5 "Program Header"; e_machine
by its registry.
"""

import struct

import msgspec

from mending.model import Problem, Reading, Window

HEAD_BYTES = 4096
"""How much of a program has to be seen: linkers put header, program headers and the loader's name
in its first page.
"""
MAGIC = b"\x7fELF"
X86 = frozenset({0x03, 0x3E})
"""Machine types that a PC runs, of 32 and of 64 bits."""
_CLASS_64 = 2
_HEADER_32, _HEADER_64 = 32, 56
"""Bytes of a program header."""
_INTERPRETER = 3
_MOST_HEADERS = 64


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
    if len(data) < 64 or not data.startswith(MAGIC):
        found = data[:4].hex(" ") or "nothing"
        return Reading(
            Program(0, ""), (Problem("no-header", window.offset, 4, found, MAGIC.hex(" ")),)
        )
    wide = data[4] == _CLASS_64
    machine = int.from_bytes(data[18:20], "little")
    table, size, count = (
        (*struct.unpack_from("<Q", data, 32), *struct.unpack_from("<HH", data, 54))
        if wide
        else (*struct.unpack_from("<I", data, 28), *struct.unpack_from("<HH", data, 42))
    )
    for number in range(min(count, _MOST_HEADERS)):
        length = _HEADER_64 if wide else _HEADER_32
        row = data[table + number * size : table + number * size + length]
        if len(row) == length and int.from_bytes(row[:4], "little") == _INTERPRETER:
            return _with_interpreter(window, machine, row, wide)
    return Reading(Program(machine, ""), ())


def _with_interpreter(window: Window, machine: int, row: bytes, wide: bool) -> Reading[Program]:
    offset, length = (
        (*struct.unpack_from("<Q", row, 8), *struct.unpack_from("<Q", row, 32))
        if wide
        else (*struct.unpack_from("<I", row, 4), *struct.unpack_from("<I", row, 16))
    )
    raw = window.data[offset : offset + min(length, 256)]
    if not raw:
        problem = Problem(
            "interpreter-outside", window.offset + min(offset, 2**62), 0, f"at {offset}", "a path"
        )
        return Reading(Program(machine, ""), (problem,))
    return Reading(Program(machine, raw.split(b"\0")[0].decode("utf-8", errors="replace")), ())
