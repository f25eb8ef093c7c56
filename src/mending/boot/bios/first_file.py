"""The check from a volume's boot code to the first file of the boot manager.

The name of that file is read out of the boot code itself, as the code reads it:

* NTFS code keeps a table of names in its second sector, each as a 16-bit count of characters and
the
  characters in UTF-16, with nothing behind. It loads count and address of a name one after the
  other (`movzx ecx, word [n]`, `mov eax, n + 2`). Names that it loads close to each other it tries
  one after the other; the first of them that is in the root folder is taken, even an empty one, and
  a compressed one ends the start. (Seen with such code under SeaBIOS: `docs/firmware.md`.)
* FAT code carries names as the eleven characters of a folder entry, and loads their address.
* Other code of either kind may carry a name as text. That it is a file's is a guess, so nothing
  fatal is said of it.
"""

import re
from collections.abc import Callable

import msgspec

from mending.boot.bios.code_run import code_fault, run_into_blank, run_to, run_to_rest
from mending.boot.chain import CheckResult, Link, doubtful, failed, finding, not_checked, passed
from mending.disk.files import FileDamagedError, FileFound, Files, FilesUnavailableError, open_files
from mending.disk.layout import Disk
from mending.disk.volume import BootSector, Volume
from mending.model import FilesystemKind, FindingId, Phase, ReadError, Severity, Where
from mending.source import Source

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
