"""Superblocks of members of Linux's software RAID: which array a volume is part of, its place in
it, and where its data lies.

There are two layouts. Metadata 0.90 stands in the last whole 64 KiB of a member, with 64 KiB behind
it at most. Metadata 1 stands 8 KiB before the end (1.0), at the start (1.1) or 4 KiB behind it
(1.2). Where it stands at the end, the data begins with the member, so that a mirror's member reads
like a plain volume; the others have their data behind the superblock.

Sources: Linux `include/uapi/linux/raid/md_p.h` (`struct mdp_superblock_s`,
`struct mdp_superblock_1`), `drivers/md/md.c` (`calc_sb_csum`, `calc_sb_1_csum`); the manual page
md(4).
"""

import re
import struct
from collections.abc import Iterator
from typing import Any

import msgspec

from mending.model import Problem, Window, plain_bytes

RAID_MAGIC = b"\xfc\x4e\x2b\xa9"
RAID_SIZE = 4096
"""Bytes of a superblock that have to be seen, of either layout."""
_SECTOR = 512
_OLD_RESERVED = 65_536
AT_START = {"1.1": 0, "1.2": 4096}
"""Where those stand whose data lies behind them."""
_HEAD_1, _MOST_ROLES = 256, 1920
_SPARE = 0xFFF0
"""Roles from here on are no place in the array: spare, faulty, journal."""
_OLD_ROWS, _OLD_ROW, _OLD_THIS = 512, 128, 3968
_OLD_ACTIVE, _OLD_SYNC, _OLD_CSUM_AT = 1 << 1, 1 << 2, 152
_LEVELS = (-1, 0, 1, 4, 5, 6, 10)


class RaidMember(msgspec.Struct, frozen=True, kw_only=True):
    """What a member says of its array and of itself.

    Attributes:
        metadata: `0.90`, `1.0`, `1.1` or `1.2`.
        array: identifier of the array, 32 hexadecimal digits.
        name: of the array, without the host; the number of its device for 0.90.
        level: -1 for a linear one.
        members: how many the array has.
        place: of this one among them, from 0; None for a spare or a faulty one.
        chunk: bytes that lie together on one member before the next goes on; 0 for mirrors.
        layout: how copies are laid, for level 10; else as the level has it.
        data_start: bytes from the start of the member to its data. data_bytes: how many are used.
        events: grows with every change of the array; a member that lags behind is stale.
        at: bytes from the start of the member to the superblock.
        problems: what is wrong with it.
    """

    metadata: str
    array: str
    name: str
    level: int
    members: int
    place: int | None
    chunk: int
    layout: int
    data_start: int
    data_bytes: int
    events: int
    at: int
    problems: tuple[Problem, ...] = ()


def raid_places(length: int) -> tuple[tuple[str, int], ...]:
    """Where a superblock may stand in a member of so many bytes, by its metadata."""
    old = length // _OLD_RESERVED * _OLD_RESERVED - _OLD_RESERVED
    new = (length // _SECTOR - 16) // 8 * 8 * _SECTOR
    listed = (*((name, at) for name, at in AT_START.items()), ("1.0", new), ("0.90", old))
    return tuple((name, at) for name, at in listed if 0 <= at <= length - RAID_SIZE)


def read_member(window: Window, metadata: str, at: int) -> RaidMember | None:
    """The member whose superblock begins with the window; None where none does.

    Args:
        metadata: as `places` has it. at: bytes from the start of the member.
    """
    data = window.data
    if len(data) < RAID_SIZE or data[:4] != RAID_MAGIC:
        return None
    major = int.from_bytes(data[4:8], "little")
    if metadata == "0.90":
        return _old(window, at) if major == 0 else None
    return _new(window, metadata, at) if major == 1 else None


def _old(window: Window, at: int) -> RaidMember | None:
    words = struct.unpack_from("<1024I", window.data)
    level = words[7] - (1 << 32) if words[7] >> 31 else words[7]
    if words[2] not in range(90, 100) or level not in _LEVELS or not 0 < words[10] <= 27:
        return None
    wanted = words[38]
    total = sum(words) - wanted
    made = (total & 0xFFFF_FFFF) + (total >> 32)
    row = struct.unpack_from("<5I", window.data, _OLD_THIS)
    active = row[4] & (_OLD_ACTIVE | _OLD_SYNC) == _OLD_ACTIVE | _OLD_SYNC
    uuid = struct.pack("<4I", words[5], words[13], words[14], words[15])
    length = words[8] * 1024 if words[8] else at
    return RaidMember(
        metadata="0.90",
        array=b"".join(uuid[i : i + 4][::-1] for i in range(0, 16, 4)).hex(),
        name=str(words[11]),
        level=level,
        members=words[10],
        place=row[3] if active and row[3] < words[10] else None,
        chunk=words[65] if level not in {-1, 1} else 0,
        layout=words[64],
        data_start=0,
        data_bytes=min(length, at),
        events=words[40] << 32 | words[39],
        at=at,
        problems=_checked(window, _OLD_CSUM_AT, wanted, made & 0xFFFF_FFFF),
    )


def _new(window: Window, metadata: str, at: int) -> RaidMember | None:
    data = window.data
    level, layout, used, chunk, members = struct.unpack_from("<iIQII", data, 72)
    start, length, own = struct.unpack_from("<QQQ", data, 128)
    number, roles = struct.unpack_from("<I", data, 160)[0], struct.unpack_from("<I", data, 220)[0]
    if own * _SECTOR != at or level not in _LEVELS or not 0 < members <= roles <= _MOST_ROLES:
        return None
    end = _HEAD_1 + 2 * roles
    body = bytearray(data[:end].ljust(-(-end // 4) * 4, b"\0"))
    wanted = int.from_bytes(body[216:220], "little")
    body[216:220] = bytes(4)
    total = sum(struct.unpack(f"<{len(body) // 4}I", body))
    made = (total & 0xFFFF_FFFF) + (total >> 32)
    role = int.from_bytes(data[_HEAD_1 + 2 * number : _HEAD_1 + 2 * number + 2], "little")
    known = number < roles and role < min(members, _SPARE)
    return RaidMember(
        metadata=metadata,
        array=data[16:32].hex(),
        name=plain_bytes(data[32:64]).rpartition(":")[2],
        level=level,
        members=members,
        place=role if known else None,
        chunk=chunk * _SECTOR if level not in {-1, 1} else 0,
        layout=layout,
        data_start=start * _SECTOR,
        data_bytes=(min(used, length) if used else length) * _SECTOR,
        events=int.from_bytes(data[200:208], "little"),
        at=at,
        problems=_checked(window, 216, wanted, made & 0xFFFF_FFFF),
    )


def _checked(window: Window, at: int, kept: int, made: int) -> tuple[Problem, ...]:
    if kept == made:
        return ()
    return (Problem("checksum", window.offset + at, 4, f"{kept:08x}", f"{made:08x}"),)


# Volume groups: where a physical volume keeps the description of its group, and the names in it.
#
# Source: LVM2 `lib/format_text/layout.h` (`struct pv_header`, `struct mda_header`, `struct
# raw_locn`) and the manual page lvm.conf(5), "Syntax", for the text.


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
