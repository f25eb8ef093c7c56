"""Heads of encrypted volumes of the nt family: what is encrypted how far, and the ways in.

The first sector keeps its fields of a boot sector and bears the signature `-FVE-FS-`. It says
where three copies of a block lie: how far encrypting has come, where the true first sectors are
kept, and entries inside each other. Each *protector* among them keeps the key of the keys, locked
in its own way; that key unlocks the key of the volume. Where only what is in use was encrypted,
maps of chunks tell which of them are.

Sources: public descriptions of the format by those who read it independently (volume header, block
header, entries, values); what they leave open, by the samples of a package of the registry.
"""

import struct
import uuid
import zlib
from collections.abc import Iterator
from datetime import UTC, datetime

import msgspec

from mending.model import clean_text
from mending.model.data import unix_seconds

SIGNATURE = b"-FVE-FS-"
SECTOR_BYTES = 512
MOST_BLOCK = 1 << 20
KEY_BYTES = 32
METHODS = {
    0x8000: "aes-128-cbc with diffuser",
    0x8001: "aes-256-cbc with diffuser",
    0x8002: "aes-128-cbc",
    0x8003: "aes-256-cbc",
    0x8004: "aes-128-xts",
    0x8005: "aes-256-xts",
}
DECRYPTED = 1
_STATES = {1: "decrypted", 2: "being encrypted", 3: "being decrypted", 4: "encrypted"}
_WHOLE = uuid.UUID("4967d63b-2e29-4ad8-8399-f6a339e3d001")
_IN_USE = uuid.UUID("92a84d3b-dd80-4d0e-9e4e-b1e3284eaed8")
_PLACES = ((160, 176), (424, 440))
"""Where the identifier of the form stands in the first sector, and the places of the blocks; the
second of volumes that FAT readers may see."""
_BLOCK = struct.Struct("<8sHHHHQIIQQQQ")
_HEADER = struct.Struct("<IIII16sIIQ")
_ENTRY = struct.Struct("<HHHH")
_PROTECTOR = struct.Struct("<16sQHH")
_UNIT, _OLD_CLUSTER_AT = 16, 56
_MOST_ENTRIES = 64
_RESERVED, _RESERVED_OLD = 0x10000, 0x4000

KEY, TEXT, STRETCH, LOCKED_KEY, PROTECTOR, EXTERNAL, PLACE = 1, 2, 3, 5, 8, 9, 15
"""Kinds of values."""
_VOLUME_KEY, _DESCRIPTION = 3, 7
"""What an entry is for."""
CLEAR, EXTERNAL_KEY, RECOVERY, PASSWORD = 0x0000, 0x0200, 0x0800, 0x2000
_WAYS = {
    CLEAR: "suspended: its key lies open",
    0x0100: "the chip of the PC",
    EXTERNAL_KEY: "a key file",
    0x0400: "the chip of the PC and a PIN",
    0x0500: "the chip of the PC and a PIN",
    0x0600: "the chip of the PC and a key file",
    0x0700: "the chip of the PC, a PIN and a key file",
    RECOVERY: "a recovery key of 48 digits",
    0x1000: "a certificate",
    PASSWORD: "a password",
}


class Entry(msgspec.Struct, frozen=True):
    """One entry: what it is `use`d for, the kind of its value, and its bytes."""

    use: int
    kind: int
    data: bytes


class Protector(msgspec.Struct, frozen=True):
    """One way in. `inside` are its entries."""

    identifier: str
    way: int
    inside: tuple[Entry, ...]

    @property
    def says(self) -> str:
        """One line for people, with the identifier by which its owner finds the right key."""
        way = _WAYS.get(self.way, f"a way of kind {self.way:#x}")
        return way if self.way == CLEAR else f"{way}, identifier {self.identifier.upper()}"


class FveHead(msgspec.Struct, frozen=True, kw_only=True):
    """A head. All offsets are from the start of the volume.

    Attributes:
        state: 1 decrypted, 2 being encrypted, 3 being decrypted, 4 encrypted.
        boundary: what lies before it is encrypted, the rest not; 0 where all is.
        moved: where the true first sectors are kept, and how many bytes of them; none in volumes of
            the first version.
        reserved: offset and length of what the encryption keeps for itself.
        maps: places of descriptions of maps, none where there is none.
        mirror: of the first version, the cluster that its first sector hides.
        volume_key: the key of the volume, locked; None where there is none.
    """

    version: int
    identifier: str
    state: int
    boundary: int
    sector: int
    method: int
    description: str
    created: str
    moved: tuple[int, int]
    reserved: tuple[tuple[int, int], ...]
    maps: tuple[int, ...]
    mirror: int
    protectors: tuple[Protector, ...]
    volume_key: Entry | None

    @property
    def says(self) -> tuple[str, ...]:
        """State and ways in, a line each."""
        method = METHODS.get(self.method, "")
        state = _STATES.get(self.state, f"state {self.state}")
        told = f"{state}{f', {method}' if method else ''}{self._named}"
        return told, *(protector.says for protector in self.protectors)

    @property
    def _named(self) -> str:
        return f", called {self.description}" if self.description else ""


class FirstSector(msgspec.Struct, frozen=True):
    """What the first sector tells: bytes of a sector, places of the blocks and of maps."""

    sector: int
    cluster: int
    blocks: tuple[int, ...]
    maps: tuple[int, ...]


def read_first(data: bytes) -> FirstSector | None:
    """The first sector of a volume; None where it is of no encrypted one."""
    if len(data) < SECTOR_BYTES:
        return None
    sector, per_cluster = struct.unpack_from("<HB", data, 11)
    sector = sector if sector in {512, 1024, 2048, 4096} else SECTOR_BYTES
    for at, places in _PLACES:
        form = uuid.UUID(bytes_le=data[at : at + 16])
        if form in {_WHOLE, _IN_USE}:
            maps = struct.unpack_from("<2Q", data, places + 24) if form == _IN_USE else ()
            blocks = struct.unpack_from("<3Q", data, places)
            return FirstSector(sector, sector * per_cluster, blocks, tuple(filter(None, maps)))
    if data[3:11] != SIGNATURE:
        return None
    (cluster,) = struct.unpack_from("<Q", data, _OLD_CLUSTER_AT)
    return FirstSector(sector, sector * per_cluster, (cluster * sector * per_cluster,), ())


def block_bytes(data: bytes) -> int:
    """How much of a block has to be read to read it whole, from its first bytes; 0 where they begin
    none.
    """
    if len(data) < _BLOCK.size + _HEADER.size or data[:8] != SIGNATURE:
        return 0
    size = int.from_bytes(data[8:10], "little")
    entries = int.from_bytes(data[_BLOCK.size : _BLOCK.size + 4], "little")
    return min(max(size * _UNIT + _ENTRY.size, _BLOCK.size + entries), MOST_BLOCK)


def other_blocks(data: bytes) -> tuple[int, ...]:
    """The places of all copies, by the first bytes of any of them."""
    return tuple(map(int, _BLOCK.unpack_from(data)[8:11])) if block_bytes(data) else ()


def is_whole(data: bytes) -> bool:
    """Whether the checksum behind a block holds (CRC-32); the first version has none."""
    if not block_bytes(data):
        return False
    size, version = struct.unpack_from("<HH", data, 8)
    if version < 2:
        return True
    end = size * _UNIT
    return end + 8 <= len(data) and zlib.crc32(data[:end]) == int.from_bytes(
        data[end + 4 : end + 8], "little"
    )


def read_block(data: bytes, first: FirstSector) -> FveHead | None:
    """A head from one of its blocks; None where there is none."""
    if not block_bytes(data):
        return None
    row, header = _BLOCK.unpack_from(data), _HEADER.unpack_from(data, _BLOCK.size)
    version, state, boundary, sectors, places, last = (
        row[2],
        row[3],
        row[5],
        row[7],
        row[8:11],
        row[11],
    )
    if version not in {1, 2} or not _HEADER.size <= header[0] <= MOST_BLOCK:
        return None
    end = min(_BLOCK.size + header[0], len(data))
    entries = list(_entries(data[_BLOCK.size + _HEADER.size : end]))
    moved = (last, sectors * first.sector) if version > 1 else (0, 0)
    cluster = max(first.cluster, first.sector)
    size = (_RESERVED_OLD + cluster - 1) // cluster * cluster if version == 1 else _RESERVED
    reserved = [(place, size) for place in places] + ([moved] if moved[1] else [])
    return FveHead(
        version=version,
        identifier=str(uuid.UUID(bytes_le=header[4])),
        state=state,
        boundary=boundary if version > 1 else 0,
        sector=first.sector,
        method=header[6] & 0xFFFF,
        description=next((_text(each) for each in entries if each.use == _DESCRIPTION), ""),
        created=_time(header[7]),
        moved=moved,
        reserved=tuple(sorted(reserved)),
        maps=first.maps,
        mirror=last if version == 1 else 0,
        protectors=tuple(
            protector for entry in entries if (protector := _protector(entry)) is not None
        ),
        volume_key=next(
            (each for each in entries if (each.use, each.kind) == (_VOLUME_KEY, LOCKED_KEY)), None
        ),
    )


def entries_in(entry: Entry) -> tuple[Entry, ...]:
    """The entries inside the value of one."""
    starts = {STRETCH: 20, PROTECTOR: _PROTECTOR.size, EXTERNAL: 24}
    start = starts.get(entry.kind)
    return tuple(_entries(entry.data[start:])) if start is not None else ()


def read_key_file(data: bytes) -> tuple[str, bytes] | None:
    """Identifier and key of a key file; None for other bytes. It has the header and the entries of
    a block.
    """
    if len(data) < _HEADER.size:
        return None
    header = _HEADER.unpack_from(data)
    if header[0] != len(data) or header[1:3] != (1, _HEADER.size):
        return None
    for entry in _entries(data[_HEADER.size :]):
        if entry.kind != EXTERNAL or len(entry.data) < 24:
            continue
        for inside in entries_in(entry):
            if inside.kind == KEY and len(inside.data) >= 4 + KEY_BYTES:
                identifier = str(uuid.UUID(bytes_le=entry.data[:16]))
                return identifier, inside.data[4 : 4 + KEY_BYTES]
    return None


def _protector(entry: Entry) -> Protector | None:
    if entry.kind != PROTECTOR or len(entry.data) < _PROTECTOR.size:
        return None
    identifier, _, _, way = _PROTECTOR.unpack_from(entry.data)
    return Protector(str(uuid.UUID(bytes_le=identifier)), way, entries_in(entry))


def _entries(data: bytes) -> Iterator[Entry]:
    at = 0
    for _ in range(_MOST_ENTRIES):
        if at + _ENTRY.size > len(data):
            return
        size, use, kind, _ = _ENTRY.unpack_from(data, at)
        if size < _ENTRY.size or at + size > len(data):
            return
        yield Entry(use, kind, data[at + _ENTRY.size : at + size])
        at += size


def _text(entry: Entry) -> str:
    return clean_text(entry.data.decode("utf-16-le", errors="replace").partition("\0")[0], 120)


def _time(ticks: int) -> str:
    """RFC 3339; empty for a time that cannot be."""
    try:
        return f"{datetime.fromtimestamp(unix_seconds(ticks), UTC):%Y-%m-%dT%H:%M:%SZ}"
    except (ValueError, OverflowError, OSError):
        return ""


# Maps of an encrypted volume of the nt family: which of its chunks are encrypted already.
#
# A description names the size of a chunk and where maps of regions lie; a map has two records of
# which the one with the higher number counts: a bit for each chunk, set for an encrypted one. By
# the samples of a package of the registry; each part has a CRC-32 of itself with the sum as zeros.


DESCRIPTION_BYTES, MAP_BYTES = 4096, 1 << 20
_CHUNK_MAPS_DESCRIPTION = struct.Struct("<8sHHIIIIIII")
_MAP = struct.Struct("<10sHII3Q2III")
_RECORD = struct.Struct("<10sHIIQII")
_SIGNATURES = (b"FVE-EOW\0", b"FVE-EOWBM\0", b"FVE-EOWBR\0")
_SUM_AT = {_CHUNK_MAPS_DESCRIPTION: 36, _MAP: 56, _RECORD: 32}
_LEAST_CHUNK = 512


class MapDescription(msgspec.Struct, frozen=True):
    """Bytes of a chunk, and the places of the maps; its own bytes, and those of the log beside each
    map.
    """

    chunk: int
    places: tuple[int, ...]
    size: int
    log: int


class ChunkMap(msgspec.Struct, frozen=True):
    """A region of the volume (bytes), and the bits of its chunks, the lowest first; its own bytes,
    and the place of its log.
    """

    start: int
    end: int
    bits: bytes
    chunks: int
    size: int
    log: int

    def is_encrypted(self, chunk: int) -> bool:
        """Whether a chunk of the region is; one that the map does not reach is not."""
        return chunk < self.chunks and bool(self.bits[chunk // 8] >> chunk % 8 & 1)


def read_description(data: bytes) -> MapDescription | None:
    """None where it is damaged."""
    if len(data) < _CHUNK_MAPS_DESCRIPTION.size or data[:8] != _SIGNATURES[0]:
        return None
    row = _CHUNK_MAPS_DESCRIPTION.unpack_from(data)
    start, end, chunk = row[1], row[2], row[5]
    if (
        not _CHUNK_MAPS_DESCRIPTION.size <= start <= end <= len(data)
        or chunk < _LEAST_CHUNK
        or chunk % 512
    ):
        return None
    if not _holds(data[:end], _CHUNK_MAPS_DESCRIPTION, row[9]):
        return None
    places = struct.unpack_from(f"<{(end - start) // 8}Q", data, start)
    return MapDescription(chunk, places, end, row[6])


def read_map(data: bytes) -> ChunkMap | None:
    """None where it or both of its records are damaged."""
    if len(data) < _MAP.size or data[:10] != _SIGNATURES[1]:
        return None
    row = _MAP.unpack_from(data)
    start, size, log, records, length, kept = row[4], row[5], row[6], row[7:9], row[9], row[10]
    if records[0] > len(data) or not _holds(data[: records[0]], _MAP, kept):
        return None
    found = [record for at in records if (record := _record(data[at : at + length]))]
    if not found:
        return None
    _, chunks, bits = max(found, key=lambda record: record[0])
    return ChunkMap(start, start + size, bits, chunks, row[2], log)


def _record(data: bytes) -> tuple[int, int, bytes] | None:
    """Number, count of chunks, and bits."""
    if len(data) < _RECORD.size or data[:10] != _SIGNATURES[2]:
        return None
    _, start, size, chunks, number, _, kept = _RECORD.unpack_from(data)
    if not _RECORD.size <= start <= size <= len(data) or not _holds(data[:size], _RECORD, kept):
        return None
    bits = data[start:size]
    return (number, chunks, bits) if chunks <= len(bits) * 8 else None


def _holds(data: bytes, layout: struct.Struct, kept: int) -> bool:
    at = _SUM_AT[layout]
    return zlib.crc32(data[:at] + bytes(4) + data[at + 4 :]) == kept
