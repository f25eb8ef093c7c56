"""Volume groups: where a physical volume keeps the description of its group, and the names in it.

Source: LVM2 `lib/format_text/layout.h` (`struct pv_header`, `struct mda_header`, `struct raw_locn`)
and the manual page lvm.conf(5), "Syntax", for the text.
"""

import re
import struct
from collections.abc import Iterator
from typing import Any

import msgspec

from mending.model import Window

LABEL_BYTES = 512
AREA_HEAD_BYTES = 512
_HEADER_AT, _PLACES_AT = 20, 40
_AREA_MAGIC = b" LVM2 x[5A%r0N*>"
_MOST_PLACES = 16
_ID_BYTES = 32
_TOKENS = re.compile(rb'"(?:[^"\\]|\\.)*"|#[^\n]*|[{}\[\]=,]|[^\s{}\[\]=,"#]+')


Tree = dict[str, Any]
"""A section of a description."""


class Area(msgspec.Struct, frozen=True):
    """Where something lies, counted in bytes from the start of the physical volume."""

    offset: int
    length: int


class Stripe(msgspec.Struct, frozen=True):
    """Extents of one physical volume, from a first one on."""

    physical: str
    first: int


class Segment(msgspec.Struct, frozen=True):
    """A part of a logical volume, counted in extents. `is_plain`: its bytes lie on the stripes as
    they are, row by row.
    """

    first: int
    extents: int
    is_plain: bool
    stripe_sectors: int
    stripes: tuple[Stripe, ...]


class LogicalVolume(msgspec.Struct, frozen=True):
    """A logical volume; `id` without hyphens."""

    name: str
    id: str
    segments: tuple[Segment, ...]


class PhysicalVolume(msgspec.Struct, frozen=True):
    """A physical volume as the group names it; `data_sector`: its first extent, in 512 bytes."""

    name: str
    id: str
    data_sector: int


class Group(msgspec.Struct, frozen=True):
    """A volume group. Lengths are in sectors of 512 bytes."""

    name: str
    id: str
    extent_sectors: int
    physical: tuple[PhysicalVolume, ...]
    volumes: tuple[LogicalVolume, ...]


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


def physical_id(label: Window) -> str:
    """The identifier of a physical volume, without hyphens. Args: label: as of
    `description_areas`.
    """
    data = label.data
    if len(data) < LABEL_BYTES:
        return ""
    at = int.from_bytes(data[_HEADER_AT : _HEADER_AT + 4], "little")
    return data[at : at + _ID_BYTES].decode("ascii", errors="replace") if at < len(data) else ""


def read_group(text: bytes) -> Group | None:
    """The group that a description tells of; None where it is no description."""
    name, tree = next(
        ((name, inside) for name, inside in _tree(text).items() if isinstance(inside, dict)),
        ("", {}),
    )
    if not name:
        return None
    return Group(
        name,
        _id(tree),
        _number(tree, "extent_size"),
        tuple(
            PhysicalVolume(key, _id(inside), _number(inside, "pe_start"))
            for key, inside in _inside(tree, "physical_volumes")
        ),
        tuple(
            LogicalVolume(key, _id(inside), tuple(_segments(inside)))
            for key, inside in _inside(tree, "logical_volumes")
        ),
    )


def _segments(volume: Tree) -> Iterator[Segment]:
    for _, inside in _inside({"": volume}, ""):
        listed = inside.get("stripes")
        words = listed if isinstance(listed, list) else []
        stripes = [
            Stripe(words[at], int(words[at + 1]) if words[at + 1].isdigit() else 0)
            for at in range(0, len(words) - 1, 2)
        ]
        is_plain = inside.get("type") == "striped" and bool(stripes)
        yield Segment(
            _number(inside, "start_extent"),
            _number(inside, "extent_count"),
            is_plain,
            _number(inside, "stripe_size"),
            tuple(stripes),
        )


def _inside(tree: Tree, key: str) -> list[tuple[str, Tree]]:
    found = tree.get(key)
    rows = found.items() if isinstance(found, dict) else ()
    return [(name, inside) for name, inside in rows if isinstance(inside, dict)]


def _id(tree: Tree) -> str:
    found = tree.get("id")
    return found.replace("-", "") if isinstance(found, str) else ""


def _number(tree: Tree, key: str) -> int:
    found = tree.get(key)
    return int(found) if isinstance(found, str) and found.isdecimal() and len(found) < 20 else 0


def _tree(text: bytes) -> Tree:
    """Sections as tables, lists as lists, everything else as text."""
    top: Tree = {}
    stack, before, key, listed = [top], "", "", None
    for token in _words(text):
        if listed is not None:
            if token == "]":
                listed = None
            elif token != ",":
                listed.append(token.strip('"'))
        elif token == "{":
            inside: Tree = {}
            stack[-1][before] = inside
            stack.append(inside)
        elif token == "}":
            if len(stack) > 1:
                stack.pop()
        elif token == "=":
            key = before
        elif token == "[" and key:
            listed = list[str]()
            stack[-1][key], key = listed, ""
        elif key:
            stack[-1][key], key = token.strip('"'), ""
        before = token
    return top


def _words(text: bytes) -> Iterator[str]:
    for match in _TOKENS.finditer(text):
        if not match.group().startswith(b"#"):
            yield match.group().decode("utf-8", errors="replace")
