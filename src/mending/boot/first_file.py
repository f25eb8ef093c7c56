"""The link from a volume's boot code to the first file of the boot manager.

The name is read out of the boot code itself: FAT code carries it as eleven characters of a folder entry, NTFS code as
UTF-16 in the sectors behind the first.
"""

import re

from mending.boot.rungs import Link, Rung, failed, finding
from mending.disk import Disk, FileDamagedError, FileFound, FilesUnavailableError, Volume, open_files
from mending.model import Phase, PhaseState, ReadError, Severity, Where

_PHASE = Phase.BOOT_MANAGER
_CODE_BYTES = 8192
"""The boot code of NTFS fills up to sixteen sectors; that of FAT32 up to thirteen."""
_STEM = re.compile(rb"[A-Z0-9_$~-]{1,8} {0,7}")
_ENDING = re.compile(rb"[A-Z0-9]{0,3} {0,3}")
_WIDE_NAME = re.compile(rb"(?:[A-Z0-9_]\0){4,12}(?=\0\0)")
_NOT_FILES = {"NTFS", "FAT12", "FAT16", "FAT32", "EXFAT", "MSDOS", "NO NAME"}


def check_first_file(disk: Disk, volume: Volume, then: Link) -> Rung:
    """Is a file that the boot code names in the root folder of the volume?"""
    names = names_in_code(disk, volume)
    if not names:
        return _not_checked(f"Which file the boot code of volume {volume.number} wants is not told by its bytes.")
    try:
        found = _first_of(disk, volume, names)
    except FilesUnavailableError as error:
        return _not_checked(f"{error.says} So it is unknown whether {' or '.join(names)} is there.")
    if found is None:
        says = (
            f"The boot code looks for {' or '.join(names)}, which is not in the root folder of volume {volume.number}."
        )
        where = Where(offset=volume.offset, length=512, path=f"/{names[0]}")
        return failed(finding("first-file-missing", _PHASE, Severity.FATAL, says, where))
    if found.bytes == 0:
        says = f"{found.path} on volume {volume.number}, which the boot code loads, has no content."
        return failed(finding("first-file-empty", _PHASE, Severity.FATAL, says, Where(path=found.path, length=0)))
    broken = _broken_chain(disk, volume, found)
    if broken:
        says = f"{found.path}, which the boot code loads, is cut short: {broken}. Some boot code gets past that."
        one = finding(
            "first-file-cut-short", _PHASE, Severity.WARNING, says, Where(path=found.path, length=found.bytes)
        )
        return Rung(phase=_PHASE, state=PhaseState.DOUBTFUL, says=says, where=one.where, findings=(one,), then=then)
    says = f"{found.path}, which the boot code loads, is there ({found.bytes} bytes)."
    where = Where(path=found.path, length=found.bytes)
    return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=where, then=then)


def _broken_chain(disk: Disk, volume: Volume, found: FileFound) -> str:
    """Why the file cannot be read to its end; empty when it can."""
    try:
        open_files(disk.source, volume).read(found)
    except FileDamagedError as error:
        return error.says
    except FilesUnavailableError:
        return ""  # said where the files of the volume are opened
    return ""


def wanted_file(disk: Disk, volume: Volume) -> FileFound | None:
    """The first file that the boot code of a volume names and that is there; None too where it cannot be told."""
    try:
        return _first_of(disk, volume, names_in_code(disk, volume))
    except FilesUnavailableError:
        return None


def names_in_code(disk: Disk, volume: Volume) -> list[str]:
    """File names that the boot code carries, in the order in which they stand."""
    try:
        area = disk.source.read(volume.offset, min(_CODE_BYTES, max(volume.bytes, 512))).data
    except ReadError:
        area = volume.boot.data
    if volume.filesystem == "ntfs":
        names = [match.group().decode("utf-16-le") for match in _WIDE_NAME.finditer(area)]
    else:
        names = _short_names(volume.boot.code)
    return [name for name in dict.fromkeys(names) if name not in _NOT_FILES]


def _short_names(code: bytes) -> list[str]:
    """Every run of eleven characters that can be a short name and does not go on before or behind."""
    names = []
    for at in range(len(code) - 11):
        stem, ending = code[at : at + 8], code[at + 8 : at + 11]
        alone = not code[at - 1 : at].isalnum() and not (code[at + 11 : at + 12].isalnum() or code[at + 11] == 0x20)
        if alone and _STEM.fullmatch(stem) and _ENDING.fullmatch(ending):
            names.append(f"{stem.decode().rstrip()}.{ending.decode().rstrip()}".rstrip("."))
    return names


def _first_of(disk: Disk, volume: Volume, names: list[str]) -> FileFound | None:
    files = open_files(disk.source, volume)
    return next((found for name in names if (found := files.find(name)) is not None), None)


def _not_checked(says: str) -> Rung:
    one = finding("first-file-not-checked", _PHASE, Severity.NOTE, says)
    return Rung(phase=_PHASE, state=PhaseState.NOT_CHECKED, says=says, findings=(one,))
