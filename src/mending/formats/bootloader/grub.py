"""GRUB for BIOS machines: its stage one in the MBR, and the first sector of its core.

Source: GNU GRUB 2.12, `grub-core/boot/i386/pc/boot.S`, `diskboot.S` and
`include/grub/i386/pc/boot.h` (the offsets are named there GRUB_BOOT_MACHINE_*).
"""

import msgspec

from mending.model import ByteOffset, Field, Layout, Lba, Problem, Reading, SectorCount, Window

SIZE = 512
_LOAD_ADDRESS = 0x8000
_CORE_SEGMENT = 0x0820
_NAME = b"GRUB \0"
_CORE_TEXT = b"loading"
_BLOCK_LIST_END = 0x200
_BLOCK_SIZE = 12
_MOST_BLOCKS = 20
KEEP_PARAMETERS = (0x03, 0x5A)
"""Range of the MBR that stage one leaves to disk parameters; an installer copies what was there."""
DRIVE_FROM_FIRMWARE = 0xFF
TRUST_HARD_DISK = b"\x90\x90"
"""Put over the jump at `drive_check` so that firmware which hands over a floppy's number is
corrected.
"""


class StageOne(msgspec.Struct, frozen=True):
    """The fields of a stage one that differ from disk to disk."""

    jump: bytes
    load_address: int
    core_lba: int
    drive: int
    drive_check: bytes


STAGE_ONE = Layout(
    StageOne,
    SIZE,
    [
        Field("jump", 0, 3, "bytes", "", "eb 63 90"),
        Field("load_address", 0x5A, 2, "u", "bytes", "where the core is put in memory"),
        Field("core_lba", 0x5C, 8, "u", "sectors", "first sector of the core"),
        Field("drive", 0x64, 1, "u", "", "ff: the drive that firmware started from"),
        Field("drive_check", 0x66, 2, "bytes", "", "jump, or two no-operations"),
    ],
)


class BlockRun(msgspec.Struct, frozen=True):
    """One run of the core on the disk: where it starts and how long it is."""

    first_lba: Lba
    sectors: SectorCount
    segment: int


class CoreHead(msgspec.Struct, frozen=True):
    """First sector of a GRUB core and the runs of the rest of it."""

    offset: ByteOffset
    runs: tuple[BlockRun, ...]


_RUN = Layout(
    BlockRun,
    _BLOCK_SIZE,
    [
        Field("first_lba", 0, 8, "u", "sectors", "first sector"),
        Field("sectors", 8, 2, "u", "sectors", "length; 0 ends the list"),
        Field("segment", 10, 2, "u", "", "memory segment it is read to"),
    ],
)


def is_stage_one(window: Window) -> bool:
    """Whether the sector is a GRUB stage one: its jump, its load address and its name string."""
    if len(window) < SIZE:
        return False
    stage = STAGE_ONE.read(window)
    return (
        stage.jump[:1] == b"\xeb"
        and stage.load_address == _LOAD_ADDRESS
        and _NAME in window.take(0x100, 0xB8)
    )


def read_stage_one(window: Window) -> Reading[StageOne]:
    """Read a stage one.

    Raises:
        InputError: below 512 bytes.
    """
    stage = STAGE_ONE.read(window)
    zero = STAGE_ONE.wrong(
        "core_lba", window.offset, "core-lba-zero", "sector 0", "where the core starts"
    )
    return Reading(stage, (zero,) if stage.core_lba == 0 else ())


def is_core_head(window: Window) -> bool:
    """Whether the sector is the first of a GRUB core: its text, and a block list that loads right
    behind it.
    """
    if len(window) < SIZE or _CORE_TEXT not in window.take(0x100, 0xF0):
        return False
    run = _RUN.read(window, _BLOCK_LIST_END - _BLOCK_SIZE)
    return run.segment == _CORE_SEGMENT and run.sectors > 0


def placed_core(image: bytes, first: Lba) -> bytes:
    """A core image as a file keeps it, made to load itself from one run of sectors.

    Args:
        image: whole, its first sector one that `is_core_head` knows.
        first: sector that its first sector goes to.
    """
    whole = image.ljust(-(-len(image) // SIZE) * SIZE, b"\0")
    at = _BLOCK_LIST_END - _BLOCK_SIZE
    run = _RUN.encode(BlockRun(Lba(first + 1), SectorCount(len(whole) // SIZE - 1), _CORE_SEGMENT))
    return whole[: at - _BLOCK_SIZE] + bytes(_BLOCK_SIZE) + run + whole[_BLOCK_LIST_END:]


def read_core_head(window: Window) -> Reading[CoreHead]:
    """Read the block list, which grows downwards from the end of the sector.

    Raises:
        InputError: below 512 bytes.
    """
    runs, problems = [], []
    for number in range(_MOST_BLOCKS):
        at = _BLOCK_LIST_END - (number + 1) * _BLOCK_SIZE
        run = _RUN.read(window, at)
        if run.sectors == 0:
            break
        runs.append(run)
        if run.first_lba == 0:
            problems.append(
                Problem("run-at-zero", window.offset + at, 8, "sector 0", "behind the MBR")
            )
    return Reading(CoreHead(ByteOffset(window.offset), tuple(runs)), tuple(problems))
