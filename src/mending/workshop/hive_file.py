"""Writes a settings hive: keys and values from nested tables, in one bin.

Layout: as `formats.nt.hive_base` and `hive_cells` read it; written here on its own, so that a
reader that takes what it writes proves something.
"""

import struct
from collections.abc import Mapping
from typing import Any

_BASE, _BIN_HEAD, _NOTHING = 4096, 32, 0xFFFF_FFFF
_ROOT, _PLAIN_NAME = 0x2C, 0x20
_TEXT, _EXPANDED, _BINARY, _NUMBER, _TEXTS = 1, 2, 3, 4, 7
_SECURITY = bytes.fromhex("010004800000000000000000000000001400000002000800") + bytes(8)
"""A descriptor with an empty list of rights."""


class Expanded(str):
    """Text in which the system puts values for names between per cent signs."""


Value = str | int | bytes | list[str]
Keys = Mapping[str, Any]
"""Names of subkeys (tables) and values (the rest)."""


def hive_bytes(keys: Keys, written: int) -> bytes:
    """A hive that was written to its end.

    Args:
        written: when, in 100 ns since 1601.
    """
    return _Writer(written).hive(keys)


class _Writer:
    def __init__(self, written: int) -> None:
        self._written, self._cells = written, bytearray(_BIN_HEAD)

    def hive(self, keys: Keys) -> bytes:
        self._security = self._cell(
            b"sk" + struct.pack("<HIIII", 0, _BIN_HEAD, _BIN_HEAD, 1, len(_SECURITY)) + _SECURITY
        )
        root = self._key("root", keys, 0, _ROOT)
        length = -(-len(self._cells) // _BASE) * _BASE
        free = length - len(self._cells)
        if free:
            self._cells += struct.pack("<i", free) + bytes(free - 4)
        head = b"hbin" + struct.pack("<II8xQI", 0, length, self._written, 0)
        self._cells[:_BIN_HEAD] = head.ljust(_BIN_HEAD, b"\0")
        base = b"regf" + struct.pack(
            "<IIQIIIIIII", 1, 1, self._written, 1, 5, 0, 1, root, length, 1
        )
        base = base.ljust(508, b"\0")
        total = 0
        for (word,) in struct.iter_unpack("<I", base):
            total ^= word
        return (base + struct.pack("<I", total)).ljust(_BASE, b"\0") + bytes(self._cells)

    def _cell(self, body: bytes) -> int:
        """Where a cell is put, from the first bin on."""
        at, length = len(self._cells), -(-(len(body) + 4) // 8) * 8
        self._cells += struct.pack("<i", -length) + body.ljust(length - 4, b"\0")
        return at

    def _key(self, name: str, keys: Keys, parent: int, flags: int = _PLAIN_NAME) -> int:
        raw = name.encode("latin-1")
        at = self._cell(bytes(76 + len(raw)))
        below = sorted(
            ((key, inside) for key, inside in keys.items() if isinstance(inside, Mapping)),
            key=lambda pair: pair[0].upper(),
        )
        children = [(key, self._key(key, inside, at)) for key, inside in below]
        values = [
            self._value(key, value) for key, value in keys.items() if not isinstance(value, Mapping)
        ]
        listed = _NOTHING
        if children:
            rows = b"".join(struct.pack("<II", cell, _hash(key)) for key, cell in children)
            listed = self._cell(b"lh" + struct.pack("<H", len(children)) + rows)
        kept = self._cell(struct.pack(f"<{len(values)}I", *values)) if values else _NOTHING
        body = b"nk" + struct.pack(
            "<HQIIIIIIIIIIIIIIIHH",
            flags,
            self._written,
            0,
            parent,
            len(children),
            0,
            listed,
            _NOTHING,
            len(values),
            kept,
            self._security,
            _NOTHING,
            *(0, 0, 0, 0, 0),
            len(raw),
            0,
        )
        self._cells[at + 4 : at + 4 + len(body) + len(raw)] = body + raw
        return at

    def _value(self, name: str, value: Value) -> int:
        kind, data = _encoded(value)
        if len(data) <= 4:
            length, at = len(data) | 1 << 31, int.from_bytes(data.ljust(4, b"\0"), "little")
        else:
            length, at = len(data), self._cell(data)
        raw = name.encode("latin-1")
        return self._cell(b"vk" + struct.pack("<HIIIHH", len(raw), length, at, kind, 1, 0) + raw)


def _encoded(value: Value) -> tuple[int, bytes]:
    if isinstance(value, int):
        return _NUMBER, value.to_bytes(4, "little")
    if isinstance(value, bytes):
        return _BINARY, value
    if isinstance(value, str):
        kind = _EXPANDED if isinstance(value, Expanded) else _TEXT
        return kind, f"{value}\0".encode("utf-16-le")
    return _TEXTS, "".join(f"{part}\0" for part in [*value, ""]).encode("utf-16-le")


def _hash(name: str) -> int:
    total = 0
    for char in name.upper():
        total = (total * 37 + ord(char)) & 0xFFFF_FFFF
    return total
