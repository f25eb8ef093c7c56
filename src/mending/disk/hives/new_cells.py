"""Cells of a hive as its system writes them: keys, values, lists of keys, who may do what.

Source: the public registry file format specification, sections "Key node", "Key value", "Index
leaf", "Fast leaf", "Hash leaf", "Key security" and "Big data"; of the security descriptor, its
published description ("self-relative form").
"""

import struct

from mending.formats.nt.hive_base import NOTHING
from mending.formats.nt.hive_cells import BIG, KEY, LIST_OF_LISTS, PLAIN_LISTS, SECURITY, VALUE
from mending.model import InputError

ROOT_FLAGS, PLAIN_NAME = 0x2C, 0x20
"""Of a root key: it may not be removed, holds all others, and its name is of plain letters."""
_VALUE_PLAIN = 1
_LONGEST_KEY, _LONGEST_VALUE = 255, 16_383
_HASHED, _HINTED = b"lh", b"lf"
_SELF_RELATIVE, _HAS_RIGHTS = 0x8000, 0x0004
_ALL_RIGHTS, _HANDED_DOWN = 0x000F_003F, 0x02
_SYSTEM = bytes.fromhex("010100000000000512000000")
_ADMINISTRATORS = bytes.fromhex("01020000000000052000000020020000")
"""Identifiers S-1-5-18 and S-1-5-32-544: the system, and whoever administers it."""


def folded(name: str) -> str:
    """A name as its system compares names: letter by letter as capitals."""
    return "".join(big if len(big := sign.upper()) == 1 else sign for sign in name)


def key_cell(name: str, parent: int, security: int, written: int, flags: int = 0) -> bytes:
    """A key without subkeys and values.

    Raises:
        InputError: no name that a key can have.
    """
    if not 0 < len(name) <= _LONGEST_KEY or "\\" in name:
        raise InputError(f"{name!r} cannot be the name of a key.")
    raw, plain = _name(name)
    head = struct.pack("<2sHQIII", KEY, flags | (PLAIN_NAME if plain else 0), written, 0, parent, 0)
    lists = struct.pack("<IIIIIII", 0, NOTHING, NOTHING, 0, NOTHING, security, NOTHING)
    return head + lists + bytes(20) + struct.pack("<HH", len(raw), 0) + raw


def value_cell(name: str, kind: int, length: int, data: int) -> bytes:
    """A value. Args: length, data: as their fields hold them.

    Raises:
        InputError: no name that a value can have.
    """
    if len(name) > _LONGEST_VALUE:
        raise InputError(f"{name[:40]!r}... is too long for the name of a value.")
    raw, plain = _name(name)
    flags = _VALUE_PLAIN if plain else 0
    return struct.pack("<2sHIIIHH", VALUE, len(raw), length, data, kind, flags, 0) + raw


def big_cell(count: int, listed: int) -> bytes:
    """Data in pieces. Args: listed: the cell that lists them."""
    return struct.pack("<2sHI4x", BIG, count, listed)


def list_mark(minor: int) -> bytes:
    """The kind of list that a hive of this version has."""
    return _HASHED if minor >= 5 else _HINTED if minor >= 3 else b"li"


def list_row(mark: bytes, cell: int, name: str) -> bytes:
    """A row of a list of keys."""
    if mark == _HASHED:
        return struct.pack("<II", cell, _hash(name))
    if mark == _HINTED:
        first = name[:4].encode("latin-1", "ignore") if name[:4].isascii() else b""
        return struct.pack("<I", cell) + first.ljust(4, b"\0")
    return struct.pack("<I", cell)


def list_cell(mark: bytes, rows: list[bytes]) -> bytes:
    """A list of keys, or of lists."""
    return mark + struct.pack("<H", len(rows)) + b"".join(rows)


def list_rows(cell: bytes) -> tuple[bytes, list[bytes]]:
    """The mark and the rows of a list that was read before."""
    mark = cell[:2]
    width = 4 if mark == LIST_OF_LISTS else PLAIN_LISTS[mark]
    (count,) = struct.unpack_from("<H", cell, 2)
    return mark, [cell[4 + width * at : 4 + width * (at + 1)] for at in range(count)]


def security_cell(place: int) -> bytes:
    """Full rights for the system and its administrators, and for nobody else.

    Args:
        place: of the cell itself, the only one in its ring.
    """
    rights = b"".join(
        struct.pack("<BBHI", 0, _HANDED_DOWN, 8 + len(who), _ALL_RIGHTS) + who
        for who in (_SYSTEM, _ADMINISTRATORS)
    )
    listed = struct.pack("<BBHHH", 2, 0, 8 + len(rights), 2, 0) + rights
    owner = 20 + len(listed)
    group = owner + len(_ADMINISTRATORS)
    flags = _SELF_RELATIVE | _HAS_RIGHTS
    head = struct.pack("<BBHIIII", 1, 0, flags, owner, group, 0, 20)
    whole = head + listed + _ADMINISTRATORS + _SYSTEM
    return struct.pack("<2sHIIII", SECURITY, 0, place, place, 1, len(whole)) + whole


def _name(name: str) -> tuple[bytes, bool]:
    """A name as bytes, and whether each letter takes one."""
    try:
        return name.encode("latin-1"), True
    except UnicodeEncodeError:
        return name.encode("utf-16-le", "replace"), False


def _hash(name: str) -> int:
    total = 0
    for sign in folded(name):
        total = (total * 37 + ord(sign)) & 0xFFFF_FFFF
    return total
