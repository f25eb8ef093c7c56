"""What a PE image offers and wants by name, and the checksum in its header.

Source: the published PE/COFF specification, revision 11, sections 3.4.3 "Optional Header Data
Directories", 4 "Section Table", 6.3 "The .edata Section", 6.4 "The .idata Section", and appendix A
for the checksum.
"""

import struct
from collections.abc import Iterator

import msgspec

_HEAD, _SECTION = 24, 40
_CHECKSUM_AT, _TABLES_AT_32, _TABLES_AT_64 = 64, 96, 112
_LONG = 0x20B
_MOST_SECTIONS, _MOST_LIBRARIES, _MOST_NAMES, _LONGEST_NAME = 96, 256, 65_536, 512


class Import(msgspec.Struct, frozen=True):
    """What an image wants of a library; what it wants by number only is left out."""

    library: str
    names: tuple[str, ...]


def checksum(data: bytes) -> tuple[int, int] | None:
    """The checksum in the header of an image and the one that its bytes make: the sum of its 16-bit
    words without the field itself, carries added in, and the length of the file. None where it
    keeps none.

    Args:
        data: the whole file.
    """
    at = int.from_bytes(data[60:64], "little") + _HEAD + _CHECKSUM_AT
    kept = int.from_bytes(data[at : at + 4], "little")
    if not kept:
        return None
    # adding words with their carries is counting modulo ffff, which a long number does at once
    field = data[at - at % 2 : at + 4 + at % 2]
    blank = field[: at % 2] + bytes(4) + field[at % 2 + 4 :]
    difference = int.from_bytes(field, "little") - int.from_bytes(blank, "little")
    total = int.from_bytes(data, "little") - (difference << 8 * (at - at % 2))
    return kept, ((total % 0xFFFF or 0xFFFF) + len(data)) & 0xFFFF_FFFF


def imports(data: bytes) -> Iterator[Import]:
    """What an image wants of libraries; damage ends it.

    Args:
        data: the whole file.
    """
    image = _Image(data)
    table = image.offset(image.tables[1])
    width, by_number = (8, 1 << 63) if image.is_long else (4, 1 << 31)
    for row in range(_MOST_LIBRARIES if table else 0):
        fields = data[table + 20 * row : table + 20 * row + 20]
        if len(fields) < 20 or not any(fields):
            return
        listed, _, _, name, bound = struct.unpack("<5I", fields)
        at, names = image.offset(listed or bound), list[str]()
        for _ in range(_MOST_NAMES if at else 0):
            thunk = int.from_bytes(data[at : at + width], "little")
            if not thunk:
                break
            if not thunk & by_number:
                names.append(image.text(thunk & 0xFFFF_FFFF, 2))
            at += width
        yield Import(image.text(name), tuple(names))


def exports(data: bytes) -> frozenset[str]:
    """The names that a library offers.

    Args:
        data: the whole file.
    """
    image = _Image(data)
    at = image.offset(image.tables[0])
    if not at or at + 40 > len(data):
        return frozenset()
    count, _, listed = struct.unpack_from("<III", data, at + 24)
    start = image.offset(listed)
    count = min(count, _MOST_NAMES, max(len(data) - start, 0) // 4)
    if not start or not count:
        return frozenset()
    places = struct.unpack_from(f"<{count}I", data, start)
    return frozenset(image.text(place) for place in places)


class _Image:
    """Sections and tables of an image; none where its headers lead nowhere."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        self._sections: list[tuple[int, int, int]] = []
        self.is_long, self.tables = False, (0, 0)
        head = int.from_bytes(data[60:64], "little")
        optional = head + _HEAD
        if optional + _TABLES_AT_64 + 16 > len(data):
            return
        count, size = struct.unpack_from("<H12xH", data, head + 6)
        self.is_long = int.from_bytes(data[optional : optional + 2], "little") == _LONG
        first = optional + (_TABLES_AT_64 if self.is_long else _TABLES_AT_32)
        exported, _, imported = struct.unpack_from("<III", data, first)
        self.tables = exported, imported
        for number in range(min(count, _MOST_SECTIONS)):
            at = optional + size + _SECTION * number
            if at + _SECTION > len(data):
                return
            address, length, offset = struct.unpack_from("<III", data, at + 12)
            self._sections.append((address, length, offset))

    def offset(self, address: int) -> int:
        """Where in the file an address of the image in memory lies; 0 where in none of it."""
        for start, length, offset in self._sections:
            if 0 <= address - start < length:
                return offset + address - start
        return 0

    def text(self, address: int, skip: int = 0) -> str:
        """The name at an address; empty where it is outside."""
        at = self.offset(address)
        if not at:
            return ""
        end = self._data.find(b"\0", at + skip, at + skip + _LONGEST_NAME)
        stop = end if end >= 0 else at + skip + _LONGEST_NAME
        return self._data[at + skip : stop].decode("ascii", "replace")
