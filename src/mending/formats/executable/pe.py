"""PE images: what UEFI firmware loads, and programs, libraries and drivers of the nt family.

Sources: UEFI Specification 2.10, section 2.1.1 "UEFI Images" (machine types, subsystems) and
3.5.1.1 (names of the fallback file); the published PE/COFF specification, revision 11, sections 3
"File Headers" to 4 "Section Table".
"""

import struct

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
