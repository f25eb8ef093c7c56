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

import struct

import msgspec

from mending.model import Problem, Window, plain_bytes

MAGIC = b"\xfc\x4e\x2b\xa9"
SIZE = 4096
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


def places(length: int) -> tuple[tuple[str, int], ...]:
    """Where a superblock may stand in a member of so many bytes, by its metadata."""
    old = length // _OLD_RESERVED * _OLD_RESERVED - _OLD_RESERVED
    new = (length // _SECTOR - 16) // 8 * 8 * _SECTOR
    listed = (*((name, at) for name, at in AT_START.items()), ("1.0", new), ("0.90", old))
    return tuple((name, at) for name, at in listed if 0 <= at <= length - SIZE)


def read_member(window: Window, metadata: str, at: int) -> RaidMember | None:
    """The member whose superblock begins with the window; None where none does.

    Args:
        metadata: as `places` has it. at: bytes from the start of the member.
    """
    data = window.data
    if len(data) < SIZE or data[:4] != MAGIC:
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
