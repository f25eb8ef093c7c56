"""The cells of a settings hive: keys, values, and the lists that hold them together.

Source: the public registry file format specification, sections "Key node", "Key values list", "Key
value", "Index leaf", "Fast leaf", "Hash leaf", "Index root" and "Big data".
"""

import struct

import msgspec

from mending.model import InputError

KEY, VALUE, SECURITY, BIG = b"nk", b"vk", b"sk", b"db"
PLAIN_LISTS = {b"li": 4, b"lf": 8, b"lh": 8}
"""Lists of subkeys by their marks, and how long a row is: a cell, and a hint of its name."""
LIST_OF_LISTS = b"ri"
BIG_FROM = 16_344
"""Longer data lie in pieces of this length, from version 1.4 on."""
_KEY_HEAD, _VALUE_HEAD = 76, 20
_ASCII_KEY, _ASCII_VALUE, _RESIDENT = 0x20, 1, 0x8000_0000


class DamagedHiveError(InputError):
    """A structure of a hive that is not what it has to be; what lies behind it is hidden."""


class KeyCell(msgspec.Struct, frozen=True):
    """A key as it is in its cell. Cells are named by their offsets.

    Attributes:
        written: 100 ns since 1601.
        class_cell: and `class_bytes`: text that few keys have beside their values.
    """

    name: str
    flags: int
    written: int
    parent: int
    subkeys: int
    subkey_list: int
    values: int
    value_list: int
    class_cell: int
    class_bytes: int


class ValueCell(msgspec.Struct, frozen=True):
    """A value as it is in its cell.

    Attributes:
        inline: the data themselves where they are at most four bytes long; else None.
    """

    name: str
    type: int
    length: int
    data_cell: int
    inline: bytes | None


def read_key(cell: bytes, at: int) -> KeyCell:
    """A key. Args: at: offset of the cell, for errors.

    Raises:
        DamagedHiveError
    """
    if len(cell) < _KEY_HEAD or cell[:2] != KEY:
        raise DamagedHiveError(f"the cell at {at} holds no key.")
    flags, written = struct.unpack_from("<HQ", cell, 2)
    (parent, subkeys) = struct.unpack_from("<II", cell, 16)
    (subkey_list,) = struct.unpack_from("<I", cell, 28)
    values, value_list, _, class_cell = struct.unpack_from("<IIII", cell, 36)
    length, class_bytes = struct.unpack_from("<HH", cell, 72)
    if _KEY_HEAD + length > len(cell):
        raise DamagedHiveError(f"the name of the key at {at} does not fit into its cell.")
    raw = cell[_KEY_HEAD : _KEY_HEAD + length]
    name = raw.decode("latin-1") if flags & _ASCII_KEY else raw.decode("utf-16-le", "replace")
    return KeyCell(
        name=name,
        flags=flags,
        written=written,
        parent=parent,
        subkeys=subkeys,
        subkey_list=subkey_list,
        values=values,
        value_list=value_list,
        class_cell=class_cell,
        class_bytes=class_bytes,
    )


def read_value(cell: bytes, at: int) -> ValueCell:
    """A value. Args: at: offset of the cell, for errors.

    Raises:
        DamagedHiveError
    """
    if len(cell) < _VALUE_HEAD or cell[:2] != VALUE:
        raise DamagedHiveError(f"the cell at {at} holds no value.")
    length, size, data_cell, kind, flags = struct.unpack_from("<HIIIH", cell, 2)
    if _VALUE_HEAD + length > len(cell):
        raise DamagedHiveError(f"the name of the value at {at} does not fit into its cell.")
    raw = cell[_VALUE_HEAD : _VALUE_HEAD + length]
    name = raw.decode("latin-1") if flags & _ASCII_VALUE else raw.decode("utf-16-le", "replace")
    inline = None
    if size & _RESIDENT:
        size &= ~_RESIDENT
        if size > 4:
            raise DamagedHiveError(f"the value at {at} keeps {size} bytes in four.")
        inline = cell[8 : 8 + size]
    return ValueCell(name, kind, size, data_cell, inline)


def read_list(cell: bytes, at: int) -> tuple[bool, list[int]]:
    """A list of subkeys: whether it is one of lists, and the cells that it names.

    Raises:
        DamagedHiveError
    """
    mark = cell[:2]
    row = 4 if mark == LIST_OF_LISTS else PLAIN_LISTS.get(mark)
    if row is None or len(cell) < 4:
        raise DamagedHiveError(f"the cell at {at} holds no list of keys.")
    (count,) = struct.unpack_from("<H", cell, 2)
    if 4 + count * row > len(cell):
        raise DamagedHiveError(f"the list of keys at {at} has {count} rows, more than fit into it.")
    cells = [struct.unpack_from("<I", cell, 4 + number * row)[0] for number in range(count)]
    return mark == LIST_OF_LISTS, cells
