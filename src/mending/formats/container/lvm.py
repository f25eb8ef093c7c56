"""Volume groups: where a physical volume keeps the description of its group, and the names in it.

Source: LVM2 `lib/format_text/layout.h` (`struct pv_header`, `struct mda_header`, `struct raw_locn`)
and the manual page lvm.conf(5), "Syntax", for the text.
"""

import re
import struct
from collections.abc import Iterator

import msgspec

from mending.model import Window

LABEL_BYTES = 512
AREA_HEAD_BYTES = 512
_HEADER_AT, _PLACES_AT = 20, 40
_AREA_MAGIC = b" LVM2 x[5A%r0N*>"
_MOST_PLACES = 16
_TOKENS = re.compile(rb'"(?:[^"\\]|\\.)*"|#[^\n]*|[{}\[\]=,]|[^\s{}\[\]=,"#]+')


class Area(msgspec.Struct, frozen=True):
    """Where something lies, counted in bytes from the start of the physical volume."""

    offset: int
    length: int


class Group(msgspec.Struct, frozen=True):
    """A volume group and the names of its logical volumes."""

    name: str
    volumes: tuple[str, ...]


def description_areas(label: Window) -> tuple[Area, ...]:
    """Areas that hold the group's description. Args: label: the sector with the label,
    `LABEL_BYTES` of it.
    """
    data = label.data
    if len(data) < LABEL_BYTES:
        return ()
    at = int.from_bytes(data[_HEADER_AT : _HEADER_AT + 4], "little") + _PLACES_AT
    lists: list[list[Area]] = [[], []]
    which = 0
    for _ in range(_MOST_PLACES):
        if at + 16 > len(data) or which == len(lists):
            break
        offset, length = struct.unpack_from("<QQ", data, at)
        at += 16
        if offset == 0:
            which += 1
        else:
            lists[which].append(Area(offset, length))
    return tuple(lists[1])


def text_parts(head: Window, area: Area) -> tuple[Area, ...]:
    """Where the newest description lies: in one piece, or in two where it goes round the end of its
    area.

    Args:
        head: the first `AREA_HEAD_BYTES` of the area.
    """
    data = head.data
    if len(data) < AREA_HEAD_BYTES or data[4:20] != _AREA_MAGIC:
        return ()
    offset, length = struct.unpack_from("<QQ", data, 40)
    if not AREA_HEAD_BYTES <= offset < area.length or not 0 < length < area.length:
        return ()
    first = min(length, area.length - offset)
    parts = (Area(area.offset + offset, first), Area(area.offset + AREA_HEAD_BYTES, length - first))
    return tuple(part for part in parts if part.length)


def read_group(text: bytes) -> Group | None:
    """The group that a description tells of; None where it is no description."""
    name, volumes, stack = "", [], []
    before = ""
    for token in _words(text):
        if token == "{":
            stack.append(before)
            if len(stack) == 1 and not name:
                name = before
            if len(stack) == 3 and stack[1] == "logical_volumes":
                volumes.append(before)
        elif token == "}" and stack:
            stack.pop()
        before = token
    return Group(name, tuple(volumes)) if name else None


def _words(text: bytes) -> Iterator[str]:
    for match in _TOKENS.finditer(text):
        if not match.group().startswith(b"#"):
            yield match.group().decode("utf-8", errors="replace")
