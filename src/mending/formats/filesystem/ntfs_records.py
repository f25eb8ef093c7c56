"""File records of NTFS: the update sequence, attributes, runs of clusters, and what the first
system files tell.

Source: the on-disk layout as documented by the Linux NTFS project: `layout.h`, structures
`MFT_RECORD`, `ATTR_RECORD`, `VOLUME_INFORMATION`; `logfile.h`, structures `RESTART_PAGE_HEADER` and
`RESTART_AREA`.
"""

import struct
from collections.abc import Iterator

import msgspec

from mending.model import (
    ByteOffset,
    Field,
    InputError,
    Layout,
    Problem,
    Reading,
    Window,
    hex_preview,
    plain_utf16,
)

MAGIC = b"FILE"
MFT, MIRROR, LOG, VOLUME, BITMAP = 0, 1, 2, 3, 6
"""Numbers of the system files that are read here."""
MIRRORED = 4
"""Records of which the mirror keeps a copy; more where a cluster holds more."""
ATTRIBUTE_LIST, NAME, INFORMATION, DATA = 0x20, 0x60, 0x70, 0x80
INDEX_ROOT, INDEX_BLOCKS, INDEX_BITMAP, REPARSE = 0x90, 0xA0, 0xB0, 0xC0
COMPRESSED, ENCRYPTED, SPARSE = 0x00FF, 0x4000, 0x8000
NUMBER = 0xFFFF_FFFF_FFFF
"""What of a reference is the number of a record; the two bytes above are its sequence."""
_IN_USE, _FOLDER = 1, 2
_MOST_UNIT = 6
"""Usual are 16 clusters together; a damaged exponent must not cost memory."""
DIRTY = 1
_END = 0xFFFFFFFF
_STRIDE = 512
_MOST_RUNS = 4096
"""A record of 4 KiB cannot hold more."""
_LOG_CLEAN, _NO_CLIENT = 2, 0xFFFF


class RecordHead(msgspec.Struct, frozen=True):
    """The head of a file record as it is on the disk."""

    magic: bytes
    sequence_offset: int
    sequence_count: int
    sequence: int
    attributes_offset: int
    flags: int
    used: int
    allocated: int
    base: int


HEAD = Layout(
    RecordHead,
    48,
    [
        Field("magic", 0, 4, "bytes", "", "FILE"),
        Field("sequence_offset", 4, 2, "u", "bytes", "where the update sequence is"),
        Field("sequence_count", 6, 2, "u", "", "numbers in it: one, and one for each 512 bytes"),
        Field("sequence", 16, 2, "u", "", "how often the record was used anew"),
        Field("attributes_offset", 20, 2, "u", "bytes", "first attribute"),
        Field("flags", 22, 2, "u", "", "1 in use, 2 folder"),
        Field("used", 24, 4, "u", "bytes", "length in use"),
        Field("allocated", 28, 4, "u", "bytes", "length of the record"),
        Field(
            "base", 32, 8, "u", "", "the record that this one continues; 0 where it is one itself"
        ),
    ],
)


class Attribute(msgspec.Struct, frozen=True):
    """One attribute, or a piece of one. `value` is None where its bytes lie in clusters of `runs`
    instead.

    Attributes:
        runs: pairs of first cluster (None: a hole) and count.
        bytes: length of the value; 0 in all pieces but the first.
        name: empty for the main one of its type.
        flags: `COMPRESSED`, `ENCRYPTED`, `SPARSE`.
        first: number of the first cluster of this piece within the value.
        initialized: bytes that were ever written; what follows reads as zeros.
        unit: clusters that are compressed together; 1 where none are.
    """

    type: int
    value: bytes | None
    runs: tuple[tuple[int | None, int], ...]
    bytes: int
    name: str = ""
    flags: int = 0
    first: int = 0
    initialized: int = 0
    unit: int = 1


class FileRecord(msgspec.Struct, frozen=True):
    """A record with its update sequence undone; `stable` is what both copies of it have in
    common.
    """

    offset: ByteOffset
    attributes: tuple[Attribute, ...]
    stable: bytes
    in_use: bool = False
    is_folder: bool = False
    sequence: int = 0
    base: int = 0

    def attribute(self, kind: int, name: str = "") -> Attribute | None:
        """The first attribute of a type and name."""
        return next(
            (each for each in self.attributes if each.type == kind and each.name == name), None
        )

    @property
    def label(self) -> str:
        """The name that `$Volume` keeps."""
        name = self.attribute(NAME)
        return plain_utf16(name.value) if name is not None and name.value is not None else ""

    @property
    def dirty(self) -> bool | None:
        """The flag that `$Volume` keeps; None where it is not there."""
        information = self.attribute(INFORMATION)
        if information is None or information.value is None or len(information.value) < 12:
            return None
        return bool(struct.unpack_from("<H", information.value, 10)[0] & DIRTY)


def read(window: Window) -> Reading[FileRecord]:
    """Read one file record; damage ends the list of attributes.

    Args:
        window: exactly the record.

    Raises:
        InputError: fewer than 48 bytes.
    """
    head = HEAD.read(window)
    nothing = FileRecord(ByteOffset(window.offset), (), window.data)
    if head.magic != MAGIC:
        found = hex_preview(head.magic)
        return Reading(nothing, (Problem("record-magic", window.offset, 4, found, "46 49 4c 45"),))
    data = undone(window.data, head.sequence_offset, head.sequence_count)
    if data is None:
        at, _ = HEAD.span("sequence_offset", window.offset)
        found = f"{head.sequence_count} numbers at {head.sequence_offset}"
        return Reading(
            nothing,
            (Problem("update-sequence", at, 4, found, "numbers that close every 512 bytes"),),
        )
    start, end = head.sequence_offset, head.sequence_offset + 2 * head.sequence_count
    stable = data[:start] + bytes(end - start) + data[end:]
    attributes = tuple(_attributes(data, head.attributes_offset))
    record = FileRecord(
        offset=ByteOffset(window.offset),
        attributes=attributes,
        stable=stable,
        in_use=bool(head.flags & _IN_USE),
        is_folder=bool(head.flags & _FOLDER),
        sequence=head.sequence,
        base=head.base & NUMBER,
    )
    return Reading(record)


def log_is_closed(page: bytes) -> bool | None:
    """Whether a log that begins with these bytes has nothing to replay; None where they are no
    restart page.
    """
    if not page.strip(b"\xff"):
        return True  # never used
    if page[:4] != b"RSTR" or len(page) < 64:
        return None
    area = struct.unpack_from("<H", page, 24)[0]
    if area + 16 > len(page):
        return None
    client, flags = struct.unpack_from("<HH", page, area + 12)
    return client == _NO_CLIENT or bool(flags & _LOG_CLEAN)


def undone(raw: bytes, start: int, count: int) -> bytes | None:
    """A record or index block with the last two bytes of every 512 put back; None where the update
    sequence does not fit: it was written half.
    """
    data = bytearray(raw)
    strides = len(data) // _STRIDE
    if count != strides + 1 or start + 2 * count > len(data):
        return None
    number = data[start : start + 2]
    for stride in range(1, strides + 1):
        end = stride * _STRIDE
        if data[end - 2 : end] != number:
            return None
        data[end - 2 : end] = data[start + 2 * stride : start + 2 * stride + 2]
    return bytes(data)


def _attributes(data: bytes, at: int) -> Iterator[Attribute]:
    while at + 24 <= len(data):
        kind, length, away, count, name_at, flags = struct.unpack_from("<IIBBHH", data, at)
        if kind == _END or length < 24 or at + length > len(data):
            return
        body = data[at : at + length]
        name = body[name_at : name_at + 2 * count].decode("utf-16-le", "replace")
        try:
            yield (_clusters if away else _resident)(kind, body, name, flags)
        except (InputError, struct.error):
            return
        at += length


def _resident(kind: int, body: bytes, name: str, flags: int) -> Attribute:
    length, offset = struct.unpack_from("<IH", body, 16)
    value = Window(body).take(offset, length)
    return Attribute(kind, value, (), length, name, flags, initialized=length)


def _clusters(kind: int, body: bytes, name: str, flags: int) -> Attribute:
    first, _, pairs, unit = struct.unpack_from("<QQHH", body, 16)
    length, initialized = struct.unpack_from("<QQ", body, 48) if not first else (0, 0)
    together = 1 << unit if flags & COMPRESSED and 0 < unit <= _MOST_UNIT else 1
    runs = tuple(_runs(body, pairs))
    return Attribute(kind, None, runs, length, name, flags, first, initialized, together)


def _runs(body: bytes, at: int) -> Iterator[tuple[int | None, int]]:
    cluster = 0
    for _ in range(_MOST_RUNS):
        if at >= len(body) or not body[at]:
            return
        wide, far = body[at] & 15, body[at] >> 4
        count = int.from_bytes(body[at + 1 : at + 1 + wide], "little")
        step = body[at + 1 + wide : at + 1 + wide + far]
        cluster += int.from_bytes(step, "little", signed=True)
        yield (cluster if far else None), count
        at += 1 + wide + far
