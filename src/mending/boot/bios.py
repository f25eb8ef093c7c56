"""The chain of a BIOS machine: MBR, the one active volume, its boot sector, the boot manager's
first file.

BIOS firmware runs the code of sector 0 and knows nothing more. Where that code goes on depends on
what it is: usual code starts the boot sector of the one active volume; GRUB's stage one reads the
sector that is written into it and needs no active flag.

What is behind a boot manager is loaded when a chain gets there: a disk has one of them, and a short
command is to be quick.
"""

import re
from collections.abc import Callable
from enum import StrEnum
from functools import partial

import msgspec

from mending.boot.chain import (
    CheckResult,
    DiskEnvironment,
    Link,
    doubtful,
    failed,
    finding,
    not_checked,
    passed,
    place,
    shifted,
)
from mending.boot.rehearse import Handed, Stop, can_rehearse, rehearse_code, screen_lines
from mending.boot.volumes import (
    HARMLESS,
    boot_sector_repairs,
    doubts,
    entry_is_beside,
    is_misplaced,
)
from mending.disk.files import FileDamagedError, FileFound, Files, FilesUnavailableError, open_files
from mending.disk.layout import Disk, Scheme, find_unlisted_volumes
from mending.disk.volume import BootSector, Volume
from mending.formats import grub, mbr
from mending.formats.grub import GrubImage
from mending.model import (
    FINDINGS,
    FilesystemKind,
    Finding,
    FindingId,
    Lba,
    Phase,
    PhaseState,
    ReadError,
    RepairId,
    Severity,
    Where,
    Window,
)
from mending.model.limits import TRACE_INSTRUCTIONS
from mending.source import Source

# Whether a volume's boot code, run in the emulator, gets as far as the file that it is to load.
#
# The bytes of boot code tell what it wants, and not whether all of it is whole: of the sixteen
# sectors that NTFS keeps for it, only the first has a copy. Running it shows more than reading it
# does: it finds the file by its own reading of the file system, or it does not. (What real code
# does under SeaBIOS is the measure: `docs/firmware.md`.)


_COMES_TO_REST = {Stop.HALTS, Stop.WAITS_FOR_KEY, Stop.GIVES_UP, Stop.RESTARTS, Stop.FAULT}


class CodeRun(msgspec.Struct, frozen=True):
    """How far the code got. `reached` is None where it could not be run or told."""

    reached: bool | None
    says: str = ""
    sure: bool = False
    in_blank: bool = False


def run_to(disk: Disk, volume: Volume, files: Files, found: FileFound) -> CodeRun:
    """Run the code of a volume until it reads the first sectors of a file.

    Raises:
        FilesUnavailableError: where the file lies cannot be told.
    """
    told = can_rehearse() and not is_misplaced(volume)  # of that another check speaks
    places = files.extents(found) if told else None
    return _run(disk, volume, places) if places else CodeRun(None)


def run_into_blank(disk: Disk, volume: Volume) -> CodeRun | None:
    """The run of code of which the bytes do not tell what it wants, where it ends in blank
    bytes.
    """
    ran = run_to_rest(disk, volume)
    return ran if ran is not None and ran.in_blank and ran.sure else None


def run_to_rest(disk: Disk, volume: Volume) -> CodeRun | None:
    """The run of code that comes to rest before anything is known to be reached; None where it
    does not.
    """
    ran = _run(disk, volume, []) if can_rehearse() else CodeRun(None)
    return ran if ran.reached is False else None


def _run(disk: Disk, volume: Volume, places: list[tuple[int, int]]) -> CodeRun:
    size = disk.source.bytes_per_sector
    goal = [
        range((volume.offset + start) // size, -(-(volume.offset + start + length) // size))
        for start, length in places
    ]
    entry = disk.source.read(volume.entry_offset, 16).data
    ran = rehearse_code(
        disk.source, volume.boot.data, entry=entry, goal=goal, most=TRACE_INSTRUCTIONS
    )
    if ran.stop is Stop.READS_GOAL:
        return CodeRun(True)
    if ran.stop not in _COMES_TO_REST and not ran.in_blank:
        return CodeRun(None)
    by_number = all(read.by == "lba" for read in ran.reads)  # geometry is a matter of the firmware
    return CodeRun(False, _told(ran), by_number and bool(ran.reads), ran.in_blank)


def code_fault(volume: Volume, goal: str, ran: CodeRun) -> CheckResult:
    """The result for code that does not get to its file."""
    says = (
        f"The boot code of volume {volume.number}, run in the emulator, does not get to"
        f" {goal}: {ran.says}."
    )
    kind, where = FindingId.VOLUME_BOOT_CODE_FAILS, Where(offset=volume.offset, length=8192)
    repairs = boot_sector_repairs(volume.boot)
    if ran.sure:
        return failed(finding(kind, Severity.FATAL, says, where, repairs))
    return doubtful(finding(kind, Severity.WARNING, says, where, repairs))


def _told(ran: Handed) -> str:
    lines = screen_lines(ran.screen)
    if lines:
        return f"it says {lines[0]!r}"
    if ran.in_blank:
        return f"after {len(ran.reads)} reads it runs into blank bytes at {ran.at:x}"
    return f"after {len(ran.reads)} reads it comes to rest at {ran.at:x} ({ran.stop})"


# The check from a volume's boot code to the first file of the boot manager.
#
# The name of that file is read out of the boot code itself, as the code reads it:
#
# * NTFS code keeps a table of names in its second sector, each as a 16-bit count of characters and
#   the characters in UTF-16, with nothing behind. It loads count and address of a name one after
#   the other (`movzx ecx, word [n]`, `mov eax, n + 2`). Names that it loads close to each other it
#   tries one after the other; the first of them that is in the root folder is taken, even an empty
#   one, and a compressed one ends the start. (Seen with such code under SeaBIOS:
#   `docs/firmware.md`.)
# * FAT code carries names as the eleven characters of a folder entry, and loads their address.
# * Other code of either kind may carry a name as text. That it is a file's is a guess, so nothing
#   fatal is said of it.


_CODE_BYTES = 8192
"""The boot code of NTFS fills up to sixteen sectors; that of FAT32 up to thirteen."""
_LOADS_A_NAME = re.compile(rb"\x66\x0f\xb7\x0e(..)\x66\xb8(..)\0\0", re.DOTALL)
"""Count into ECX, address into EAX: two instructions of 16-bit code with 32-bit operands."""
_LOADED_AT = 0x7C00
_LOADS_AN_ADDRESS = (b"\xbe", b"\xbf", b"\xbb", b"\xb8", b"\xbd", b"\xba")
"""`mov` of a 16-bit number into SI, DI, BX, AX, BP or DX."""
_ONE_SEARCH = 64
"""Bytes of code: names that are loaded closer to each other are tried one after the other."""
_MOST_CHARACTERS = 12
_FILE_NAME = re.compile(r"[A-Z0-9_][A-Z0-9_.]*")
_STEM = re.compile(rb"[A-Z0-9_$~-]{1,8} {0,7}")
_ENDING = re.compile(rb"[A-Z0-9]{0,3} {0,3}")
_WIDE_NAME = re.compile(rb"(?:[A-Z0-9_]\0){4,12}(?=\0\0)")
_NOT_FILES = {"NTFS", "FAT12", "FAT16", "FAT32", "EXFAT", "MSDOS", "NO NAME"}


class WantedNames(msgspec.Struct, frozen=True):
    """What boot code looks for.

    Attributes:
        names: in the order in which they are tried.
        certain: whether they were read as the code reads them, and are not a guess.
    """

    names: tuple[str, ...]
    certain: bool


def check_first_file(disk: Disk, volume: Volume, then: Callable[[str], Link]) -> CheckResult:
    """Is a file that the boot code names in the root folder of the volume, and can it be loaded?

    Args:
        then: the next check, by the path of the file.
    """
    wanted = names_in_code(disk.source, volume)
    if not wanted.names:
        blank = run_into_blank(disk, volume)
        if blank is not None:
            return code_fault(volume, "any file", blank)
        return _not_checked(
            f"Which file the boot code of volume {volume.number} wants is not told by its bytes."
        )
    listed = " or ".join(wanted.names)
    try:
        files = open_files(disk.source, volume)
        found = _first_of(files, wanted)
        if found is None:
            return _missing(volume, wanted, listed)
        return _check_content(disk, volume, files, found, then)
    except FilesUnavailableError as error:
        says = f"{error.says} So it is unknown whether {listed} is there"
        ran = run_to_rest(disk, volume)
        more = f"; run in the emulator, the boot code comes to rest: {ran.says}" if ran else ""
        return _not_checked(f"{says}{more}.")


def wanted_file(source: Source, volume: Volume) -> FileFound | None:
    """The first file that the boot code of a volume names and that is there; None too where it
    cannot be told.
    """
    try:
        return _first_of(open_files(source, volume), names_in_code(source, volume))
    except FilesUnavailableError:
        return None


def names_in_code(source: Source, volume: Volume) -> WantedNames:
    """The names of files that the boot code of a volume looks for."""
    try:
        area = source.read(volume.offset, min(_CODE_BYTES, max(volume.bytes, 512))).data
    except ReadError:
        area = volume.boot.data
    if volume.filesystem is not FilesystemKind.NTFS:
        return _wanted_short_names(volume.boot)
    loaded = _loaded_names(area)
    if loaded:
        return WantedNames(_unique(loaded), True)
    guessed = [match.group().decode("utf-16-le") for match in _WIDE_NAME.finditer(area)]
    return WantedNames(_unique(guessed), False)


def _missing(volume: Volume, wanted: WantedNames, listed: str) -> CheckResult:
    where = Where(offset=volume.offset, length=512, path=f"/{wanted.names[0]}")
    kind = FindingId.FIRST_FILE_MISSING
    if wanted.certain:
        says = (
            f"The boot code looks for {listed}, which is not in the root folder of volume"
            f" {volume.number}."
        )
        return failed(finding(kind, Severity.FATAL, says, where))
    says = (
        f"The boot code carries the name {listed}, and no such file is in the root folder of volume"
        f" {volume.number}; whether it looks for it cannot be told."
    )
    return doubtful(finding(kind, Severity.WARNING, says, where))


def _check_content(
    disk: Disk, volume: Volume, files: Files, found: FileFound, then: Callable[[str], Link]
) -> CheckResult:
    where = Where(path=found.path, length=found.bytes)
    if found.bytes == 0:
        says = f"{found.path}, which the boot code loads, has no content."
        return failed(finding(FindingId.FIRST_FILE_EMPTY, Severity.FATAL, says, where))
    if files.is_packed(found):
        says = (
            f"{found.path}, which the boot code loads, is kept compressed; boot code cannot expand"
            " it."
        )
        return failed(finding(FindingId.FIRST_FILE_COMPRESSED, Severity.FATAL, says, where))
    try:
        files.read(found)
    except FileDamagedError as error:
        says = (
            f"{found.path}, which the boot code loads, is cut short: {error.says}. Some boot code"
            " gets past that."
        )
        cut_short = FindingId.FIRST_FILE_CUT_SHORT
        return doubtful(finding(cut_short, Severity.WARNING, says, where), then(found.path))
    ran = run_to(disk, volume, files, found)
    if ran.reached is False:
        return code_fault(volume, found.path, ran)
    says = f"{found.path}, which the boot code loads, is there ({found.bytes} bytes)."
    if ran.reached:
        says = f"The boot code, run in the emulator, gets to {found.path} ({found.bytes} bytes)."
    result = passed(Phase.BOOT_MANAGER, says, where, then(found.path))
    return msgspec.structs.replace(result, ran_to=found.path if ran.reached else "")


def _unique(names: list[str]) -> tuple[str, ...]:
    return tuple(name for name in dict.fromkeys(names) if name not in _NOT_FILES)


def _loaded_names(area: bytes) -> list[str]:
    """The names of the first search that code of the NTFS kind makes; empty where it makes none."""
    names: list[str] = []
    last_at = 0
    for match in _LOADS_A_NAME.finditer(area):
        count_at, name_at = (int.from_bytes(part, "little") for part in match.groups())
        name = _counted_name(area, count_at) if name_at == count_at + 2 else ""
        if not name:
            continue
        if names and match.start() - last_at > _ONE_SEARCH:
            break
        names.append(name)
        last_at = match.start()
    return names


def _counted_name(area: bytes, at: int) -> str:
    """The name with its count in front that stands at `at`; empty where none of a file does."""
    count = int.from_bytes(area[at : at + 2], "little")
    raw = area[at + 2 : at + 2 + 2 * count]
    if not 0 < count <= _MOST_CHARACTERS or len(raw) < 2 * count:
        return ""
    name = raw.decode("utf-16-le", errors="replace")
    return name if _FILE_NAME.fullmatch(name) else ""


def _wanted_short_names(boot: BootSector) -> WantedNames:
    """The short names in the code of a FAT boot sector: those whose address some instruction
    loads; all that look like one where none does.
    """
    named = _short_names(boot.code)
    start = boot.data.find(boot.code[:16]) if boot.code else 0
    loaded = []
    for at, name in named:
        address = (_LOADED_AT + start + at).to_bytes(2, "little")
        if any(load + address in boot.data for load in _LOADS_AN_ADDRESS):
            loaded.append(name)
    if loaded:
        return WantedNames(_unique(loaded), True)
    return WantedNames(_unique([name for _, name in named]), False)


def _short_names(code: bytes) -> list[tuple[int, str]]:
    """Every run of eleven characters that can be a short name and does not go on before or behind,
    with the place where it stands.
    """
    names = []
    for at in range(len(code) - 11):
        stem, ending = code[at : at + 8], code[at + 8 : at + 11]
        goes_on = code[at + 11 : at + 12].isalnum() or code[at + 11] == 0x20
        alone = not code[at - 1 : at].isalnum() and not goes_on
        if alone and _STEM.fullmatch(stem) and _ENDING.fullmatch(ending):
            name = f"{stem.decode().rstrip()}.{ending.decode().rstrip()}".rstrip(".")
            names.append((at, name))
    return names


def _first_of(files: Files, wanted: WantedNames) -> FileFound | None:
    for name in wanted.names:
        found = files.find(name)
        if found is not None:
            return found
    return None


def _not_checked(says: str) -> CheckResult:
    return not_checked(finding(FindingId.FIRST_FILE_NOT_CHECKED, Severity.NOTE, says))


# What a piece of 16-bit boot code is, told by what it contains.


_TABLE_ADDRESSES = (b"\xbe\x07", b"\xbe\x7d", b"\xbe\x01", b"\xee\x07")
"""Where the table is in memory: at 600h+1beh after moving itself, at 7c00h+1beh before, or relative
to a segment.
"""
_NO_SYSTEM_TEXT = b"not a bootable disk"
"""The sentence that formatting programs leave behind instead of boot code."""


class CodeKind(StrEnum):
    """How an MBR finds the next link."""

    BLANK = "blank"
    GRUB = "grub"
    ACTIVE_ENTRY = "active-entry"
    MESSAGE = "message"
    UNKNOWN = "unknown"


def recognise_code(sector: Window) -> CodeKind:
    """The kind of boot code in a first sector of at least 440 bytes."""
    code = sector.take(0, min(len(sector), 440))
    if not code.strip(b"\0") or not code.strip(b"\xff"):
        return CodeKind.BLANK
    if grub.is_stage_one(sector):
        return CodeKind.GRUB
    if _NO_SYSTEM_TEXT in code:
        return CodeKind.MESSAGE
    if not code[:16].strip(b"\0"):
        return CodeKind.UNKNOWN  # whatever follows, the processor starts at the first byte
    return (
        CodeKind.ACTIVE_ENTRY
        if any(address in code for address in _TABLE_ADDRESSES)
        else CodeKind.UNKNOWN
    )


# The check of the active entry: usual boot code starts the volume of the one entry that is
# marked.


_LAST_PRIMARY = 4


def check_active(disk: Disk, then: Callable[[Volume], Link]) -> CheckResult:
    """One active entry, neither extended nor outside the disk; then its volume."""
    active = [volume for volume in disk.volumes if volume.active and volume.number <= _LAST_PRIMARY]
    table = Where(offset=446, length=64)
    repairs = (RepairId.ACTIVE_FLAG,) if len(startable(disk)) == 1 else ()
    if not active:
        if not repairs and find_unlisted_volumes(disk):
            repairs = (RepairId.PARTITION_TABLE,)
        says = "No entry of the table is active, and this boot code needs one."
        return failed(finding(FindingId.NO_ACTIVE_ENTRY, Severity.FATAL, says, table, repairs))
    if len(active) > 1:
        numbers = " and ".join(str(volume.number) for volume in active)
        says = f"Entries {numbers} are both active, and this boot code takes only one."
        return failed(finding(FindingId.TWO_ACTIVE_ENTRIES, Severity.FATAL, says, table, repairs))
    return _check_entry(disk, active[0], repairs, then(active[0]))


def startable(disk: Disk) -> list[Volume]:
    """Primary volumes that boot code could start."""
    primary = [volume for volume in disk.volumes if volume.number <= _LAST_PRIMARY]
    return [volume for volume in primary if could_start(disk.source, volume)]


def could_start(source: Source, volume: Volume) -> bool:
    """Whether boot code could start a volume: a sound boot sector with code, and the file that the
    code names.
    """
    boot = volume.boot
    if not boot.sound or volume.encrypted or volume.extended or Window(boot.code).blank:
        return False
    kind = recognise_code(Window(boot.data, volume.offset))
    if kind in {CodeKind.BLANK, CodeKind.MESSAGE}:
        return False
    if kind is CodeKind.GRUB or not names_in_code(source, volume).names:
        return True
    return wanted_file(source, volume) is not None


def _check_entry(
    disk: Disk, volume: Volume, repairs: tuple[RepairId, ...], then: Link
) -> CheckResult:
    where = Where(offset=volume.entry_offset, length=16)
    if volume.extended:
        says = (
            f"The active entry {volume.number} is an extended one, which holds no boot sector of a"
            " volume."
        )
        extended = FindingId.ACTIVE_ENTRY_EXTENDED
        return failed(finding(extended, Severity.FATAL, says, where, repairs))
    if not 0 < volume.start < disk.sectors or volume.sectors == 0:
        says = (
            f"The active entry {volume.number} starts at sector {volume.start}; the disk has"
            f" {disk.sectors}."
        )
        return failed(finding(FindingId.ACTIVE_ENTRY_OUTSIDE, Severity.FATAL, says, where))
    says = (
        f"Entry {volume.number} is the only active one; its volume starts at sector {volume.start}."
    )
    return passed(Phase.BOOT_RECORD, says, where, then)


# The link that runs the boot sector of the active volume.


def check_volume_sector(
    disk: Disk, volume: Volume, then: Link, core: Callable[[Lba], Link]
) -> CheckResult:
    """Sound, with code, and telling the truth about where it lies.

    Args:
        then: the link behind ordinary code.
        core: makes the link behind a GRUB stage one from the sector it names.
    """
    boot = volume.boot
    if volume.encrypted:
        says = f"Volume {volume.number} is encrypted; what its boot sector starts cannot be read."
        where = place(boot.offset, boot.data)
        return not_checked(finding(FindingId.VOLUME_ENCRYPTED, Severity.NOTE, says, where))
    fault = _broken(disk, volume) or _without_code(disk, volume)
    if fault is not None:
        return failed(fault)
    if _kind_of_code(volume) is CodeKind.GRUB:
        then = core(Lba(grub.STAGE_ONE.read(Window(boot.data)).core_lba))
    if is_misplaced(volume) and _reads_elsewhere(disk, volume):
        return failed(_hidden_wrong(volume), then)
    says = (
        f"The boot sector of volume {volume.number} ({volume.filesystem}) is sound and holds boot"
        " code."
    )
    where = place(boot.offset, boot.data)
    return passed(Phase.BOOT_RECORD, says, where, then).with_findings(*doubts(volume))


def _kind_of_code(volume: Volume) -> CodeKind:
    boot = volume.boot
    unsigned = boot.data[510:512] != b"\x55\xaa"
    if unsigned or Window(boot.code).blank:
        return CodeKind.BLANK
    return recognise_code(Window(boot.data, boot.offset))


def _without_code(disk: Disk, volume: Volume) -> Finding | None:
    """A sound boot sector that nothing can be started by."""
    boot, kind = volume.boot, _kind_of_code(volume)
    if kind is CodeKind.BLANK:
        says = f"The boot sector of volume {volume.number} is sound but holds no boot code."
        where, repairs = place(boot.offset, boot.code), boot_sector_repairs(boot)
        from mending.boot.grub import code_repairs  # noqa: PLC0415 - lazy: see `BiosChain`

        repairs = repairs or code_repairs(disk)
        blank = FindingId.VOLUME_BOOT_CODE_BLANK
        return finding(blank, Severity.FATAL, says, where, repairs)
    if kind is CodeKind.MESSAGE:
        says = (
            f"The boot sector of volume {volume.number} only prints that this is no disk to start"
            " from."
        )
        where = place(boot.offset, boot.data)
        return finding(FindingId.VOLUME_NOT_BOOTABLE, Severity.FATAL, says, where)
    return None


def _reads_elsewhere(disk: Disk, volume: Volume) -> bool:
    """Whether the volume's code, run as an MBR would start it, reads outside its volume and never
    inside.

    Some code calculates with the place that the boot sector names, some with the entry that is
    handed over: running it is the only way to tell. Without the emulator nothing is claimed.
    """
    if not can_rehearse():
        return False
    entry = disk.source.read(volume.entry_offset, 16).data
    reads = rehearse_code(disk.source, volume.boot.data, entry=entry, most=TRACE_INSTRUCTIONS).reads
    inside = [volume.start <= read.lba < volume.start + volume.sectors for read in reads]
    return bool(inside) and not any(inside)


def _hidden_wrong(volume: Volume) -> Finding:
    says = (
        f"The boot sector of volume {volume.number} places it at sector"
        f" {volume.boot.hidden_sectors}, the table at {volume.start}, and its code, run in the"
        " emulator, reads by the former."
    )
    where = Where(offset=volume.offset + 28, length=4, hex=volume.boot.data[28:32].hex(" "))
    return finding(
        FindingId.HIDDEN_SECTORS_WRONG,
        Severity.FATAL,
        says,
        where,
        boot_sector_repairs(volume.boot),
    )


def _broken(disk: Disk, volume: Volume) -> Finding | None:
    boot = volume.boot
    wrong = [problem for problem in boot.problems if problem.code not in HARMLESS]
    if not wrong:
        return None
    first = wrong[0]
    copy = "; its copy is sound" if boot.backup is not None and boot.backup.sound else ""
    if volume.filesystem == FilesystemKind.UNREADABLE:
        code, what = FindingId.VOLUME_BOOT_SECTOR_UNREADABLE, "cannot be read"
    elif Window(boot.data).blank:
        code, what = FindingId.VOLUME_BOOT_SECTOR_BLANK, "is blank"
    elif first.code == "not-a-boot-sector":
        code, what = (
            FindingId.VOLUME_BOOT_SECTOR_UNKNOWN,
            "is not one of a file system that we know",
        )
    else:
        code, what = (
            FindingId.VOLUME_BOOT_SECTOR_DAMAGED,
            f"is damaged ({first.code}: {first.found} instead of {first.expected})",
        )
    says = f"The boot sector of volume {volume.number} {what}{copy}."
    where = Where(offset=first.offset, length=first.length, hex=place(0, boot.data).hex)
    repairs = (
        (RepairId.PARTITION_TABLE,) if entry_is_beside(disk, volume) else boot_sector_repairs(boot)
    )
    return finding(code, Severity.FATAL, says, where, repairs)


_FLAGS = Where(offset=mbr.TABLE_OFFSET, length=64)


class BiosChain:
    """The checks of one disk. `start` is the first."""

    def __init__(self, environment: DiskEnvironment) -> None:
        self._environment, self._disk = environment, environment.disk

    def start(self) -> CheckResult:
        """Does firmware take this disk for one that starts? It wants to read 55 aa at the end of
        sector 0.
        """
        reading = self._disk.mbr
        if reading is None:
            where = Where(offset=0, length=mbr.SIZE)
            unreadable = FindingId.BOOT_RECORD_UNREADABLE
            return failed(finding(unreadable, Severity.FATAL, self._disk.unreadable, where))
        if reading.has("signature-missing"):
            blank = not any(mbr.MBR.encode(reading.record.fields))
            what = "Sector 0 is blank" if blank else "Sector 0 does not end in 55 aa"
            says = f"{what}, so firmware does not take this disk for one that starts."
            where = place(510, reading.record.fields.signature.to_bytes(2, "little"))
            repairs = (RepairId.PARTITION_TABLE,)
            missing = FindingId.BOOT_SIGNATURE_MISSING
            fault = finding(missing, Severity.FATAL, says, where, repairs)
            return failed(fault, self.boot_code if self._disk.volumes else None)
        where = Where(offset=510, length=2, hex="55 aa")
        return passed(Phase.FIRMWARE, "Sector 0 ends in 55 aa.", where, self.boot_code)

    def boot_code(self) -> CheckResult:
        """What is the code in sector 0, and what does it need next?"""
        sector = self._first_sector()
        where = place(0, sector.data[: mbr.CODE_SIZE])
        kind = recognise_code(sector)
        if self._disk.scheme is Scheme.NONE and self._disk.volumes:
            says = "Sector 0 is the boot sector of a volume that fills the disk."
            then = self._volume_sector(self._disk.volumes[0])
            return passed(Phase.BOOT_RECORD, says, where, then)
        if kind is CodeKind.GRUB:
            lba = Lba(grub.STAGE_ONE.read(sector).core_lba)
            says = f"The boot code is GRUB's stage one; it names sector {lba}."
            result = passed(Phase.BOOT_RECORD, says, where, self._core(lba))
            return result.with_findings(*self._no_flag())
        if kind is CodeKind.ACTIVE_ENTRY:
            says = "The boot code looks for the active entry in the table."
            return passed(Phase.BOOT_RECORD, says, where, self.active_entry)
        return self._bad_code(kind, where)

    def active_entry(self) -> CheckResult:
        """Exactly one active entry, and one that can be started from."""
        return check_active(self._disk, self._volume_sector)

    def _no_flag(self) -> tuple[Finding, ...]:
        """GRUB's stage one reads no flag; some firmware wants to see one before it runs any
        code.
        """
        if self._disk.scheme is not Scheme.MBR or any(
            volume.active for volume in self._disk.volumes
        ):
            return ()
        says = "No entry of the table is active: this boot code needs none, but some firmware does."
        return (finding(FindingId.ACTIVE_FLAG_UNSET, Severity.NOTE, says, _FLAGS),)

    def _bad_code(self, kind: CodeKind, where: Where) -> CheckResult:
        from mending.boot.grub import core_repairs, find_core, spare_core  # noqa: PLC0415 - lazy

        core = find_core(self._disk)
        then: Link | None = self.active_entry if core is None else self._core(core)
        if core is None and spare_core(self._disk) is not None:
            # the system that is to start brings a boot manager that needs no active entry
            then = None
        mendable = core is not None or not self._disk.gpt or bool(core_repairs(self._disk))
        repairs = (RepairId.BOOT_CODE,) if mendable else ()
        if kind is CodeKind.BLANK:
            sound = not self._disk.mbr or not self._disk.mbr.problems
            table = "is sound" if sound else "is not sound either"
            says = f"The boot code is blank; the table behind it {table}."
            blank = FindingId.BOOT_CODE_BLANK
            return failed(finding(blank, Severity.FATAL, says, where, repairs), then)
        if kind is CodeKind.MESSAGE:
            says = "The boot code only prints that this is no disk to start from."
            message = FindingId.BOOT_CODE_MESSAGE
            return failed(finding(message, Severity.FATAL, says, where, repairs), then)
        says = "The boot code is none that we know; whether it works cannot be told from its bytes."
        unknown = FindingId.BOOT_CODE_UNKNOWN
        return doubtful(finding(unknown, Severity.WARNING, says, where, repairs), then)

    def _volume_sector(self, volume: Volume) -> Link:
        def check() -> CheckResult:
            then = self._first_file(volume)
            result = check_volume_sector(self._disk, volume, then, self._core)
            return self._or_another_active(volume, result)

        return check

    def _first_file(self, volume: Volume) -> Link:
        def check() -> CheckResult:
            from mending.boot.syslinux import SyslinuxChecks, starts_here  # noqa: PLC0415 - lazy

            if starts_here(volume):
                return SyslinuxChecks(self._environment, volume).second_file()
            result = check_first_file(self._disk, volume, partial(self._configuration, volume))
            return self._or_another_active(volume, self._or_own_manager(result))

        return check

    def _or_another_active(self, volume: Volume, result: CheckResult) -> CheckResult:
        """Where the active volume fails and exactly one other could start, the flag may simply
        stand on the wrong entry: moving it is offered too.
        """
        if result.state is not PhaseState.FAILED or not volume.active:
            return result
        others = [other for other in startable(self._disk) if other.number != volume.number]
        if len(others) != 1:
            return result
        findings = tuple(
            msgspec.structs.replace(each, repairs=(RepairId.ACTIVE_FLAG, *each.repairs))
            if each.severity is Severity.FATAL
            and RepairId.ACTIVE_FLAG in FINDINGS[FindingId(each.id)].repairs
            else each
            for each in result.findings
        )
        return msgspec.structs.replace(result, findings=findings)

    def _or_own_manager(self, result: CheckResult) -> CheckResult:
        """Where a system keeps a copy of the file that boot code looks for, copying it is
        offered.
        """
        if result.state is not PhaseState.FAILED:
            return result
        from mending.boot.nt import keeps_manager  # noqa: PLC0415 - lazy: see above

        findings = tuple(
            msgspec.structs.replace(each, repairs=(RepairId.BOOT_FILES, *each.repairs))
            if RepairId.BOOT_FILES in FINDINGS[FindingId(each.id)].repairs
            and keeps_manager(self._environment, each.where.path or "")
            else each
            for each in result.findings
        )
        return msgspec.structs.replace(result, findings=findings)

    def _core(self, lba: Lba) -> Link:
        from mending.boot.grub import check_core  # noqa: PLC0415 - lazy: see above

        return lambda: check_core(self._disk, lba, self._grub)

    def _grub(self, image: GrubImage) -> Link:
        from mending.boot.grub import GrubChecks  # noqa: PLC0415 - lazy: see above

        return GrubChecks(self._environment, image, "i386-pc", None, self._chained).files

    def _chained(self, volume: Volume, path: str) -> Link:
        """What a GRUB entry hands over to: the boot sector of a volume, or a file that is not read
        further.
        """
        if path.rpartition(")")[2] == "+1":
            shift = shifted(self._volume_sector(volume), Phase.LOADER)
            return shift or self._configuration(volume, "")
        return self._configuration(volume, path.rpartition("/")[2])

    def _configuration(self, volume: Volume, first_file: str) -> Link:
        """What a manager reads that boot code, or another manager, loaded."""
        from mending.boot.nt import behind_code  # noqa: PLC0415 - lazy: see above

        return behind_code(self._environment, volume, first_file)

    def _first_sector(self) -> Window:
        return self._disk.source.read(0, mbr.SIZE)
