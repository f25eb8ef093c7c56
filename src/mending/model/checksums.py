"""Checksums that several on-disk formats share and the standard library lacks."""

import struct

_CASTAGNOLI = 0x82F63B78
"""The reflected polynomial of CRC-32C (RFC 3720, section 12.1)."""


def _table(polynomial: int) -> tuple[int, ...]:
    rows = []
    for value in range(256):
        for _ in range(8):
            value = value >> 1 ^ (polynomial if value & 1 else 0)
        rows.append(value)
    return tuple(rows)


_ROWS = _table(_CASTAGNOLI)


def crc32c(data: bytes, start: int = 0xFFFFFFFF) -> int:
    """CRC-32C without the final complement, as ext, XFS and Btrfs use it before each closes it in its own way.

    Args:
        start: the register before the first byte.
    """
    register = start
    for byte in data:
        register = _ROWS[(register ^ byte) & 0xFF] ^ register >> 8
    return register


def fletcher64(data: bytes) -> int:
    """The Fletcher checksum of APFS objects over 32-bit words; `data` is what follows the checksum field itself.

    Source: the published APFS reference, "Objects", `o_cksum`.
    """
    low = high = 0
    for (word,) in struct.iter_unpack("<I", data[: len(data) // 4 * 4]):
        low += word
        high += low
    low, high = low % 0xFFFFFFFF, high % 0xFFFFFFFF
    first = 0xFFFFFFFF - (low + high) % 0xFFFFFFFF
    return (0xFFFFFFFF - (low + first) % 0xFFFFFFFF) << 32 | first
