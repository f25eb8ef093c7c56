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
NAME, INFORMATION, DATA = 0x60, 0x70, 0x80
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
    attributes_offset: int
    flags: int
    used: int
    allocated: int


HEAD = Layout(
    RecordHead,
    48,
    [
        Field("magic", 0, 4, "bytes", "", "FILE"),
        Field("sequence_offset", 4, 2, "u", "bytes", "where the update sequence is"),
        Field("sequence_count", 6, 2, "u", "", "numbers in it: one, and one for each 512 bytes"),
        Field("attributes_offset", 20, 2, "u", "bytes", "first attribute"),
        Field("flags", 22, 2, "u", "", "1 in use, 2 folder"),
        Field("used", 24, 4, "u", "bytes", "length in use"),
        Field("allocated", 28, 4, "u", "bytes", "length of the record"),
    ],
)


class Attribute(msgspec.Struct, frozen=True):
    """One unnamed attribute. `value` is None where its bytes lie in clusters of `runs` instead.

    Attributes:
        runs: pairs of first cluster (None: a hole) and count.
        bytes: length of the value.
    """

    type: int
    value: bytes | None
    runs: tuple[tuple[int | None, int], ...]
    bytes: int


class FileRecord(msgspec.Struct, frozen=True):
    """A record with its update sequence undone; `stable` is what both copies of it have in
    common.
    """

    offset: ByteOffset
    attributes: tuple[Attribute, ...]
    stable: bytes

    def attribute(self, kind: int) -> Attribute | None:
        """The first attribute of a type."""
        return next((attribute for attribute in self.attributes if attribute.type == kind), None)

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
    data = _undone(window, head)
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
    return Reading(FileRecord(ByteOffset(window.offset), attributes, stable))


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


def _undone(window: Window, head: RecordHead) -> bytes | None:
    """The record with the last two bytes of every 512 put back; None where the sequence does not
    fit.
    """
    data = bytearray(window.data)
    strides = len(data) // _STRIDE
    start = head.sequence_offset
    if head.sequence_count != strides + 1 or start + 2 * head.sequence_count > len(data):
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
        kind, length, away, name = struct.unpack_from("<IIBB", data, at)
        if kind == _END or length < 24 or at + length > len(data):
            return
        body = data[at : at + length]
        if not name:
            try:
                yield _clusters(kind, body) if away else _resident(kind, body)
            except (InputError, struct.error):
                return
        at += length


def _resident(kind: int, body: bytes) -> Attribute:
    length, offset = struct.unpack_from("<IH", body, 16)
    return Attribute(kind, Window(body).take(offset, length), (), length)


def _clusters(kind: int, body: bytes) -> Attribute:
    (pairs,) = struct.unpack_from("<H", body, 32)
    (length,) = struct.unpack_from("<Q", body, 48)
    return Attribute(kind, None, tuple(_runs(body, pairs)), length)


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
