"""A 16-bit PC with just enough firmware to run boot code: screen, disk, keyboard, nothing else.

The processor is unicorn's. Firmware calls follow the "BIOS Enhanced Disk Drive Specification" 3.0
(INT 13h, functions 41h, 42h and 48h) and common practice for the older ones (INT 10h/0eh, 13h/00h
02h 08h, 16h/00h, 18h, 19h).
"""

import struct
from collections.abc import Callable, Sequence
from enum import StrEnum
from typing import Any

import msgspec

from mending.formats import mbr
from mending.model import InputError, MendingError, RefusedError, clean_text, has_extra, load_extra
from mending.model.limits import REHEARSAL_INSTRUCTIONS
from mending.source import Source

# The document of a rehearsal, as `docs/json.md` describes it.


MEANINGS = {
    "halts": "it came to rest by itself",
    "waits-for-key": "it waits for a key",
    "gives-up": "it hands back to firmware",
    "restarts": "it restarts the PC",
    "leaves-16-bit": "it goes on to 32-bit code, which is as far as a rehearsal follows",
    "fault": "the processor cannot go on",
    "too-long": "it goes round in circles",
}
"""By how the code came to rest: what that means."""


class ReadResult(msgspec.Struct, frozen=True, kw_only=True):
    """One read that the boot code asked firmware for. `to` is the linear address in memory."""

    lba: int
    sectors: int
    to: int
    by: str


class RehearsalResult(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="rehearsal/1"
):
    """How far the code of sector 0 got.

    Attributes:
        stopped: `halts waits-for-key gives-up restarts leaves-16-bit fault too-long`.
        at: linear address of the instruction it stopped at.
        screen: what it printed, line by line.
        started_volume: whether it handed over to a boot sector that it read to 7c00h.
    """

    path: str
    stopped: str
    at: int
    instructions: int
    screen: tuple[str, ...]
    reads: tuple[ReadResult, ...]
    started_volume: bool


LOADED = 0x7C00
_MEMORY = 1 << 20
_HANDED_ENTRY = 0x7BE
"""Where an MBR that has moved itself to 600h finds the first entry of its table."""
_HEADS, _PER_TRACK = 255, 63
_ROWS, _COLUMNS = 25, 80
"""Of the screen in text mode."""
_CARRY = 1
_FAILED = 0x01
_NO_SUCH_CALL = 0x86
_BLANK = 32
"""Bytes of 00 in a row are no code."""


class Stop(StrEnum):
    """Why the code came to rest."""

    HALTS = "halts"
    WAITS_FOR_KEY = "waits-for-key"
    GIVES_UP = "gives-up"
    RESTARTS = "restarts"
    LEAVES_16_BIT = "leaves-16-bit"
    FAULT = "fault"
    TOO_LONG = "too-long"
    READS_GOAL = "reads-goal"


class Handed(msgspec.Struct, frozen=True):
    """The machine when the code came to rest.

    Attributes:
        volume_at: registers `dl si ds` when control first came back to 7c00h; None when it never
            did.
        in_blank: whether it came to a place where nothing but 00 stands.
    """

    stop: Stop
    at: int
    instructions: int
    screen: str
    reads: tuple[ReadResult, ...]
    volume_at: dict[str, int] | None
    in_blank: bool = False


def can_rehearse() -> bool:
    """Whether the extra `rehearse` is installed."""
    return has_extra("unicorn")


def rehearse_code(
    source: Source,
    code: bytes,
    *,
    drive: int = 0x80,
    packets: bool = True,
    stop_at_volume: bool = False,
    entry: bytes = b"",
    goal: Sequence[range] = (),
    most: int = REHEARSAL_INSTRUCTIONS,
) -> Handed:
    """Run `code` at 0000:7c00 as firmware would start it.

    Args:
        source: the disk that firmware calls read from.
        drive: the drive number that firmware hands over.
        packets: whether firmware knows reads by LBA; without them only CHS calls work.
        stop_at_volume: stop as soon as control comes to 7c00h a second time.
        entry: a table entry to hand over at DS:SI, as an MBR does that starts a volume.
        goal: stop as soon as one of these sectors is read.
        most: instructions after which it is called a loop.

    Raises:
        UsageError: the extra `rehearse` is not installed.
    """
    return _Machine(source, drive, packets, stop_at_volume, goal).run(code, entry, most)


class _Machine:
    """One run. Hooks call the methods; `_stop` ends it."""

    def __init__(
        self,
        source: Source,
        drive: int,
        packets: bool,
        stop_at_volume: bool,
        goal: Sequence[range],
    ) -> None:
        self._source, self._goal = source, goal
        self._drive = drive
        self._packets = packets
        self._stop_at_volume = stop_at_volume
        self._unicorn: Any = load_extra("unicorn", "rehearse")
        self._registers: Any = load_extra("unicorn.x86_const", "rehearse")
        self._cpu: Any = self._unicorn.Uc(self._unicorn.UC_ARCH_X86, self._unicorn.UC_MODE_16)
        self._screen: list[str] = []
        self._reads: list[ReadResult] = []
        self._count = 0
        self._stop = Stop.TOO_LONG
        self._volume_at: dict[str, int] | None = None
        self._fault: MendingError | None = None

    def run(self, code: bytes, entry: bytes, most: int) -> Handed:
        cpu = self._cpu
        cpu.mem_map(0, _MEMORY)
        cpu.mem_write(LOADED, code)
        if entry:
            cpu.mem_write(_HANDED_ENTRY, entry)
            self._set(esi=_HANDED_ENTRY)
        self._set(edx=self._drive, esp=LOADED)
        cpu.hook_add(self._unicorn.UC_HOOK_INTR, self._on_interrupt)
        cpu.hook_add(self._unicorn.UC_HOOK_CODE, self._on_instruction)
        try:
            cpu.emu_start(LOADED, _MEMORY, count=most)
        except self._unicorn.UcError:
            self._stop = Stop.FAULT
        if self._fault is not None:
            raise self._fault  # raised here, because unicorn does not carry errors out of its hooks
        screen = "".join(self._screen)
        at = self._here()
        blank = at + _BLANK <= _MEMORY and not any(cpu.mem_read(at, _BLANK))
        reads = tuple(self._reads)
        return Handed(self._stop, at, self._count, screen, reads, self._volume_at, blank)

    def _here(self) -> int:
        return (self._register("cs") * 16 + self._register("eip")) & (_MEMORY - 1)

    def _end(self, why: Stop) -> None:
        self._stop = why
        self._cpu.emu_stop()

    def _on_instruction(self, cpu: Any, address: int, size: int, _data: object) -> None:
        self._count += 1
        if address == LOADED and self._count > 1 and self._volume_at is None:
            self._volume_at = {name: self._register(name) for name in ("dl", "si", "ds")}
            if self._stop_at_volume:
                self._end(Stop.HALTS)
        first = bytes(cpu.mem_read(address, min(size, 2))) if 0 < size <= 15 else b""
        if first == b"\xf4":
            self._end(Stop.HALTS)
        elif self._register("cr0") & 1:
            self._end(Stop.LEAVES_16_BIT)

    def _on_interrupt(self, _cpu: Any, number: int, _data: object) -> None:
        calls: dict[int, Callable[[], None]] = {
            0x10: self._video,
            0x13: self._disk,
            0x16: self._key,
        }
        ends = {0x18: Stop.GIVES_UP, 0x19: Stop.RESTARTS}
        try:
            if number in calls:
                calls[number]()
            elif number in ends:
                self._end(ends[number])
        except MendingError as error:
            self._fault = error
            self._end(Stop.FAULT)

    def _register(self, name: str) -> int:
        return int(self._cpu.reg_read(getattr(self._registers, f"UC_X86_REG_{name.upper()}")))

    def _set(self, **values: int) -> None:
        for name, value in values.items():
            self._cpu.reg_write(getattr(self._registers, f"UC_X86_REG_{name.upper()}"), value)

    def _carry(self, on: bool) -> None:
        flags = self._register("eflags")
        self._set(eflags=flags | _CARRY if on else flags & ~_CARRY)

    def _video(self) -> None:
        if self._register("ah") == 0x0E:
            self._screen.append(chr(self._register("al")))

    def _key(self) -> None:
        self._end(Stop.WAITS_FOR_KEY)

    def _disk(self) -> None:
        call = self._register("ah")
        mine = self._register("dl") == 0x80
        if call == 0 and mine:
            self._carry(False)
        elif call == 0x08 and mine:
            last = min(
                self._source.size // self._source.bytes_per_sector // (_HEADS * _PER_TRACK), 1023
            )
            self._set(ch=last & 0xFF, cl=_PER_TRACK | (last >> 8) << 6, dh=_HEADS - 1, dl=1, ah=0)
            self._carry(False)
        elif call == 0x41 and mine and self._packets:
            self._set(bx=0xAA55, cx=1, ah=0x30)
            self._carry(False)
        elif call == 0x42 and mine and self._packets:
            at = self._register("ds") * 16 + self._register("si")
            packet = bytes(self._cpu.mem_read(at, 16))
            count, offset, segment = (
                int.from_bytes(packet[start : start + 2], "little") for start in (2, 4, 6)
            )
            self._read(int.from_bytes(packet[8:16], "little"), count, segment * 16 + offset, "lba")
        elif call == 0x48 and mine and self._packets:
            self._parameters()
        elif call == 0x02 and mine:
            low, head = self._register("cl"), self._register("dh")
            cylinder = self._register("ch") | (low & 0xC0) << 2
            lba = (cylinder * _HEADS + head) * _PER_TRACK + (low & 0x3F) - 1
            self._read(
                lba, self._register("al"), self._register("es") * 16 + self._register("bx"), "chs"
            )
        else:
            self._set(ah=_NO_SUCH_CALL)
            self._carry(True)

    def _parameters(self) -> None:
        """The table of a drive that code asks for: its length, then flags, cylinders, heads,
        sectors of a track, all sectors and bytes in a sector.
        """
        size = self._source.bytes_per_sector
        sectors = self._source.size // size
        cylinders = min(sectors // (_HEADS * _PER_TRACK), 16_383)
        table = struct.pack("<HHIIIQH", 26, 0, cylinders, _HEADS, _PER_TRACK, sectors, size)
        self._cpu.mem_write(self._register("ds") * 16 + self._register("si"), table)
        self._set(ah=0)
        self._carry(False)

    def _read(self, lba: int, count: int, to: int, by: str) -> None:
        size = self._source.bytes_per_sector
        self._reads.append(ReadResult(lba=lba, sectors=count, to=to, by=by))
        inside = (
            lba >= 0 and (lba + count) * size <= self._source.size and to + count * size <= _MEMORY
        )
        if inside:
            self._cpu.mem_write(to, self._source.read(lba * size, count * size).data)
            # code that lay there before has been translated already; a real processor would notice
            self._cpu.ctl_remove_cache(to, to + count * size)
        self._set(ah=0 if inside else _FAILED)
        self._carry(not inside)
        if any(lba < part.stop and part.start < lba + count for part in self._goal):
            self._end(Stop.READS_GOAL)


def screen_lines(screen: str) -> tuple[str, ...]:
    """What was printed, as lines fit for a terminal: the last ones, as many as a screen has."""
    lines = [
        line
        for part in screen[-_ROWS * _COLUMNS :].replace("\r", "\n").split("\n")
        if (line := clean_text(part, _COLUMNS).strip())
    ]
    return tuple(lines[-_ROWS:])


# A whole disk, from sector 0 on.


def rehearse_disk(source: Source) -> RehearsalResult:
    """Run the code of sector 0 until it comes to rest.

    Raises:
        RefusedError: a GPT disk without boot code.
        InputError: sector 0 cannot be read, or firmware would not start it for want of 55 aa.
        UsageError: the extra `rehearse` is not installed.
    """
    sector = source.read(0, mbr.SIZE)
    if mbr.read(sector).has("signature-missing"):
        raise InputError(
            f"Sector 0 of {source.path} does not end in 55 aa.", "BIOS firmware would not run it."
        )
    record = mbr.read(sector).record
    if record.protective and record.code_blank:
        raise RefusedError(
            f"{source.path} holds no boot code: UEFI firmware starts it by a loader file."
        )
    ran = rehearse_code(source, sector.data)
    return RehearsalResult(
        path=source.path,
        stopped=ran.stop if ran.instructions else Stop.FAULT,
        at=ran.at,
        instructions=ran.instructions,
        screen=screen_lines(ran.screen),
        reads=ran.reads,
        started_volume=ran.volume_at is not None,
    )
