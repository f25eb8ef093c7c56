"""What is inside a GRUB image: the core unpacked, its modules, its prefix and the configuration
built into it.

Source: GNU GRUB 2.12, `include/grub/offsets.h` (GRUB_DECOMPRESSOR_I386_PC_*),
`grub-core/boot/i386/pc/startup_raw.S`, `util/mkimage.c` (LZMA with lc 3, lp 0, pb 2 and a
dictionary of 64 KiB) and `include/grub/kernel.h` (`struct grub_module_info32`,
`grub_module_info64`, `struct grub_module_header`).
"""

import lzma
import struct

import msgspec

from mending.model import plain_bytes

_HEADER = struct.Struct("<8xIII")
_MAGIC = b"mimg"
_WIDE_OFFSET, _NARROW_OFFSET = 24, 12
_MODULE, _MEMDISK, _CONFIG, _PREFIX = range(4)
_KINDS = range(10)
_MOST = 16 * 1024 * 1024
_STARTS = range(1024, 8192)
"""Where the packed part may begin: behind the unpacking code, whose length differs from version to
version.
"""
_NAME_BYTES = 64


class GrubImage(msgspec.Struct, frozen=True):
    """The objects that an image carries.

    Attributes:
        prefix: where it looks for its files, for instance `(hd0,msdos1)/boot/grub`; may lack the
            device.
        config: commands that it runs first; empty where there are none.
        modules: names of the modules inside.
        memory_disk: a file system of its own, an archive or a small volume; empty where it has
            none.
    """

    prefix: str
    config: str
    modules: frozenset[str]
    memory_disk: bytes


class PackedCore(msgspec.Struct, frozen=True):
    """The numbers in front of a packed core for BIOS machines.

    Attributes:
        redundancy: bytes by which damage is mended while starting; 0 where there are none.
    """

    packed: int
    unpacked: int
    redundancy: int


def packed_core(body: bytes) -> PackedCore | None:
    """The numbers, from the sectors behind the first of a core; None where they make no sense."""
    if len(body) < _HEADER.size:
        return None
    found = PackedCore(*_HEADER.unpack_from(body))
    sensible = 0 < found.packed <= len(body) and found.packed <= found.unpacked <= _MOST
    return found if sensible and found.redundancy <= len(body) else None


def unpack_core(body: bytes) -> bytes | None:
    """The core unpacked; None where no stream in it gives the length that it names, so that it is
    damaged.
    """
    core = packed_core(body)
    if core is None:
        return None
    for start in _STARTS:
        if (
            start + core.packed > len(body) + 512 or body[start : start + 1] != b"\0"
        ):  # every stream begins with 00
            continue
        data = _unpacked(body[start : start + core.packed], core.unpacked)
        if data is not None and read_image(data) is not None:
            return data
    return None


def read_image(data: bytes) -> GrubImage | None:
    """The objects of an unpacked core or of an EFI image; None where no list of them is inside."""
    at = data.find(_MAGIC)
    while at >= 0:
        objects = _objects(data, at)
        if objects:
            return _image(objects)
        at = data.find(_MAGIC, at + 1)
    return None


def _unpacked(data: bytes, length: int) -> bytes | None:
    filters = [{"id": lzma.FILTER_LZMA1, "lc": 3, "lp": 0, "pb": 2, "dict_size": 1 << 16}]
    try:
        out = lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=filters).decompress(data, length)
    except lzma.LZMAError:
        return None
    return out if len(out) == length else None


def _objects(data: bytes, at: int) -> list[tuple[int, bytes]]:
    """Kind and content of the objects in a list whose header is at `at`; empty where that is no
    header.
    """
    for form, wanted in (("<4xIQQ", _WIDE_OFFSET), ("<4xII", _NARROW_OFFSET)):
        if at + struct.calcsize(form) > len(data):
            continue
        offset, size = struct.unpack_from(form, data, at)[-2:]
        if offset != wanted or not offset < size <= len(data) - at:
            continue
        found, place, end = [], at + offset, at + size
        while place + 8 <= end:
            kind, length = struct.unpack_from("<II", data, place)
            if kind not in _KINDS or not 8 <= length <= end - place:
                return []
            found.append((kind, data[place + 8 : place + length]))
            place += length
        return found if place == end else []
    return []


def _image(objects: list[tuple[int, bytes]]) -> GrubImage:
    texts = {
        kind: content.split(b"\0", 1)[0].decode("utf-8", errors="replace")
        for kind, content in objects
        if kind in (_CONFIG, _PREFIX)
    }
    modules = frozenset(
        name for kind, content in objects if kind == _MODULE and (name := _module_name(content))
    )
    return GrubImage(
        texts.get(_PREFIX, ""),
        texts.get(_CONFIG, ""),
        modules,
        next((content for kind, content in objects if kind == _MEMDISK), b""),
    )


def _module_name(content: bytes) -> str:
    """The text of the section `.modname` of a small ELF object; empty where there is none."""
    if content[:4] != b"\x7fELF" or len(content) < 64:
        return ""
    wide = content[4] == 2
    table, size, count, names = (
        struct.unpack_from("<40xQ10xHHH", content)
        if wide
        else struct.unpack_from("<32xI10xHHH", content)
    )
    rows = [_section(content, table + number * size, wide) for number in range(min(count, 64))]
    if names >= len(rows) or rows[names] is None:
        return ""
    _, strings, length = rows[names] or (0, 0, 0)
    texts = content[strings : strings + length]
    for row in rows:
        if row is not None and plain_bytes(texts[row[0] : row[0] + _NAME_BYTES]) == ".modname":
            return plain_bytes(content[row[1] : row[1] + min(row[2], _NAME_BYTES)])
    return ""


def _section(content: bytes, at: int, wide: bool) -> tuple[int, int, int] | None:
    """Name, offset and length of a section by its header."""
    form = "<I20xQQ" if wide else "<I12xII"
    if at < 0 or at + struct.calcsize(form) > len(content):
        return None
    name, offset, length = struct.unpack_from(form, content, at)
    return name, offset, length
