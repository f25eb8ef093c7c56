"""What was signed of a program: the digest in its own signature, digests of its pages, and the
digests that a catalogue lists. Whether the signer can be trusted is not judged here.

The digest leaves out what signing itself changes: the checksum in the header, the row of the table
that says where signatures are, and these themselves; the rest counts up to a length that is a
multiple of eight. A signature is a PKCS #7 structure whose content names the digest; it may carry
digests of single pages as well. A catalogue is such a structure, too, whose content is a list of
subjects with the digest of each.

Sources: RFC 2315 (PKCS #7); the published description of signatures of portable executables (format
of the digest, of page hashes and of certificate tables) and of lists of trusted subjects; the
published PE/COFF specification, revision 11, 4.7 "The Attribute Certificate Table".
"""

import hashlib
import re
import struct
from collections.abc import Iterator
from functools import cache
from importlib import import_module
from types import ModuleType

import msgspec

INDIRECT, SUBJECTS = "1.3.6.1.4.1.311.2.1.4", "1.3.6.1.4.1.311.10.1"
"""Kinds of content: one digest, and a list of subjects."""
_PAGES = {"1.3.6.1.4.1.311.2.3.1": "sha1", "1.3.6.1.4.1.311.2.3.2": "sha256"}
_HASHES = {"sha1": 20, "sha256": 32, "sha384": 48, "sha512": 64}
_COFF, _LONG = 24, 0x20B
_CHECKSUM_AT, _TABLES_AT, _TABLES_AT_LONG, _CERTIFICATES = 64, 96, 112, 4
_ROW = struct.Struct("<IHH")
_SIGNED_DATA = 2
_LISTED = re.compile(
    rb"\x06(?:\x05\x2b\x0e\x03\x02\x1a(?:\x05\0)?\x04\x14(?P<sha1>.{20})"
    rb"|\x09\x60\x86\x48\x01\x65\x03\x04\x02\x01(?:\x05\0)?\x04\x20(?P<sha256>.{32}))",
    re.DOTALL,
)
"""A digest as a catalogue lists it: the name of its hash, with or without an empty parameter, then
a string of its length (RFC 2315, 9.4; names from RFC 3279, 2.1, and RFC 5754, 2).
"""
_MOST_SIGNATURES, _MOST_BYTES = 8, 16 << 20
_PAGE = 4096
_WRAPPINGS = (b"\xa0", b"\x04", b"\x24")
"""Tags around the content: older structures wrap it in a tag, newer ones in a string of bytes."""


@cache
def _structures() -> ModuleType:
    """The structures and their library, which few files need and which take time to load."""
    return import_module("mending.formats.signed_structures")


class Left(msgspec.Struct, frozen=True):
    """What a digest leaves out: offset and length of each place."""

    checksum: tuple[int, int]
    row: tuple[int, int]
    signatures: tuple[int, int]

    def covers(self, at: int) -> bool:
        """Whether a byte is left out."""
        return any(start <= at < start + size for start, size in msgspec.structs.astuple(self))


class Signed(msgspec.Struct, frozen=True):
    """What one signature says: the name of a hash, the digest of the file, and digests of pages by
    their offset.
    """

    hash: str
    digest: bytes
    pages: tuple[tuple[int, bytes], ...] = ()
    page_hash: str = ""


def left_out(data: bytes) -> Left | None:
    """The places of a program that its digest leaves out; None for one whose headers make no sense.

    Args:
        data: the whole file.
    """
    if data[:2] != b"MZ" or len(data) < 64:
        return None
    optional = int.from_bytes(data[60:64], "little") + _COFF
    magic = int.from_bytes(data[optional : optional + 2], "little")
    row = optional + (_TABLES_AT_LONG if magic == _LONG else _TABLES_AT) + 8 * _CERTIFICATES
    if row + 8 > len(data):
        return None
    start, size = struct.unpack_from("<II", data, row)
    if not start or start + size > len(data) or start < row + 8:
        start, size = len(data), 0
    return Left((optional + _CHECKSUM_AT, 4), (row, 8), (start, size))


def _digest_of(data: bytes, left: Left, name: str) -> bytes:
    """The digest of a program as signatures know it."""
    total, at, view = hashlib.new(name), 0, memoryview(data)
    for start, size in msgspec.structs.astuple(left):
        total.update(view[at:start])
        at = start + size
    total.update(view[at:])
    counted = len(data) - left.signatures[1]
    total.update(bytes(-counted % 8))
    return total.digest()


def _signatures_of(data: bytes, left: Left) -> Iterator[Signed]:
    """What the signatures inside a program say; those that make no sense are passed over."""
    at, end = left.signatures[0], sum(left.signatures)
    for _ in range(_MOST_SIGNATURES):
        if at + _ROW.size > end:
            return
        length, _, kind = _ROW.unpack_from(data, at)
        if not _ROW.size < length <= end - at:
            return
        if kind == _SIGNED_DATA:
            signed = _signed(data[at + _ROW.size : at + length])
            if signed is not None:
                yield signed
        at += -(-length // 8) * 8


def _first_page_that_differs(data: bytes, left: Left, signed: Signed) -> int | None:
    """The offset of the first page whose digest is another one; None where none is, or no pages
    are listed. The last row of the list only says where the last page ends.
    """
    for (at, digest), (end, _) in zip(signed.pages, signed.pages[1:], strict=False):
        if not 0 <= at <= end <= len(data) or end - at > _PAGE:
            return None
        page = bytearray(data[at:end])
        if at < left.row[0] + left.row[1]:  # the headers, without what signing changes
            for start, size in (left.row, left.checksum):
                del page[max(start - at, 0) : max(start + size - at, 0)]
            page += bytes(_PAGE - 12 - len(page))
        else:
            page += bytes(_PAGE - len(page))
        if hashlib.new(signed.page_hash, page).digest() != digest:
            return at
    return None


def signatures_of(data: bytes) -> tuple[Signed, ...]:
    """What the signatures inside a program say; none for other bytes."""
    left = left_out(data)
    return tuple(_signatures_of(data, left)) if left is not None else ()


def listed_as(data: bytes) -> frozenset[bytes]:
    """The digests by which catalogues may list a program: of SHA-256, and of SHA-1 as older ones
    have it. None for other bytes.
    """
    left = left_out(data)
    if left is None:
        return frozenset()
    return frozenset(_digest_of(data, left, name) for name in ("sha256", "sha1"))


def judged(data: bytes) -> tuple[bool | None, int | None]:
    """Whether a program is what was signed, None where it carries no signature that can be read;
    and the offset of the first page that differs, where that is told.
    """
    left = left_out(data)
    found = list(_signatures_of(data, left)) if left is not None else []
    if left is None or not found:
        return None, None
    digests = {signed.hash: _digest_of(data, left, signed.hash) for signed in found}
    if any(digests[signed.hash] == signed.digest for signed in found):
        return True, None
    pages = (_first_page_that_differs(data, left, each) for each in found if each.pages)
    return False, next((page for page in pages if page is not None), None)


def catalogue_digests(data: bytes) -> frozenset[bytes]:
    """The digests that a catalogue lists; none for what is no catalogue.

    They are found by how the name of their hash and their length are written, not row by row: a
    system has a hundred thousand rows, and what else a row holds differs between its versions.
    """
    content = _content(data, SUBJECTS) if len(data) <= _MOST_BYTES else None
    if content is None:
        return frozenset()
    return frozenset(found[found.lastgroup or 0] for found in _LISTED.finditer(content))


def _signed(data: bytes) -> Signed | None:
    content = _content(data, INDIRECT)
    if content is None:
        return None
    try:
        inside = _structures().IndirectData.load(content)
        name = str(inside["message_digest"]["algorithm"]["algorithm"].native)
        digest = bytes(inside["message_digest"]["digest"].native)
        if _HASHES.get(name) != len(digest):
            return None
        pages, page_hash = _pages(inside["data"].dump())
    except (ValueError, TypeError, KeyError, AttributeError, RecursionError):
        return None
    return Signed(name, digest, pages, page_hash)


def _content(data: bytes, kind: str) -> bytes | None:
    """The content of a signed structure, out of its tag; None where it is of another kind, or
    damaged.
    """
    try:
        info = _structures().cms.ContentInfo.load(data)
        if info["content_type"].native != "signed_data":
            return None
        inside = info["content"]["encap_content_info"]
        if inside["content_type"].dotted != kind:
            return None
        raw = inside["content"].dump()
        while raw[:1] in _WRAPPINGS:
            raw = _structures().parser.parse(raw)[4]
        return bytes(raw)
    except (ValueError, TypeError, KeyError, AttributeError, RecursionError):
        return None


def _pages(raw: bytes) -> tuple[tuple[tuple[int, bytes], ...], str]:
    """Digests of pages, found by the kind of their list: offset and digest, again and again."""
    core = _structures().core
    for dotted, name in _PAGES.items():
        marked = core.ObjectIdentifier(dotted).dump()
        at = raw.find(marked)
        if at < 0:
            continue
        held = core.SetOf.load(raw[at + len(marked) :], spec=core.OctetString)
        table = bytes(held[0].native)
        size = 4 + _HASHES[name]
        rows = (table[start : start + size] for start in range(0, len(table) - size + 1, size))
        return tuple((int.from_bytes(row[:4], "little"), row[4:]) for row in rows), name
    return (), ""
