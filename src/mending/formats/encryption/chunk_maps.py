"""Maps of an encrypted volume of the nt family: which of its chunks are encrypted already.

A description names the size of a chunk and where maps of regions lie; a map has two records of
which the one with the higher number counts: a bit for each chunk, set for an encrypted one. By the
samples of a package of the registry; each part has a CRC-32 of itself with the sum as zeros.
"""

import struct
import zlib

import msgspec

DESCRIPTION_BYTES, MAP_BYTES = 4096, 1 << 20
_DESCRIPTION = struct.Struct("<8sHHIIIIIII")
_MAP = struct.Struct("<10sHII3Q2III")
_RECORD = struct.Struct("<10sHIIQII")
_SIGNATURES = (b"FVE-EOW\0", b"FVE-EOWBM\0", b"FVE-EOWBR\0")
_SUM_AT = {_DESCRIPTION: 36, _MAP: 56, _RECORD: 32}
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
    if len(data) < _DESCRIPTION.size or data[:8] != _SIGNATURES[0]:
        return None
    row = _DESCRIPTION.unpack_from(data)
    start, end, chunk = row[1], row[2], row[5]
    if not _DESCRIPTION.size <= start <= end <= len(data) or chunk < _LEAST_CHUNK or chunk % 512:
        return None
    if not _holds(data[:end], _DESCRIPTION, row[9]):
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
