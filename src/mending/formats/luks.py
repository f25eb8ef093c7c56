"""Heads of LUKS volumes, both versions: key slots, what each of them asks for, and which bytes are
encrypted how.

A slot keeps the volume key, encrypted by what a passphrase or a key file is stretched to, and
spread over many stripes so that it can be destroyed for sure. A digest tells the right volume
key.

Sources: LUKS On-Disk Format Specification 1.2.3 (version 1, big-endian); LUKS2 On-Disk Format
Specification 1.1.3 (binary head, then JSON; the second copy has the magic turned round).
"""

import base64
import binascii
import hashlib
import json
import struct
from collections.abc import Mapping
from typing import Any

import msgspec

from mending.model import Window, plain_bytes

MAGIC, SECOND_MAGIC = b"LUKS\xba\xbe", b"SKUL\xba\xbe"
SECOND_PLACES = tuple(0x4000 << number for number in range(9))
"""Where the second copy of a head of version 2 may begin."""
MOST_HEAD = 4 << 20
_ONE = struct.Struct(">6sH32s32s32sII20s32sI40s")
_SLOT = struct.Struct(">II32sII")
_SLOTS, _IN_USE = 8, 0x00AC71F3
_BINARY, _SUM_AT, _SUM_BYTES = 4096, 448, 64
_SECTOR = 512
_MOST = 64


class KeyStretch(msgspec.Struct, frozen=True):
    """How a passphrase becomes a key: `pbkdf2` with a hash, or `argon2i`, `argon2id`.

    Attributes:
        cost: iterations, or passes.
        memory: KiB; lanes: threads; both 0 for pbkdf2.
    """

    kind: str
    hash: str
    salt: bytes
    cost: int
    memory: int = 0
    lanes: int = 0


class KeySlot(msgspec.Struct, frozen=True):
    """One way in.

    Attributes:
        key_bytes: of the volume key; `area_key_bytes` of the key that its stripes are encrypted by.
        offset: of the stripes, in bytes from the start of the volume.
        cipher: such as `aes-xts-plain64`; `hash` spreads the stripes.
    """

    number: int
    stretch: KeyStretch
    key_bytes: int
    area_key_bytes: int
    offset: int
    stripes: int
    cipher: str
    hash: str


class KeyDigest(msgspec.Struct, frozen=True):
    """Tells the right volume key: PBKDF2 of it. `slots` are those it is of."""

    hash: str
    salt: bytes
    cost: int
    value: bytes
    slots: tuple[int, ...]


class CryptSegment(msgspec.Struct, frozen=True):
    """Encrypted bytes.

    Attributes:
        offset: from the start of the volume.
        bytes: 0 for all up to its end.
        sector: bytes that are encrypted together; `first`: number of the first one, in units of 512
            bytes.
    """

    offset: int
    bytes: int
    cipher: str
    sector: int
    first: int


class LuksHead(msgspec.Struct, frozen=True):
    """A head. `says` tells its ways in, a line each; no `segment` where it is of a kind that is not
    read here.
    """

    version: int
    identifier: str
    slots: tuple[KeySlot, ...]
    digests: tuple[KeyDigest, ...]
    segment: CryptSegment | None
    says: tuple[str, ...]


def read_luks(window: Window) -> LuksHead | None:
    """The head that a window begins with; None where there is none, or it is damaged."""
    data = window.data
    if data[:6] not in {MAGIC, SECOND_MAGIC} or len(data) < _ONE.size:
        return None
    version = int.from_bytes(data[6:8], "big")
    if version == 1 and data[:6] == MAGIC:
        return _version_one(data)
    return _version_two(data) if version == 2 else None


def _version_one(data: bytes) -> LuksHead | None:
    if len(data) < _ONE.size + _SLOTS * _SLOT.size:
        return None
    row = _ONE.unpack_from(data)
    cipher = f"{plain_bytes(row[2])}-{plain_bytes(row[3])}"
    named, payload, key_bytes = plain_bytes(row[4]), row[5], row[6]
    slots = []
    for number in range(_SLOTS):
        state, cost, salt, start, stripes = _SLOT.unpack_from(data, _ONE.size + number * _SLOT.size)
        if state == _IN_USE:
            stretch = KeyStretch("pbkdf2", named, salt, cost)
            place = start * _SECTOR
            slots.append(
                KeySlot(number, stretch, key_bytes, key_bytes, place, stripes, cipher, named)
            )
    digest = KeyDigest(named, row[8], row[9], row[7], tuple(range(_SLOTS)))
    segment = CryptSegment(payload * _SECTOR, 0, cipher, _SECTOR, 0)
    identifier = plain_bytes(row[10])
    return LuksHead(1, identifier, tuple(slots), (digest,), segment, _ways(slots, []))


def _version_two(data: bytes) -> LuksHead | None:
    (length,) = struct.unpack_from(">Q", data, 8)
    if not _BINARY < length <= min(len(data), MOST_HEAD) or not _is_whole(data[:length]):
        return None
    try:
        tree = json.loads(data[_BINARY:length].split(b"\0", 1)[0])
        return _of_tree(tree, plain_bytes(data[168:208]))
    except (ValueError, TypeError, KeyError, AttributeError, RecursionError, binascii.Error):
        return None  # nothing in it can be relied on


def _is_whole(data: bytes) -> bool:
    named = plain_bytes(data[72:104])
    if named not in hashlib.algorithms_guaranteed or "shake" in named:
        return False
    blank = data[:_SUM_AT] + bytes(_SUM_BYTES) + data[_SUM_AT + _SUM_BYTES :]
    wanted = hashlib.new(named, blank).digest()
    return data[_SUM_AT : _SUM_AT + len(wanted)] == wanted


def _of_tree(tree: Mapping[str, Any], identifier: str) -> LuksHead:
    slots = [
        _slot(_count(number), slot)
        for number, slot in list(tree["keyslots"].items())[:_MOST]
        if slot["type"] == "luks2"
    ]
    digests = tuple(
        KeyDigest(
            str(row["hash"]),
            _raw(row["salt"]),
            _count(row["iterations"]),
            _raw(row["digest"]),
            tuple(_count(number) for number in row["keyslots"]),
        )
        for row in list(tree["digests"].values())[:_MOST]
        if row["type"] == "pbkdf2"
    )
    tokens = [str(row.get("type", "")) for row in list(tree.get("tokens", {}).values())[:_MOST]]
    says = _ways(slots, tokens)
    return LuksHead(2, identifier, tuple(slots), digests, _segment(tree["segments"]), says)


def _slot(number: int, slot: Mapping[str, Any]) -> KeySlot:
    kdf, area = slot["kdf"], slot["area"]
    stretch = KeyStretch(
        str(kdf["type"]),
        str(kdf.get("hash", "")),
        _raw(kdf["salt"]),
        _count(kdf.get("iterations", kdf.get("time", 0))),
        _count(kdf.get("memory", 0)),
        _count(kdf.get("cpus", 0)),
    )
    return KeySlot(
        number,
        stretch,
        _count(slot["key_size"]),
        _count(area["key_size"]),
        _count(area["offset"]),
        _count(slot["af"]["stripes"]),
        str(area["encryption"]),
        str(slot["af"]["hash"]),
    )


def _segment(segments: Mapping[str, Any]) -> CryptSegment | None:
    """The one segment of a volume at rest; None where it is being encrypted anew, or its bytes are
    authenticated, too.
    """
    rows = list(segments.values())
    if len(rows) != 1 or rows[0]["type"] != "crypt" or "integrity" in rows[0]:
        return None
    row, size = rows[0], rows[0]["size"]
    return CryptSegment(
        _count(row["offset"]),
        0 if size == "dynamic" else _count(size),
        str(row["encryption"]),
        _count(row["sector_size"]),
        _count(row["iv_tweak"]),
    )


def _ways(slots: list[KeySlot], tokens: list[str]) -> tuple[str, ...]:
    ways = [
        f"key slot {slot.number}: a passphrase or key file ({slot.stretch.kind})" for slot in slots
    ]
    return (*ways, *(f"token: {kind}" for kind in tokens))


def _count(value: Any) -> int:
    """A number of the head, written as one or as text; raises ValueError where it is none of
    bytes.
    """
    number = int(value)
    if not 0 <= number < 1 << 62:
        raise ValueError(value)
    return number


def _raw(text: str) -> bytes:
    return base64.b64decode(text, validate=True)
