"""Kernel dumps of our own making, with known truth, in the layout that the real ones have.

The layout is written down here a second time, apart from the reader, as plain offsets (sources: as
of the reader).
"""

import struct
from collections.abc import Sequence
from dataclasses import dataclass, field

from mending.model.nt_time import nt_ticks

_TICKS = 10_000_000


@dataclass(frozen=True)
class DumpDraft:
    """What a dump shall say.

    Attributes:
        drivers: name, address and length of each, in the order of loading.
        stack: words from its top. kind: 1 full, 2 kernel, 4 small.
        at: Unix seconds. uptime: seconds.
    """

    bits: int
    code: int
    parameters: tuple[int, int, int, int]
    drivers: Sequence[tuple[str, int, int]] = ()
    stack: Sequence[int] = ()
    exception: tuple[int, int] | None = None
    instruction: int = 0
    kind: int = 4
    at: float = 1_795_000_000.0
    uptime: float = 5400.0
    build: int = 19045
    processors: int = 4
    needed: int = 0
    filler: bytes = field(default=b"PAGE")

    def encode(self) -> bytes:
        """The bytes of the file."""
        return _small(self, self._header()) if self.kind == 4 else self._header()

    def _header(self) -> bytes:
        wide = self.bits == 64
        size = 0x2000 if wide else 0x1000
        data = bytearray((self.filler * size)[:size])
        data[:8] = b"PAGEDU64" if wide else b"PAGEDUMP"
        struct.pack_into("<II", data, 8, 15, self.build)
        struct.pack_into(
            "<II", data, 0x30 if wide else 0x20, 0x8664 if wide else 0x14C, self.processors
        )
        struct.pack_into("<I", data, 0x38 if wide else 0x28, self.code)
        struct.pack_into("<4Q" if wide else "<4I", data, 0x40 if wide else 0x2C, *self.parameters)
        context, pointer = (0x348, 0xF8) if wide else (0x320, 0xB8)
        data[context : context + 0x200] = bytes(0x200)
        struct.pack_into("<Q" if wide else "<I", data, context + pointer, self.instruction)
        record = 0xF00 if wide else 0x7D0
        code, address = self.exception or (0, 0)
        struct.pack_into("<IIQQ" if wide else "<IIII", data, record, code, 0, 0, address)
        struct.pack_into("<I", data, 0xF98 if wide else 0xF88, self.kind)
        struct.pack_into("<Q", data, 0xFA0, self.needed)
        struct.pack_into("<Q", data, 0xFA8 if wide else 0xFC0, nt_ticks(self.at))
        struct.pack_into("<Q", data, 0x1030 if wide else 0xFB8, int(self.uptime * _TICKS))
        return bytes(data)


def _small(draft: DumpDraft, header: bytes) -> bytes:
    """Behind the header: where things are, the stack, the driver list, the names."""
    wide = draft.bits == 64
    row, word = (0x90, 8) if wide else (0x4C, 4)
    stack_at = len(header) + 0x100
    stack = b"".join(number.to_bytes(word, "little") for number in draft.stack)
    list_at = stack_at + len(stack)
    pool_at = list_at + row * len(draft.drivers)
    rows, pool = b"", b""
    for name, base, size in draft.drivers:
        driver = bytearray(row)
        struct.pack_into("<I", driver, 0, pool_at + len(pool))
        struct.pack_into("<Q" if wide else "<I", driver, 0x38 if wide else 0x1C, base)
        struct.pack_into("<I", driver, 0x48 if wide else 0x24, size)
        struct.pack_into("<I", driver, 0x88 if wide else 0x48, 1_700_000_000)
        rows += bytes(driver)
        pool += struct.pack("<I", len(name)) + name.encode("utf-16-le") + b"\0\0"
    block = bytearray(0x100)
    struct.pack_into("<4I", block, 0x28, stack_at, len(stack), list_at, len(draft.drivers))
    struct.pack_into("<2I", block, 0x38, pool_at, len(pool))
    return header + bytes(block) + stack + rows + pool
