"""Indexes of NTFS folders and attribute lists: the entries of a node, and what they name.

Source: the on-disk layout as documented by the Linux NTFS project: `layout.h`, structures
`INDEX_ROOT`, `INDEX_BLOCK`, `INDEX_HEADER`, `INDEX_ENTRY`, `FILE_NAME_ATTR`, `ATTR_LIST_ENTRY`.
"""

import struct
from collections.abc import Iterator

import msgspec

from mending.model import Problem, Window

INDEX = "$I30"
"""The name of the index of a folder's names."""
MAGIC = b"INDX"
_SHORT_NAME = 2
"""The name space of names for old programs only; the same file has a long one beside it."""
_FOLDER, _REPARSE, _LAST = 0x1000_0000, 0x400, 2
_NAME_AT = 16
_LEAST_ENTRY, _LEAST_NAME = 16, 66


class NameEntry(msgspec.Struct, frozen=True):
    """A name in a folder.

    Attributes:
        reference: the file record that it stands for, its sequence in the upper two bytes.
        bytes: length of the file as the folder has it, which other names of it may have outdated.
        has_reparse: whether something stands in for its content, which makes it a link, perhaps.
    """

    reference: int
    name: str
    bytes: int
    is_folder: bool
    has_reparse: bool = False


class ListedAttribute(msgspec.Struct, frozen=True):
    """A row of an attribute list: where an attribute, or a piece of one, is kept."""

    type: int
    name: str
    first: int
    reference: int


def root_block_bytes(value: bytes) -> int:
    """How long the blocks of an index are; 0 where its root does not tell."""
    return int(struct.unpack_from("<I", value, 8)[0]) if len(value) >= 16 else 0


def names(node: bytes, header: int, base: int) -> tuple[list[NameEntry], list[Problem]]:
    """The names in a node.

    Args:
        node: the root's value, or a block with its update sequence undone.
        header: where the node's header stands in it: 16 in a root, 24 in a block.
        base: absolute offset of the node, for problems.
    """
    if len(node) < header + 16:
        return [], [Problem("index-short", base, len(node), f"{len(node)} bytes", "a node")]
    first, used = struct.unpack_from("<II", node, header)
    at, end = header + first, min(header + used, len(node))
    found: list[NameEntry] = []
    while at + _LEAST_ENTRY <= end:
        reference, length, key, flags = struct.unpack_from("<QHHH", node, at)
        if flags & _LAST:
            return found, []
        if length < _LEAST_ENTRY or at + length > end:
            break
        entry = _name(node[at + _NAME_AT : at + _NAME_AT + key], reference)
        if entry is not None:
            found.append(entry)
        at += length
    return found, [Problem("index-torn", base + at, 2, "no last entry", "entries up to a last one")]


def _name(value: bytes, reference: int) -> NameEntry | None:
    """None for a name that has a longer one beside it, and for what is no name."""
    if len(value) < _LEAST_NAME or value[65] == _SHORT_NAME:
        return None
    length, flags = struct.unpack_from("<QI", value, 48)
    text = value[66 : 66 + 2 * value[64]].decode("utf-16-le", "replace")
    return NameEntry(reference, text, length, bool(flags & _FOLDER), bool(flags & _REPARSE))


def listed_attributes(value: bytes) -> Iterator[ListedAttribute]:
    """The rows of an attribute list; damage ends them."""
    at = 0
    while at + 26 <= len(value):
        kind, length, count, name_at, first, reference = struct.unpack_from("<IHBBQQ", value, at)
        if length < 26 or at + length > len(value):
            return
        name = value[at + name_at : at + name_at + 2 * count].decode("utf-16-le", "replace")
        yield ListedAttribute(kind, name, first, reference)
        at += length


class Reparse(msgspec.Struct, frozen=True):
    """What stands in for the content of a file or folder.

    Attributes:
        tag: which program understands it.
        target: of a link or mount point, with the drive as it is written; empty for others.
        is_relative: whether the target counts from the folder of the link.
    """

    tag: int
    target: str
    is_relative: bool


SYMBOLIC_LINK, MOUNT_POINT, OVERLAY = 0xA000_000C, 0xA000_0003, 0x8000_0017


def reparse(value: bytes) -> Reparse | None:
    """A reparse point; None where it is too short to be one."""
    if len(value) < 8:
        return None
    (tag,) = struct.unpack_from("<I", value)
    if tag not in {SYMBOLIC_LINK, MOUNT_POINT} or len(value) < 20:
        return Reparse(tag, "", False)
    at, length = struct.unpack_from("<HH", value, 8)
    start = 20 if tag == SYMBOLIC_LINK else 16
    relative = tag == SYMBOLIC_LINK and bool(struct.unpack_from("<I", value, 16)[0] & 1)
    names_part = Window(value[start:])
    if at + length > len(names_part):
        return Reparse(tag, "", relative)
    return Reparse(tag, names_part.take(at, length).decode("utf-16-le", "replace"), relative)
