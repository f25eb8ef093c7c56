"""On-disk structures as plain rows. The same rows read, patch and show."""

import struct
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from mending.model.data.window import Window
from mending.model.problems import Problem

R = TypeVar("R")

_CODES = {
    ("u", 1): "<B",
    ("u", 2): "<H",
    ("u", 4): "<I",
    ("u", 8): "<Q",
    ("s", 1): "<b",
    ("U", 2): ">H",
    ("U", 4): ">I",
}


@dataclass(frozen=True, slots=True)
class Field:
    """One row of a layout.

    Attributes:
        name: attribute of the record that holds the value.
        offset: bytes from the start of the structure.
        width: bytes.
        kind: `u` unsigned little-endian, `U` unsigned big-endian, `s` signed little-endian, `bytes`
            as they are.
        unit: what the number counts; empty for names and flags.
        meaning: one phrase for people.
    """

    name: str
    offset: int
    width: int
    kind: str
    unit: str
    meaning: str

    def decode(self, data: bytes) -> int | bytes:
        """The value in `data`, which is exactly `width` bytes long."""
        if self.kind == "bytes":
            return data
        value: int = struct.unpack(_CODES[self.kind, self.width], data)[0]
        return value

    def encode(self, value: int | bytes) -> bytes:
        """`value` as `width` bytes; shorter byte strings are filled with NULs."""
        if isinstance(value, bytes):
            if len(value) > self.width:
                raise ValueError(f"{self.name} holds {self.width} bytes, not {len(value)}")
            return value.ljust(self.width, b"\0")
        return struct.pack(_CODES[self.kind, self.width], value)


class Layout(Generic[R]):
    """Rows that together describe one structure and the record they fill.

    Args:
        record: class whose keyword arguments are the names of the rows.
        size: length of the whole structure in bytes.
        rows: the fields; gaps are allowed, and are kept as they are when patching.
    """

    def __init__(self, record: type[R], size: int, rows: Iterable[Field]) -> None:
        self.record = record
        self.size = size
        self.rows: Mapping[str, Field] = {row.name: row for row in rows}
        self._names, self._struct = _compiled(self.rows.values(), size)

    def read(self, window: Window, at: int = 0) -> R:
        """The record at `at`.

        Raises:
            InputError: the window is too short.
        """
        data = window.take(at, self.size)
        if self._struct is not None:
            values = self._struct.unpack(data)
            return self.record(**dict(zip(self._names, values, strict=True)))
        found: dict[str, Any] = {
            row.name: row.decode(data[row.offset : row.offset + row.width])
            for row in self.rows.values()
        }
        return self.record(**found)

    def patch(self, data: bytes, **values: int | bytes) -> bytes:
        """`data` with some fields changed; everything between the rows stays."""
        out = bytearray(data.ljust(self.size, b"\0"))
        for name, value in values.items():
            row = self.rows[name]
            out[row.offset : row.offset + row.width] = row.encode(value)
        return bytes(out)

    def encode(self, record: R) -> bytes:
        """The structure that reads back as `record`; gaps are NUL."""
        return self.patch(b"", **{name: getattr(record, name) for name in self.rows})

    def span(self, name: str, base: int = 0) -> tuple[int, int]:
        """Absolute offset and width of one field of a structure that starts at `base`."""
        return base + self.rows[name].offset, self.rows[name].width

    def wrong(self, name: str, base: int, code: str, found: object, expected: str) -> Problem:
        """A problem with one field of a structure that starts at absolute offset `base`."""
        at, width = self.span(name, base)
        return Problem(code, at, width, str(found), expected)


def _compiled(rows: Iterable[Field], size: int) -> tuple[list[str], struct.Struct | None]:
    """All rows as one format, which reads ten times as fast; None where rows overlap or differ in
    their byte order.
    """
    names, codes, at = [], "<", 0
    for row in sorted(rows, key=lambda row: row.offset):
        code = f"{row.width}s" if row.kind == "bytes" else _CODES[row.kind, row.width]
        if row.offset < at or code.startswith(">"):
            return [], None
        codes += f"{row.offset - at}x{code.removeprefix('<')}"
        names.append(row.name)
        at = row.offset + row.width
    return names, struct.Struct(f"{codes}{size - at}x") if at <= size else None
