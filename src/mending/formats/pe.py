"""PE images: what UEFI firmware loads, and programs, libraries and drivers of the nt family.

Sources: UEFI Specification 2.10, section 2.1.1 "UEFI Images" (machine types, subsystems) and
3.5.1.1 (names of the fallback file); the published PE/COFF specification, revision 11, sections 3
"File Headers" to 4 "Section Table".
"""

import struct
from collections.abc import Iterator

import msgspec

from mending.model import Field, Layout, Problem, Reading, Window

_DOS_SIZE = 64
_COFF_SIZE = 24
_OPTIONAL_SIZE = 112
_SECTION_SIZE = 40
_MAGIC_64 = 0x20B
_MAGIC_32 = 0x10B
_SUBSYSTEMS = {10, 11, 12}
_PROGRAMS = {1, 2, 3, 16}
"""Native, graphic and text programs, and what a boot manager starts."""
_MOST_SECTIONS = 96
"""The specification's own limit for images that are loaded."""

FALLBACK_MACHINES = {
    "BOOTX64.EFI": 0x8664,
    "BOOTIA32.EFI": 0x014C,
    "BOOTAA64.EFI": 0xAA64,
    "BOOTARM.EFI": 0x01C2,
    "BOOTRISCV64.EFI": 0x5064,
}
"""File name in the fallback folder and the machine type that it must have."""


class Coff(msgspec.Struct, frozen=True):
    """Signature and file header."""

    signature: bytes
    machine: int
    sections: int
    optional_size: int


class OptionalHeader(msgspec.Struct, frozen=True):
    """The part of the optional header that both kinds share, and the subsystem."""

    magic: int
    entry: int
    image_size: int
    headers_size: int
    subsystem: int


class Section(msgspec.Struct, frozen=True):
    """One row of the section table. `address` is relative to the image in memory, `file_offset` to
    the file.
    """

    name: bytes
    memory_size: int
    address: int
    file_size: int
    file_offset: int


COFF = Layout(
    Coff,
    _COFF_SIZE,
    [
        Field("signature", 0, 4, "bytes", "", "PE and two NULs"),
        Field("machine", 4, 2, "u", "", "processor"),
        Field("sections", 6, 2, "u", "", "number of sections"),
        Field("optional_size", 20, 2, "u", "bytes", "length of the optional header"),
    ],
)
OPTIONAL = Layout(
    OptionalHeader,
    70,
    [
        Field("magic", 0, 2, "u", "", "20b for 64 bits, 10b for 32"),
        Field("entry", 16, 4, "u", "bytes", "address of the first instruction"),
        Field("image_size", 56, 4, "u", "bytes", "length in memory"),
        Field("headers_size", 60, 4, "u", "bytes", "length of all headers in the file"),
        Field("subsystem", 68, 2, "u", "", "10 application, 11 and 12 drivers"),
    ],
)
SECTION = Layout(
    Section,
    _SECTION_SIZE,
    [
        Field("name", 0, 8, "bytes", "", "name"),
        Field("memory_size", 8, 4, "u", "bytes", "length in memory"),
        Field("address", 12, 4, "u", "bytes", "where it goes in memory"),
        Field("file_size", 16, 4, "u", "bytes", "length in the file"),
        Field("file_offset", 20, 4, "u", "bytes", "where it is in the file"),
    ],
)


class Image(msgspec.Struct, frozen=True):
    """What a loader file says of itself; `machine` is 0 where no header was found."""

    machine: int
    subsystem: int
    sections: tuple[Section, ...]


def read(window: Window, file_bytes: int | None = None) -> Reading[Image]:
    """Read a loader file of firmware. Any bytes give a record.

    Args:
        window: the file from its start, or as much of it as was read.
        file_bytes: its length where the window is shorter.
    """
    return _read(window, file_bytes, _SUBSYSTEMS)


def read_program(window: Window) -> Reading[Image]:
    """Read a program, library or driver of the nt family, whole. Any bytes give a record."""
    return _read(window, None, _PROGRAMS)


def _read(window: Window, file_bytes: int | None, subsystems: set[int]) -> Reading[Image]:
    size = len(window) if file_bytes is None else file_bytes
    nothing = Image(0, 0, ())
    if window.blank:
        return Reading(
            nothing,
            (Problem("blank", window.offset, size, "nothing but one byte value", "a loader"),),
        )
    if len(window) < _DOS_SIZE or window.data[:2] != b"MZ":
        found = window.data[:2].hex(" ") or "nothing"
        return Reading(nothing, (Problem("no-header", window.offset, 2, found, "MZ"),))
    at: int = struct.unpack_from("<I", window.data, 60)[0]
    if at + _COFF_SIZE + _OPTIONAL_SIZE > len(window):
        return Reading(
            nothing,
            (
                Problem(
                    "header-outside", window.offset + 60, 4, f"header at {at}", f"inside {size}"
                ),
            ),
        )
    return _judged(window, at, size, subsystems)


def section(data: bytes, image: Image, name: bytes) -> bytes | None:
    """The content of a section, cut to its length in memory where that is shorter; None where there
    is none.

    Args:
        data: the whole file.
    """
    row = next((section for section in image.sections if section.name.rstrip(b"\0") == name), None)
    if row is None:
        return None
    length = min(row.file_size, row.memory_size) if row.memory_size else row.file_size
    return data[row.file_offset : row.file_offset + length]


def _judged(window: Window, at: int, size: int, subsystems: set[int]) -> Reading[Image]:
    coff, optional = COFF.read(window, at), OPTIONAL.read(window, at + _COFF_SIZE)
    found: list[Problem] = []
    if coff.signature != b"PE\0\0":
        found.append(
            COFF.wrong(
                "signature", window.offset + at, "no-signature", coff.signature.hex(" "), "PE"
            )
        )
        return Reading(Image(0, 0, ()), tuple(found))
    base = window.offset + at + _COFF_SIZE
    if optional.magic not in {_MAGIC_64, _MAGIC_32}:
        found.append(OPTIONAL.wrong("magic", base, "magic", f"{optional.magic:x}", "20b or 10b"))
    if optional.subsystem not in subsystems:
        wanted = ", ".join(map(str, sorted(subsystems)))
        found.append(OPTIONAL.wrong("subsystem", base, "subsystem", optional.subsystem, wanted))
    sections, more = _sections(window, at, coff, size)
    found += more
    if not found:
        found += _entry_problem(window, optional, sections, base)
    return Reading(Image(coff.machine, optional.subsystem, sections), tuple(found))


def _sections(
    window: Window, at: int, coff: Coff, size: int
) -> tuple[tuple[Section, ...], list[Problem]]:
    table = at + _COFF_SIZE + coff.optional_size
    count = coff.sections
    if not 0 < count <= _MOST_SECTIONS or table + count * _SECTION_SIZE > len(window):
        return (), [
            COFF.wrong(
                "sections", window.offset + at, "section-count", count, f"1 to {_MOST_SECTIONS}"
            )
        ]
    sections = tuple(
        SECTION.read(window, table + number * _SECTION_SIZE) for number in range(count)
    )
    problems = []
    for number, section in enumerate(sections):
        end = section.file_offset + section.file_size
        if section.file_size and end > size:
            base = window.offset + table + number * _SECTION_SIZE
            found, wanted = (
                f"section {number + 1} ends at byte {end}",
                f"inside the {size} bytes of the file",
            )
            problems.append(SECTION.wrong("file_size", base, "section-outside", found, wanted))
    return sections, problems


def _entry_problem(
    window: Window, optional: OptionalHeader, sections: tuple[Section, ...], base: int
) -> list[Problem]:
    """The first instruction must lie in a section, and something must stand there; a library may
    have none.
    """
    if not optional.entry and optional.subsystem in _PROGRAMS:
        return []
    for section in sections:
        inside = optional.entry - section.address
        if 0 <= inside < max(section.memory_size, section.file_size):
            code = window.data[section.file_offset + inside : section.file_offset + inside + 16]
            blank = bool(code) and not any(code)
            return (
                [OPTIONAL.wrong("entry", base, "entry-blank", "nothing but 00", "instructions")]
                if blank
                else []
            )
    return [
        OPTIONAL.wrong("entry", base, "entry-outside", f"{optional.entry:x}", "inside a section")
    ]


# What a PE image offers and wants by name, and the checksum in its header.
#
# Source: the published PE/COFF specification, revision 11, sections 3.4.3 "Optional Header Data
# Directories", 4 "Section Table", 6.3 "The .edata Section", 6.4 "The .idata Section", and appendix
# A for the checksum.


_HEAD, _SECTION = 24, 40
_CHECKSUM_AT, _TABLES_AT_32, _TABLES_AT_64 = 64, 96, 112
_LONG = 0x20B
_PE_TABLES_MOST_SECTIONS, _MOST_LIBRARIES, _MOST_NAMES, _LONGEST_NAME = 96, 256, 65_536, 512


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
        for number in range(min(count, _PE_TABLES_MOST_SECTIONS)):
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


# The version that a program of the nt family carries, and what tells one build of it from others.
#
# Source: the published description of version resources (`VS_VERSIONINFO`, `VS_FIXEDFILEINFO`), and
# of the PE header (time stamp, length in memory, checksum).


_KEY = "VS_VERSION_INFO\0".encode("utf-16-le")
_SIGNATURE = 0xFEEF04BD.to_bytes(4, "little")
_NEAR, _MOST = 64, 64
_PE_VERSION_HEAD = 24
_STAMP_AT, _LENGTH_AT, _PE_VERSION_CHECKSUM_AT = 8, _PE_VERSION_HEAD + 56, _PE_VERSION_HEAD + 64


def version(data: bytes) -> tuple[int, int, int, int] | None:
    """Of the file: major, minor, build, revision; None where it carries none.

    Args:
        data: the whole file.
    """
    at = -1
    for _ in range(_MOST):
        at = data.find(_KEY, at + 1)
        if at < 0:
            return None
        place = data.find(_SIGNATURE, at, at + len(_KEY) + _NEAR)
        if place >= 0 and place + 16 <= len(data):
            high, low = struct.unpack_from("<II", data, place + 8)
            return high >> 16, high & 0xFFFF, low >> 16, low & 0xFFFF
    return None


def build_marks(data: bytes) -> tuple[int, int, int] | None:
    """Time stamp, length in memory and checksum, by which two files are the same build; None where
    the header cannot be read or keeps no checksum.

    Args:
        data: the file, or its first pages.
    """
    head = int.from_bytes(data[60:64], "little")
    if (
        data[:2] != b"MZ"
        or data[head : head + 4] != b"PE\0\0"
        or head + _PE_VERSION_CHECKSUM_AT + 4 > len(data)
    ):
        return None
    places = (_STAMP_AT, _LENGTH_AT, _PE_VERSION_CHECKSUM_AT)
    stamp, length, total = (int.from_bytes(data[head + at :][:4], "little") for at in places)
    return (stamp, length, total) if total else None
