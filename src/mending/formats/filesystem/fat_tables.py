"""The table of a FAT volume and the rows of its folders: chains of clusters, names, and what is odd
about either.

Sources: the published FAT32 file system specification, version 1.03, sections "FAT Data Structure",
"FAT Directory Structure" and "FAT Long Directory Entries"; ECMA-107, clauses 10 and 11.
"""

import struct
from collections.abc import Iterator, Mapping, Sequence

import msgspec

from mending.model import FilesystemKind, InputError, plain_bytes, plain_utf16

ROW = 32
FOLDER, LABEL, LONG_NAME = 0x10, 0x08, 0x0F
_FREE_ROW, _LAST_ROW = 0xE5, 0x00
FIRST_CLUSTER = 2
_STAMP = 0x0021
"""The first day that the format knows: repairs do not tell the time, so that the same one is the
same bytes.
"""
_TAILS = 10_000
_LONG_LAST = 0x40
_LOWER_STEM, _LOWER_ENDING = 0x08, 0x10


class FatWidth(msgspec.Struct, frozen=True, kw_only=True):
    """What depends on the width of a FAT's entries.

    Attributes:
        bits: of an entry; those of FAT32 have 32, of which the upper four are reserved.
        bad: the entry of a cluster that is marked as unreadable.
        least_end: an entry of this much and more ends a chain; `end` is what is written.
        closed: bit of entry 1 that is set while the volume is closed properly; 0 where none is.
        dirty_at: byte of the boot sector in which a running system keeps its flag.
        fixed_root: whether the root folder has a place of its own, outside the clusters.
    """

    bits: int
    bad: int
    least_end: int
    end: int
    closed: int
    dirty_at: int
    fixed_root: bool


WIDTHS: Mapping[FilesystemKind, FatWidth] = {
    FilesystemKind.FAT12: FatWidth(
        bits=12, bad=0xFF7, least_end=0xFF8, end=0xFFF, closed=0, dirty_at=37, fixed_root=True
    ),
    FilesystemKind.FAT16: FatWidth(
        bits=16,
        bad=0xFFF7,
        least_end=0xFFF8,
        end=0xFFFF,
        closed=0x8000,
        dirty_at=37,
        fixed_root=True,
    ),
    FilesystemKind.FAT32: FatWidth(
        bits=32,
        bad=0x0FFFFFF7,
        least_end=0x0FFFFFF8,
        end=0x0FFFFFFF,
        closed=0x08000000,
        dirty_at=65,
        fixed_root=False,
    ),
}


class DirectoryEntry(msgspec.Struct, frozen=True):
    """One file or folder.

    Attributes:
        at: where its own row starts in the folder, in bytes.
        rows: how many rows of long name stand before it.
        name: the long name where there is a sound one, else the short one.
        short: the short name.
    """

    at: int
    rows: int
    name: str
    short: str
    folder: bool
    cluster: int
    bytes: int


def entry_bits(kind: FilesystemKind) -> int:
    """Width of an entry of one of the three kinds."""
    return WIDTHS[kind].bits


def entries(data: bytes, kind: FilesystemKind) -> Sequence[int]:
    """The table as numbers; the four upper bits of a FAT32 entry are reserved and left out."""
    if kind == FilesystemKind.FAT16:
        return struct.unpack(f"<{len(data) // 2}H", data[: len(data) // 2 * 2])
    if kind == FilesystemKind.FAT32:
        whole = struct.unpack(f"<{len(data) // 4}I", data[: len(data) // 4 * 4])
        return [value & 0x0FFFFFFF for value in whole] if max(whole, default=0) >> 28 else whole
    triples = struct.iter_unpack("3B", data[: len(data) // 3 * 3])
    return [
        half
        for low, middle, high in triples
        for half in (low | (middle & 15) << 8, middle >> 4 | high << 4)
    ]


def entry_at(data: bytes, at: int, kind: FilesystemKind) -> int:
    """Entry `at` of a piece of a table that starts with an even entry; 0 where the piece ends
    before it.
    """
    if kind == FilesystemKind.FAT12:
        pair = int.from_bytes(data[at * 3 // 2 : at * 3 // 2 + 2], "little")
        return pair >> 4 if at & 1 else pair & 0xFFF
    width = entry_bits(kind) // 8
    return int.from_bytes(data[at * width : (at + 1) * width], "little") & 0x0FFFFFFF


def closed_properly(table: Sequence[int], kind: FilesystemKind) -> bool | None:
    """What entry 1 says of how the volume was left; None for FAT12, which does not tell."""
    bit = WIDTHS[kind].closed
    return bool(table[1] & bit) if bit and len(table) > 1 else None


def is_end(entry: int, kind: FilesystemKind) -> bool:
    """Whether an entry ends a chain."""
    return entry >= WIDTHS[kind].least_end


def chain(
    table: Sequence[int], first: int, kind: FilesystemKind, clusters: int, most: int | None = None
) -> tuple[list[int], str]:
    """The clusters of a chain, and why it ends too early; empty when it ends as it should.

    Args:
        clusters: how many the volume has; numbers run from 2 to this and one more.
        most: how many are wanted; the rest of the chain is then not followed.
    """
    found: list[int] = []
    seen: set[int] = set()
    at = first
    last = min(clusters + FIRST_CLUSTER, len(table))
    while FIRST_CLUSTER <= at < last:
        if most is not None and len(found) >= most:
            return found, ""
        if at in seen:
            return found, f"comes back to cluster {at}"
        found.append(at)
        seen.add(at)
        following = table[at]
        if is_end(following, kind):
            return found, ""
        if not following:
            return found, f"runs into the free cluster behind {at}"
        at = following
    return found, f"names cluster {at}, which does not exist"


def rows(data: bytes, kind: FilesystemKind) -> Iterator[DirectoryEntry]:
    """The files and folders that the bytes of a folder list, without labels and the two dots."""
    long: list[bytes] = []
    for at in range(0, len(data) - ROW + 1, ROW):
        raw = data[at : at + ROW]
        if raw[0] == _LAST_ROW:
            return
        if raw[11] & 0x3F == LONG_NAME and raw[0] != _FREE_ROW:
            long = [raw] if raw[0] & _LONG_LAST else [*long, raw]
            continue
        if raw[0] not in {_FREE_ROW, ord(".")} and not raw[11] & LABEL:
            high, low, size = struct.unpack("<20xH4xHI", raw)
            short = _short_name(raw)
            name = _long_name(long, raw[:11])
            cluster = high << 16 | low if kind == FilesystemKind.FAT32 else low
            yield DirectoryEntry(
                at,
                len(long) if name else 0,
                name or short,
                short,
                bool(raw[11] & FOLDER),
                cluster,
                size,
            )
        long = []


def short_checksum(name: bytes) -> int:
    """What ties the rows of a long name to the eleven characters of the short one."""
    total = 0
    for byte in name:
        total = ((total & 1) << 7 | total >> 1) + byte & 0xFF
    return total


def _short_name(raw: bytes) -> str:
    first = b"\xe5" if raw[0] == 0x05 else raw[:1]  # e5 itself marks a free row
    stem, ending = plain_bytes(first + raw[1:8]).rstrip(), plain_bytes(raw[8:11]).rstrip()
    stem, ending = (
        stem.lower() if raw[12] & _LOWER_STEM else stem,
        ending.lower() if raw[12] & _LOWER_ENDING else ending,
    )
    return f"{stem}.{ending}" if ending else stem


def _long_name(parts: list[bytes], short: bytes) -> str:
    """The name that these rows spell, the last part first; empty where they do not belong to the
    short name.
    """
    wanted = short_checksum(short)
    numbers = [part[0] & 0x3F for part in parts]
    if (
        not parts
        or numbers != list(range(len(parts), 0, -1))
        or any(part[13] != wanted for part in parts)
    ):
        return ""
    text = b"".join(part[1:11] + part[14:26] + part[28:32] for part in reversed(parts))
    return plain_utf16(text)


def volume_label(data: bytes) -> str:
    """The label that the root folder keeps; empty where there is none."""
    for at in range(0, len(data) - ROW + 1, ROW):
        raw = data[at : at + ROW]
        if raw[0] == _LAST_ROW:
            break
        if raw[0] != _FREE_ROW and raw[11] & 0x3F == LABEL:
            return plain_bytes(raw[:11])
    return ""


def new_row(short: bytes, kind: int, first: int, length: int) -> bytes:
    """The row of a file or folder. Args: short: eleven characters; kind: attributes; first: its
    first cluster.
    """
    times = struct.pack(
        "<HHHHHHHI", 0, _STAMP, _STAMP, first >> 16, 0, _STAMP, first & 0xFFFF, length
    )
    return short + bytes((kind, 0, 0)) + times


def free_rows(data: bytes, count: int) -> int | None:
    """Where so many rows in a row are free; None where there is no such place."""
    run = 0
    ended = False
    for at in range(0, len(data) - ROW + 1, ROW):
        ended = ended or data[at] == 0
        run = run + 1 if ended or data[at] == 0xE5 else 0
        if run == count:
            return at - (count - 1) * ROW
    return None


def short_name(name: str, taken: set[str]) -> bytes:
    """Eleven characters; the name itself where it fits, else a part of it with a number."""
    stem, dot, ending = name.rpartition(".") if "." in name.lstrip(".") else (name, "", "")
    plain = _plain(stem)[:8], _plain(ending)[:3]
    whole = "".join((plain[0], "." if plain[1] else "", plain[1]))
    if whole == name.upper() and whole not in taken and name == name.upper():
        return (plain[0].ljust(8) + plain[1].ljust(3)).encode("ascii")
    for number in range(1, _TAILS):
        tail = f"~{number}"
        cut = plain[0][: 8 - len(tail)] + tail
        if (f"{cut}.{plain[1]}" if dot and plain[1] else cut) not in taken:
            return (cut.ljust(8) + plain[1].ljust(3)).encode("ascii")
    raise InputError(f"No short name is free for {name}.")


def _plain(text: str) -> str:
    return "".join(
        name if name.isascii() and (name.isalnum() or name in "_-~") else "_"
        for name in text.upper().replace(" ", "")
    )


def encode_long_name(name: str, short: bytes) -> list[bytes]:
    """The rows of a long name, the last part first; none where the short name says it all."""
    stem = short[:8].decode("cp437").rstrip()
    ending = short[8:].decode("cp437").rstrip()
    if name == (f"{stem}.{ending}" if ending else stem):
        return []
    text = name.encode("utf-16-le")
    parts = -(-len(text) // 26)
    padded = text + (b"\0\0" if len(text) % 26 else b"")
    padded = padded.ljust(parts * 26, b"\xff")
    check = short_checksum(short)
    rows = []
    for number in range(parts, 0, -1):
        piece = padded[(number - 1) * 26 : number * 26]
        head = number | (0x40 if number == parts else 0)
        rows.append(
            bytes([head])
            + piece[:10]
            + bytes([0x0F, 0, check])
            + piece[10:22]
            + b"\0\0"
            + piece[22:]
        )
    return rows
