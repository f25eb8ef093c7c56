"""Unpacks LZO1X, as Btrfs keeps it: segments with their lengths in front.

Sources: Linux kernel documentation, "LZO stream format as understood by Linux' LZO decompressor",
and Btrfs developer documentation, "Compression", for the segments.
"""

from mending.model import InputError

_SEGMENT = 4
_LONG = 16
_MOST_BYTES = 8 * 1024 * 1024


def unpack_segments(data: bytes, length: int, sector: int) -> bytes:
    """Unpack an extent.

    Args:
        length: bytes that come out. sector: no length of a segment crosses a multiple of this.

    Raises:
        InputError: it is damaged.
    """
    total = int.from_bytes(data[:_SEGMENT], "little")
    end, at, parts, size = min(total, len(data)), _SEGMENT, [], 0
    while at + _SEGMENT <= end and size < length:
        left = sector - at % sector if sector else _SEGMENT
        if left < _SEGMENT:
            at += left
            continue
        count = int.from_bytes(data[at : at + _SEGMENT], "little")
        at += _SEGMENT
        if not count or at + count > len(data):
            raise InputError("a packed segment is cut off.")
        part = unpack(data[at : at + count], min(max(sector, 4096), _MOST_BYTES))
        parts.append(part)
        size += len(part)
        at += count
    return b"".join(parts)[:length]


def unpack(data: bytes, most: int) -> bytes:
    """Unpack one segment.

    Args:
        most: bytes that may come out.

    Raises:
        InputError: it is damaged, or holds more.
    """
    try:
        return bytes(_unpacked(data, most))
    except IndexError as error:
        raise InputError("a packed segment is damaged.") from error


def _unpacked(data: bytes, most: int) -> bytearray:
    out, at, state = bytearray(), 0, 0
    if data[0] > 17:
        count = data[0] - 17
        out += _take(data, 1, count)
        at, state = 1 + count, min(count, 4)
    while True:
        code = data[at]
        at += 1
        if code < _LONG and state == 0:
            count, at = _count(data, at, code, 15, 3)
            out += _take(data, at, count)
            at, state = at + count, 4
            continue
        if code >= 64:
            count = (code >> 5) + 1
            distance = (data[at] << 3) + (code >> 2 & 7) + 1
            trailing, at = code & 3, at + 1
        elif code >= 32:
            count, at = _count(data, at, code & 31, 31, 2)
            word = data[at] | data[at + 1] << 8
            distance, trailing, at = (word >> 2) + 1, word & 3, at + 2
        elif code >= _LONG:
            count, at = _count(data, at, code & 7, 7, 2)
            word = data[at] | data[at + 1] << 8
            distance = ((code & 8) << 11) + (word >> 2) + 16_384
            trailing, at = word & 3, at + 2
            if distance == 16_384:
                return out
        elif state == 4:
            count, distance = 3, (data[at] << 2) + (code >> 2) + 2049
            trailing, at = code & 3, at + 1
        else:
            count, distance = 2, (data[at] << 2) + (code >> 2) + 1
            trailing, at = code & 3, at + 1
        if distance > len(out) or len(out) + count > most:
            raise InputError("a packed segment is damaged.")
        start = len(out) - distance
        piece = bytes(out[start : start + count])
        out += (piece * (count // len(piece) + 1))[:count]
        out += _take(data, at, trailing)
        at, state = at + trailing, trailing


def _count(data: bytes, at: int, low: int, most: int, plus: int) -> tuple[int, int]:
    """A length that goes on in further bytes where its bits are all 0."""
    if low:
        return low + plus, at
    total = most
    while not data[at]:
        total, at = total + 255, at + 1
        if total > _MOST_BYTES:
            raise InputError("a packed segment is damaged.")
    return total + data[at] + plus, at + 1


def _take(data: bytes, at: int, count: int) -> bytes:
    if at + count > len(data):
        raise InputError("a packed segment is cut off.")
    return data[at : at + count]
