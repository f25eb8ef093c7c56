"""Checksums that several on-disk formats share and the standard library lacks."""

import struct

_ONES = 0xFFFFFFFF


def crc32c(data: bytes, start: int = _ONES) -> int:
    """CRC-32C without the final complement, as ext, XFS and Btrfs use it before each closes it in
    its own way.

    Args:
        start: the register before the first byte.
    """
    from crc32c import crc32c as standard  # noqa: PLC0415 - lazy, for it is slow to load

    return standard(data, start ^ _ONES) ^ _ONES


def fletcher64(data: bytes) -> int:
    """The Fletcher checksum of APFS objects over 32-bit words; `data` is what follows the checksum
    field itself.

    Source: the published APFS reference, "Objects", `o_cksum`.
    """
    low = high = 0
    for (word,) in struct.iter_unpack("<I", data[: len(data) // 4 * 4]):
        low += word
        high += low
    low, high = low % 0xFFFFFFFF, high % 0xFFFFFFFF
    first = 0xFFFFFFFF - (low + high) % 0xFFFFFFFF
    return (0xFFFFFFFF - (low + first) % 0xFFFFFFFF) << 32 | first
