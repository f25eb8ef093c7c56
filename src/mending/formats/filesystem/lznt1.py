"""LZNT1, the compression of NTFS: pieces of 4 KiB, each of literals and of pairs that repeat what
came before.

Source: the published description of the algorithm (open specification of compression algorithms,
section LZNT1): a piece has a header of two bytes, its length less three in the lower twelve bits,
and bit 15 set where it is packed; eight flags stand before each eight tokens; how many bits of a
pair are length hangs on how far the piece has got.
"""

from mending.model import InputError

_PIECE = 4096


def unpack(data: bytes, most: int) -> bytes:
    """What packed bytes stand for, at most so many.

    Raises:
        InputError: a pair that points before its piece, or a piece that is cut off.
    """
    out = bytearray()
    at = 0
    while at + 2 <= len(data) and len(out) < most:
        header = int.from_bytes(data[at : at + 2], "little")
        if not header:
            break
        end = at + 2 + (header & 0xFFF) + 1
        if end > len(data):
            raise InputError("it cannot be unpacked: a packed piece is cut off.")
        piece = data[at + 2 : end]
        whole = _unpacked(piece) if header & 0x8000 else piece
        out += whole.ljust(_PIECE, b"\0") if end < len(data) else whole
        at = end
    return bytes(out[:most])


def _unpacked(piece: bytes) -> bytes:
    out = bytearray()
    at, end = 0, len(piece)
    while at < end:
        flags, at = piece[at], at + 1
        for bit in range(8):
            if at >= end or len(out) >= _PIECE:
                break
            if not flags >> bit & 1:
                out.append(piece[at])
                at += 1
                continue
            if at + 2 > end or not out:
                raise InputError("it cannot be unpacked: a pair before its piece begins.")
            token, at = int.from_bytes(piece[at : at + 2], "little"), at + 2
            wide = 12 - max((len(out) - 1).bit_length() - 4, 0)
            length, back = (token & (1 << wide) - 1) + 3, (token >> wide) + 1
            if back > len(out):
                raise InputError("it cannot be unpacked: a pair that points before its piece.")
            start = len(out) - back
            if back >= length:
                out += out[start : start + length]
            else:
                out += (out[start:] * (length // back + 1))[:length]
    return bytes(out[:_PIECE])
