"""Whether a volume's boot code, run in the emulator, gets as far as the file that it is to load.

The bytes of boot code tell what it wants, and not whether all of it is whole: of the sixteen
sectors that NTFS keeps for it, only the first has a copy. Running it shows more than reading it
does: it finds the file by its own reading of the file system, or it does not. (What real code does
under SeaBIOS is the measure: `docs/firmware.md`.)
"""

import msgspec

from mending.boot.chain import CheckResult, doubtful, failed, finding
from mending.boot.rehearse import Handed, Stop, can_rehearse, rehearse_code, screen_lines
from mending.boot.volumes import boot_sector_repairs, is_misplaced
from mending.disk.files import FileFound, Files
from mending.disk.layout import Disk
from mending.disk.volume import Volume
from mending.model import FindingId, Severity, Where
from mending.model.limits import TRACE_INSTRUCTIONS

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
