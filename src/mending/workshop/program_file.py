"""Writes a placeholder program of the nt family: an image that is whole by every rule that a loader
checks, and does nothing.

Layout: the published PE/COFF specification, as `formats.executable.pe` reads it.
"""

import struct
from collections.abc import Mapping, Sequence

X64, ARM64 = 0x8664, 0xAA64
NATIVE, GRAPHIC, BOOT_PROGRAM = 1, 2, 16
_HEADERS, _ALIGNED, _CODE, _TABLES = 1024, 512, 0x1000, 0x2000
_HEAD_AT, _OPTIONAL = 128, 240
_RETURNS = b"\x31\xc0\xc3"


def program_bytes(
    exports: Sequence[str] = (),
    imports: Mapping[str, Sequence[str]] | None = None,
    subsystem: int = NATIVE,
    machine: int = X64,
    version: tuple[int, int, int, int] | None = None,
) -> bytes:
    """A 64-bit image with its checksum.

    Args:
        exports: names that it offers.
        imports: names that it wants, by library.
        version: of the file; None for one that carries none.
    """
    code = _RETURNS.ljust(_ALIGNED, b"\xcc")
    tables, places = _tables(sorted(exports), imports or {})
    tables += _version(version) if version is not None else b""
    tables = tables.ljust(-(-len(tables) // _ALIGNED) * _ALIGNED, b"\0")
    head = b"MZ".ljust(60, b"\0") + struct.pack("<I", _HEAD_AT)
    head = head.ljust(_HEAD_AT, b"\0")
    head += b"PE\0\0" + struct.pack("<HHIIIHH", machine, 2, 0, 0, 0, _OPTIONAL, 0x22)
    head += struct.pack("<HBBIIIII", 0x20B, 14, 0, len(code), len(tables), 0, _CODE, _CODE)
    head += struct.pack("<QIIHHHHHHI", 0x1_4000_0000, 0x1000, _ALIGNED, 6, 0, 0, 0, 6, 0, 0)
    size = _TABLES + -(-len(tables) // 0x1000) * 0x1000
    head += struct.pack("<IIIHH", size, _HEADERS, 0, subsystem, 0)
    head += struct.pack("<QQQQII", 0x10000, 0x1000, 0x10000, 0x1000, 0, 16)
    head += struct.pack("<IIII", *places).ljust(16 * 8, b"\0")
    head += _section(b".text", len(code), _CODE, _HEADERS, 0x6000_0020)
    head += _section(b".rdata", len(tables), _TABLES, _HEADERS + len(code), 0x4000_0040)
    return with_checksum(head.ljust(_HEADERS, b"\0") + code + tables)


def _version(version: tuple[int, int, int, int]) -> bytes:
    """A version resource, as much of it as tells the version (`VS_VERSIONINFO`)."""
    major, minor, build, revision = version
    key = "VS_VERSION_INFO\0".encode("utf-16-le")
    fixed = struct.pack("<IIII", 0xFEEF04BD, 0x10000, major << 16 | minor, build << 16 | revision)
    head = struct.pack("<HHH", 6 + len(key) + 52, 52, 0)
    return head + key + bytes(-(len(head) + len(key)) % 4) + fixed.ljust(52, b"\0")


def with_checksum(image: bytes) -> bytes:
    """An image with the checksum in its header that its bytes make, word by word."""
    at = struct.unpack_from("<I", image, 60)[0] + 24 + 64
    blank = image[:at] + bytes(4) + image[at + 4 :]
    total = 0
    for (word,) in struct.iter_unpack("<H", blank + b"\0" * (len(blank) % 2)):
        total += word
        total = (total & 0xFFFF) + (total >> 16)
    return image[:at] + struct.pack("<I", total + len(image)) + image[at + 4 :]


def _section(name: bytes, length: int, address: int, at: int, flags: int) -> bytes:
    return name.ljust(8, b"\0") + struct.pack(
        "<IIIIIIHHI", length, address, length, at, 0, 0, 0, 0, flags
    )


def _tables(
    exports: Sequence[str], imports: Mapping[str, Sequence[str]]
) -> tuple[bytes, tuple[int, int, int, int]]:
    """Both tables, and address and length of each: exports, imports."""
    data = bytearray()

    def put(raw: bytes) -> int:
        at = _TABLES + len(data)
        data.extend(raw + b"\0" * (len(raw) % 2))
        return at

    offered, wanted = (0, 0), (0, 0)
    if exports:
        names = [put(name.encode() + b"\0") for name in exports]
        listed = put(struct.pack(f"<{len(names)}I", *names))
        functions = put(struct.pack(f"<{len(names)}I", *(_CODE for _ in names)))
        numbers = put(struct.pack(f"<{len(names)}H", *range(len(names))))
        fields = 0, 0, 0, names[0], 1, len(names), len(names), functions, listed, numbers
        offered = put(struct.pack("<10I", *fields)), 40
    if imports:
        rows = b""
        for library, names_of in imports.items():
            hints = [put(b"\0\0" + name.encode() + b"\0") for name in names_of]
            thunks = put(struct.pack(f"<{len(hints) + 1}Q", *hints, 0))
            rows += struct.pack("<5I", thunks, 0, 0, put(library.encode() + b"\0"), thunks)
        wanted = put(rows + bytes(20)), len(rows) + 20
    return bytes(data), (*offered, *wanted)
