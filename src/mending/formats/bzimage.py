"""Linux kernel files for x86: the boot header, the length that it asks for, and the version.

Source: Linux kernel documentation, "The Linux/x86 Boot Protocol", sections "The Real-Mode Kernel
Header" and "Details of Header Fields".
"""

import msgspec

from mending.model import Field, Layout, Problem, Reading, Window, hex_preview, plain_bytes

HEAD_BYTES = 32_768
"""As much of the file as holds the header and usually the version."""
_SECTOR = 512
_MAGIC = b"HdrS"
_OTHER_MACHINES = ((56, b"ARM\x64", "a 64-bit ARM machine"), (0, b"\x7fELF", "a plain ELF file"))
_SETUP_DEFAULT = 4


class BootHeader(msgspec.Struct, frozen=True):
    """The fields of the header that are judged."""

    setup_sectors: int
    paragraphs: int
    signature: bytes
    magic: bytes
    protocol: int
    version_offset: int


HEADER = Layout(
    BootHeader,
    0x250,
    [
        Field(
            "setup_sectors",
            0x1F1,
            1,
            "u",
            "sectors",
            "real-mode part, without the first sector; 0 means 4",
        ),
        Field("paragraphs", 0x1F4, 4, "u", "", "length of the rest in units of 16 bytes"),
        Field("signature", 0x1FE, 2, "bytes", "", "55 aa"),
        Field("magic", 0x202, 4, "bytes", "", "HdrS"),
        Field("protocol", 0x206, 2, "u", "", "version of the boot protocol"),
        Field("version_offset", 0x20E, 2, "u", "bytes", "where the version text is, less 512"),
    ],
)


class KernelFile(msgspec.Struct, frozen=True):
    """A kernel file. `needs` is the length that its header asks for; `version` is empty where it is
    not told.
    """

    header: BootHeader
    needs: int
    version: str


def is_kernel(data: bytes) -> bool:
    """Whether a file starts as a kernel does. Such a file may be a loader file, too."""
    return data[0x202:0x206] == _MAGIC


def read(window: Window, length: int) -> Reading[KernelFile]:
    """Judge a kernel file.

    Args:
        window: its first bytes, `HEAD_BYTES` of them where it is as long.
        length: of the whole file.
    """
    if len(window) < HEADER.size:
        blank = BootHeader(0, 0, b"", b"", 0, 0)
        return Reading(
            KernelFile(blank, 0, ""),
            (Problem("too-short", 0, length, f"{length} bytes", "a kernel"),),
        )
    header = HEADER.read(window)
    needs = ((header.setup_sectors or _SETUP_DEFAULT) + 1) * _SECTOR + header.paragraphs * 16
    at = header.version_offset + _SECTOR
    version = plain_bytes(window.data[at : at + 128]).split(" ")[0] if header.version_offset else ""
    record = KernelFile(header, needs, version)
    if header.magic != _MAGIC or header.signature != b"\x55\xaa":
        other = next(
            (
                name
                for place, magic, name in _OTHER_MACHINES
                if window.data[place:].startswith(magic)
            ),
            None,
        )
        found = f"the head of {other}" if other else hex_preview(window.data[:16])
        return Reading(
            record, (HEADER.wrong("magic", window.offset, "no-kernel", found, "a boot header"),)
        )
    if needs > length:
        short = HEADER.wrong(
            "paragraphs",
            window.offset,
            "cut-short",
            f"{length} bytes",
            f"{needs} bytes by its header",
        )
        return Reading(record, (short,))
    return Reading(record)
