"""How bytes become values and words: layouts, views on bytes, text, times, JSON, sums, units."""

import json
import re
import shlex
import struct
import unicodedata
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, Generic, NewType, TypeVar

import msgspec

from mending.model.errors import InputError
from mending.model.findings import Problem

# A bounds-checked view on bytes that knows where in the source it lies.


@dataclass(frozen=True, slots=True)
class Window:
    """Some bytes of a source.

    Attributes:
        data: the bytes; may be shorter than what was asked for at the end of a source.
        offset: absolute offset of the first of them, in bytes.
    """

    data: bytes
    offset: int = 0

    def __len__(self) -> int:
        return len(self.data)

    def take(self, at: int, length: int) -> bytes:
        """`length` bytes from `at`, counted from the start of this window.

        Raises:
            InputError: the range is not wholly inside the window.
        """
        if at < 0 or length < 0 or at + length > len(self.data):
            raise InputError(
                f"{length} bytes are needed at offset {self.offset + at}, but the data ends after"
                f" {len(self.data)}.",
                "The file is cut short or is not what it was taken for.",
            )
        return self.data[at : at + length]

    def part(self, at: int, length: int) -> "Window":
        """A smaller window inside this one; bounds as in `take`."""
        return Window(self.take(at, length), self.offset + at)

    @property
    def blank(self) -> bool:
        """Whether every byte is 00, or every byte is ff (erased flash)."""
        return not self.data.strip(b"\0") or not self.data.strip(b"\xff")


# On-disk structures as plain rows. The same rows read, patch and show.


R = TypeVar("R")

_CODES = {
    ("u", 1): "<B",
    ("u", 2): "<H",
    ("u", 4): "<I",
    ("u", 8): "<Q",
    ("s", 1): "<b",
    ("U", 2): ">H",
    ("U", 4): ">I",
}


@dataclass(frozen=True, slots=True)
class Field:
    """One row of a layout.

    Attributes:
        name: attribute of the record that holds the value.
        offset: bytes from the start of the structure.
        width: bytes.
        kind: `u` unsigned little-endian, `U` unsigned big-endian, `s` signed little-endian, `bytes`
            as they are.
        unit: what the number counts; empty for names and flags.
        meaning: one phrase for people.
    """

    name: str
    offset: int
    width: int
    kind: str
    unit: str
    meaning: str

    def decode(self, data: bytes) -> int | bytes:
        """The value in `data`, which is exactly `width` bytes long."""
        if self.kind == "bytes":
            return data
        value: int = struct.unpack(_CODES[self.kind, self.width], data)[0]
        return value

    def encode(self, value: int | bytes) -> bytes:
        """`value` as `width` bytes; shorter byte strings are filled with NULs."""
        if isinstance(value, bytes):
            if len(value) > self.width:
                raise ValueError(f"{self.name} holds {self.width} bytes, not {len(value)}")
            return value.ljust(self.width, b"\0")
        return struct.pack(_CODES[self.kind, self.width], value)


class Layout(Generic[R]):
    """Rows that together describe one structure and the record they fill.

    Args:
        record: class whose keyword arguments are the names of the rows.
        size: length of the whole structure in bytes.
        rows: the fields; gaps are allowed, and are kept as they are when patching.
    """

    def __init__(self, record: type[R], size: int, rows: Iterable[Field]) -> None:
        self.record = record
        self.size = size
        self.rows: Mapping[str, Field] = {row.name: row for row in rows}
        self._names, self._struct = _compiled(self.rows.values(), size)

    def read(self, window: Window, at: int = 0) -> R:
        """The record at `at`.

        Raises:
            InputError: the window is too short.
        """
        data = window.take(at, self.size)
        if self._struct is not None:
            values = self._struct.unpack(data)
            return self.record(**dict(zip(self._names, values, strict=True)))
        found: dict[str, Any] = {
            row.name: row.decode(data[row.offset : row.offset + row.width])
            for row in self.rows.values()
        }
        return self.record(**found)

    def patch(self, data: bytes, **values: int | bytes) -> bytes:
        """`data` with some fields changed; everything between the rows stays."""
        out = bytearray(data.ljust(self.size, b"\0"))
        for name, value in values.items():
            row = self.rows[name]
            out[row.offset : row.offset + row.width] = row.encode(value)
        return bytes(out)

    def encode(self, record: R) -> bytes:
        """The structure that reads back as `record`; gaps are NUL."""
        return self.patch(b"", **{name: getattr(record, name) for name in self.rows})

    def span(self, name: str, base: int = 0) -> tuple[int, int]:
        """Absolute offset and width of one field of a structure that starts at `base`."""
        return base + self.rows[name].offset, self.rows[name].width

    def wrong(self, name: str, base: int, code: str, found: object, expected: str) -> Problem:
        """A problem with one field of a structure that starts at absolute offset `base`."""
        at, width = self.span(name, base)
        return Problem(code, at, width, str(found), expected)


def _compiled(rows: Iterable[Field], size: int) -> tuple[list[str], struct.Struct | None]:
    """All rows as one format, which reads ten times as fast; None where rows overlap or differ in
    their byte order.
    """
    names, codes, at = [], "<", 0
    for row in sorted(rows, key=lambda row: row.offset):
        code = f"{row.width}s" if row.kind == "bytes" else _CODES[row.kind, row.width]
        if row.offset < at or code.startswith(">"):
            return [], None
        codes += f"{row.offset - at}x{code.removeprefix('<')}"
        names.append(row.name)
        at = row.offset + row.width
    return names, struct.Struct(f"{codes}{size - at}x") if at <= size else None


# Untrusted bytes and text made fit for people.


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


# Times as logs write them, read to Unix seconds.
#
# Sources: RFC 3339 5.6 (`date-time`), RFC 3164 4.1.2 (month, day and time without year or zone),
# RFC 5424 6.2.3, DSP0004 2.6 (packed, with the zone in minutes). Spreadsheets write dates with
# slashes or dots, JSON writers of the nt family milliseconds in brackets.


_ISO = re.compile(
    r"(\d{4})-(\d\d)-(\d\d)[T ](\d\d):(\d\d):(\d\d)([.,]\d+)? ?(Z|[+-]\d\d:?\d\d)?", re.ASCII
)
_PACKED = re.compile(r"\b(\d{4})(\d\d)(\d\d)(\d\d)(\d\d)(\d\d)\.\d{6}([+-]\d{3})?", re.ASCII)
_MILLISECONDS = re.compile(r"/Date\((-?\d{1,15})")
_LOCAL = re.compile(
    r"(\d{1,2})([./])(\d{1,2})[./](\d{4}),? +(\d{1,2}):(\d\d):(\d\d)(?: *([AP])M)?", re.I | re.ASCII
)
_SHORT = re.compile(r"([A-Z][a-z]{2}) +(\d{1,2}) (\d\d):(\d\d):(\d\d)", re.ASCII)
MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
_EARLIEST, _LATEST = -62_135_596_800, 253_402_300_799
_HOUR = 3600


def read_time(text: str, day_first: bool = False) -> tuple[float, bool] | None:
    """Unix seconds, and whether a zone was written; None for what is no time. Without a zone UTC is
    taken.

    Args:
        day_first: of dates with slashes, whether the day stands before the month; with dots it
            does.
    """
    if match := _ISO.search(text):
        return _iso(match)
    if match := _MILLISECONDS.search(text):
        return int(match.group(1)) / 1000, True
    if match := _PACKED.search(text):
        seconds = _seconds(*(int(group) for group in match.groups()[:6]))
        return (
            None
            if seconds is None
            else (seconds - int(match.group(7) or 0) * 60, match.group(7) is not None)
        )
    match = _LOCAL.search(text)
    if match is None:
        return None
    left, dot, right, year, hour, minute, second, half = match.groups()
    day, month = (left, right) if dot == "." or day_first else (right, left)
    hours = int(hour) % 12 + (12 if half in {"P", "p"} else 0) if half else int(hour)
    seconds = _seconds(int(year), int(month), int(day), hours, int(minute), int(second))
    return None if seconds is None else (seconds, False)


def wants_day_first(texts: list[str]) -> bool:
    """Whether dates with slashes in a column must have the day first: a first number over twelve
    stands in one.
    """
    return any(match and int(match.group(1)) > 12 for match in map(_LOCAL.search, texts))


def read_short(text: str, year: int) -> float | None:
    """A time without a year, in that year."""
    match = _SHORT.match(text)
    if match is None or match.group(1) not in MONTHS:
        return None
    month = MONTHS.index(match.group(1)) + 1
    return _seconds(year, month, *(int(group) for group in match.groups()[1:]))


def _iso(match: "re.Match[str]") -> tuple[float, bool] | None:
    year, month, day, hour, minute, second, part, zone = match.groups()
    seconds = _seconds(int(year), int(month), int(day), int(hour), int(minute), int(second))
    if seconds is None:
        return None
    seconds += float("0." + part[1:]) if part else 0.0
    if not zone or zone == "Z":
        return seconds, bool(zone)
    sign = -1 if zone[0] == "-" else 1
    return seconds - sign * (int(zone[1:3]) * _HOUR + int(zone[-2:]) * 60), True


def _seconds(year: int, month: int, day: int, hour: int, minute: int, second: int) -> float | None:
    try:
        return datetime(year, month, day, hour, minute, min(second, 59), tzinfo=UTC).timestamp()
    except ValueError:
        return None


def plain_time(seconds: float) -> str:
    """RFC 3339, UTC, to the second; what no calendar has is the first or the last that it has."""
    known = min(max(round(seconds), _EARLIEST), _LATEST)
    return datetime.fromtimestamp(known, UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


# JSON documents, also of names that are no UTF-8.
#
# A file's name is bytes; Python shows what of it is no UTF-8 as lone surrogates (PEP 383). UTF-8
# has no way to write these, and JSON has one: `\udcff`, in ASCII. So a document with such a name is
# written in ASCII, and read back by the standard library's parser, which keeps them; all others go
# the quick way.


T = TypeVar("T")


def encode_json(value: Any) -> bytes:
    """A value as one JSON document."""
    try:
        return msgspec.json.encode(value)
    except UnicodeEncodeError:
        plain = msgspec.to_builtins(value)
        return json.dumps(plain, ensure_ascii=True, separators=(",", ":")).encode("ascii")


def format_json(value: Any) -> bytes:
    """A value as a JSON document that people can read: indented."""
    try:
        return msgspec.json.format(msgspec.json.encode(value))
    except UnicodeEncodeError:
        return json.dumps(msgspec.to_builtins(value), ensure_ascii=True, indent=2).encode("ascii")


def decode_json(data: bytes, kind: type[T]) -> T:
    """A value of a kind out of a JSON document.

    Raises:
        msgspec.DecodeError: it is no JSON, or of another shape.
    """
    try:
        return msgspec.json.decode(data, type=kind)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        if b"\\ud" not in data:
            raise msgspec.DecodeError(str(error)) from error
    except RecursionError as error:
        raise msgspec.DecodeError("it is nested too deep") from error
    return msgspec.convert(parse_json(data), kind)


def parse_json(data: bytes) -> Any:
    """A JSON document as plain values, lone surrogates kept.

    Raises:
        msgspec.DecodeError: it is none, or nested deeper than anything is.
    """
    try:
        return json.loads(data)
    except (ValueError, RecursionError) as error:
        raise msgspec.DecodeError(f"JSON is malformed: {type(error).__name__}") from error


# Checksums that several on-disk formats share and the standard library lacks.


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


# Units that must not be mixed up. A bare `int` in a signature is a count that its name
# explains.


Lba = NewType("Lba", int)
"""Number of a logical sector, counted from 0 at the start of the disk."""

SectorCount = NewType("SectorCount", int)
"""How many logical sectors."""

ByteOffset = NewType("ByteOffset", int)
"""Bytes from the start of the source."""


# Times of the nt family: units of 100 ns since the beginning of 1601, UTC.
#
# Source: the published description of the family's data types, FILETIME.


_EPOCH = 11_644_473_600
"""Seconds from the beginning of 1601 to that of 1970."""
_TICKS = 10_000_000
"""Units in a second."""


def unix_seconds(ticks: int) -> float:
    """Seconds since the beginning of 1970; negative before it."""
    return ticks / _TICKS - _EPOCH


def nt_ticks(seconds: float) -> int:
    """The time of the nt family for seconds since the beginning of 1970."""
    return int((seconds + _EPOCH) * _TICKS)


# How work tells how far it is.


Progress = Callable[[int, int], None]
"""Called with what is done and what there is in all, in the unit of the work."""


def silent(done: int, total: int) -> None:
    """Tell nobody."""
