"""Untrusted bytes and text made fit for people."""

import shlex
import unicodedata

_HEX_SHOWN = 16
_BYTE = 0xDC00
"""A byte of a name that is no UTF-8 is shown as the surrogate behind this (PEP 383)."""


def clean_text(text: str, limit: int = 500) -> str:
    """Text from evidence without control characters, direction overrides or line breaks, at most
    `limit` long.
    """
    if len(text) <= limit and text.isprintable():  # nearly all text, and much quicker
        return text
    shown = "".join(_shown(char) for char in text[: 2 * limit])
    kept = "".join(
        char
        for char in shown
        if unicodedata.category(char) not in {"Cc", "Cf", "Cs", "Co", "Zl", "Zp"}
    )
    return kept if len(kept) <= limit else kept[: limit - 1] + "…"


def _shown(char: str) -> str:
    """A blank for what moves the cursor; of a name that is no UTF-8, its bytes (PEP 383)."""
    if char in "\t\r\n":
        return " "
    return f"\\x{ord(char) - _BYTE:02x}" if _BYTE + 0x80 <= ord(char) <= _BYTE + 0xFF else char


def quoted(word: object) -> str:
    """A word as a shell takes it, so that a command with it can be pasted: in quotes where it needs
    them; where it holds what cannot be shown, in the way of `$'...'` (POSIX.1-2024, 2.2.4).
    """
    text = str(word)
    if text.isprintable():
        return shlex.quote(text)
    return "$'" + "".join(_escaped(char) for char in text) + "'"


def _escaped(char: str) -> str:
    if char in "\\'":
        return f"\\{char}"
    if char.isprintable():
        return char
    data = char.encode("utf-8", "surrogateescape")
    return "".join(f"\\{byte:03o}" for byte in data)


def capital(sentence: str) -> str:
    """A sentence that begins with a capital letter."""
    return sentence[:1].upper() + sentence[1:]


def plain_bytes(data: bytes) -> str:
    """A label or name field as text: cut at the first NUL, undecodable bytes shown as `?`, trailing
    blanks dropped.
    """
    text = data.split(b"\0", 1)[0].decode("ascii", errors="replace").replace("�", "?")
    return clean_text(text).rstrip()


def hex_preview(data: bytes) -> str:
    """The first sixteen bytes in hex; a run of one value is said in words."""
    if data and data.count(data[0]) == len(data):
        return f"{len(data)} x {data[0]:02x}"
    return data[:_HEX_SHOWN].hex(" ") + (" …" if len(data) > _HEX_SHOWN else "")


def plain_utf16(data: bytes) -> str:
    """A UTF-16 little-endian name field as text, cut at the first NUL."""
    return clean_text(data.decode("utf-16-le", errors="replace").split("\0", 1)[0]).rstrip()


def plain_size(count: int) -> str:
    """Bytes as people say them."""
    for unit, step in (("TiB", 1 << 40), ("GiB", 1 << 30), ("MiB", 1 << 20), ("KiB", 1 << 10)):
        if count >= step:
            return f"{count / step:.4g} {unit}"
    return f"{count} bytes"


def decode_text(data: bytes) -> str:
    """Text in UTF-16 where its mark, or every other byte being zero, says so; else UTF-8. Nothing
    is refused.
    """
    if data[:2] in {b"\xff\xfe", b"\xfe\xff"}:
        return data.decode("utf-16", errors="replace")
    if len(data) > 3 and data[1:200:2].count(0) > 0.8 * len(data[1:200:2]):
        return data.decode("utf-16-le", errors="replace")
    return data.removeprefix(b"\xef\xbb\xbf").decode("utf-8", errors="replace")
