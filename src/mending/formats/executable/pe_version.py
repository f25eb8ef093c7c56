"""The version that a program of the nt family carries, and what tells one build of it from others.

Source: the published description of version resources (`VS_VERSIONINFO`, `VS_FIXEDFILEINFO`), and
of the PE header (time stamp, length in memory, checksum).
"""

import struct

_KEY = "VS_VERSION_INFO\0".encode("utf-16-le")
_SIGNATURE = 0xFEEF04BD.to_bytes(4, "little")
_NEAR, _MOST = 64, 64
_HEAD = 24
_STAMP_AT, _LENGTH_AT, _CHECKSUM_AT = 8, _HEAD + 56, _HEAD + 64


def version(data: bytes) -> tuple[int, int, int, int] | None:
    """Of the file: major, minor, build, revision; None where it carries none.

    Args:
        data: the whole file.
    """
    at = -1
    for _ in range(_MOST):
        at = data.find(_KEY, at + 1)
        if at < 0:
            return None
        place = data.find(_SIGNATURE, at, at + len(_KEY) + _NEAR)
        if place >= 0 and place + 16 <= len(data):
            high, low = struct.unpack_from("<II", data, place + 8)
            return high >> 16, high & 0xFFFF, low >> 16, low & 0xFFFF
    return None


def build_marks(data: bytes) -> tuple[int, int, int] | None:
    """Time stamp, length in memory and checksum, by which two files are the same build; None where
    the header cannot be read or keeps no checksum.

    Args:
        data: the file, or its first pages.
    """
    head = int.from_bytes(data[60:64], "little")
    if (
        data[:2] != b"MZ"
        or data[head : head + 4] != b"PE\0\0"
        or head + _CHECKSUM_AT + 4 > len(data)
    ):
        return None
    places = (_STAMP_AT, _LENGTH_AT, _CHECKSUM_AT)
    stamp, length, total = (int.from_bytes(data[head + at :][:4], "little") for at in places)
    return (stamp, length, total) if total else None
