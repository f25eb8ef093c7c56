"""The chain of a UEFI machine: GPT, EFI system partition, loader file.

Boot entries live in the firmware's own memory and not on the disk. Where a dump of it is at hand,
it decides what is started. Else the fallback loader is what firmware starts without an entry; and
where there is none, the chain is followed as firmware would that remembers an entry for the
likeliest loader on the disk: then everything on the disk is judged, and the one question that stays
open is said.
"""

from pathlib import Path

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
    run_chain,
)
from mending.boot.uefi.loaders import (
    FALLBACK_FOLDER,
    EfiVolume,
    Loader,
    behind_loader,
    by_likelihood,
    efi_volumes,
    spare_loader,
)
from mending.boot.volumes import doubts, entry_is_beside
from mending.disk.layout import Disk, Gpt, GptCopy, find_unlisted_volumes
from mending.disk.volume import READABLE_DAMAGE, Volume
from mending.formats import firmware, gpt, mbr
from mending.formats.firmware import LoadOption
from mending.model import (
    Finding,
    FindingId,
    InputError,
    Phase,
    PhaseState,
    RepairId,
    Severity,
    Where,
    Window,
    hex_preview,
)
from mending.model.limits import FOLDER_ROWS, WINDOW_BYTES
from mending.source import read_file, read_folder

# The boot entries that UEFI firmware remembers, from a dump of its variables, set against a disk.
#
# Source: UEFI Specification 2.10, section 3.1.1 "Boot Manager Programming": `BootNext` once, then
# `BootOrder`; entries that cannot be loaded are passed over.


_PHASE = Phase.FIRMWARE
_NUMBER = 8
"""Letters in the name of a boot entry, `Boot0001`."""


class BootOptions(msgspec.Struct, frozen=True):
    """What firmware would try, first to last.

    Attributes:
        path: of the dump, for sentences.
        order: names of entries; those that are asked for but not there have no row in `entries`.
    """

    path: str
    order: tuple[str, ...]
    entries: dict[str, LoadOption]


class ChosenLoader(msgspec.Struct, frozen=True):
    """The loader that firmware would start from a disk, and what it passed over before."""

    volume: Volume | None
    loader: Loader | None
    command_line: str
    says: str
    passed_over: tuple[Finding, ...]


def read_boot_options(path: Path) -> BootOptions:
    """The boot entries in a dump: a file, or a folder with a file for each variable.

    Raises:
        InputError: it cannot be read, or is no such dump.
    """
    if path.is_dir():
        files = read_folder(path)[:FOLDER_ROWS]
        rows = (
            firmware.read_variable_file(file.name, read_file(file, WINDOW_BYTES))
            for file in files
            if file.is_file()
        )
        found = [variable for variable in rows if variable is not None]
        if not found:
            raise InputError(
                f"{path} holds no firmware variables.",
                "Copy the variables, a file each, with their names.",
            )
    else:
        reading = firmware.read_store(Window(read_file(path, WINDOW_BYTES)))
        if reading.has("no-store"):
            raise InputError(
                f"{path} is no dump of firmware variables.",
                "Give a dump of the store, or a folder.",
            )
        found = list(reading.record)
    values = {
        variable.name: variable.data for variable in found if variable.owner == firmware.GLOBAL
    }
    order = (
        *firmware.read_order(values.get("BootNext", b"")),
        *firmware.read_order(values.get("BootOrder", b"")),
    )
    names = (
        name
        for name in values
        if len(name) == _NUMBER and name.startswith("Boot") and name not in {"BootNext"}
    )
    entries = {
        name: firmware.read_load_option(values[name]).record
        for name in names
        if _is_number(name[4:])
    }
    return BootOptions(str(path), tuple(dict.fromkeys(order)), entries)


def choose_loader(
    options: BootOptions, volumes: tuple[Volume, ...], found: list[EfiVolume]
) -> ChosenLoader:
    """Walk through the order as firmware does, for the entries that lead to this disk."""
    passed: list[Finding] = []
    for name in options.order:
        entry = options.entries.get(name)
        where = Where(path=name)
        if entry is None:
            passed.append(
                _note(f"The order names {name}, and there is no such entry.", where, Severity.NOTE)
            )
            continue
        title = f"{name} ({entry.title})"
        if not entry.active:
            passed.append(_note(f"{title} is switched off.", where, Severity.NOTE))
        elif entry.kind == "partition":
            volume, loader, fault = _target(entry, volumes, found)
            if loader is not None:
                says = (
                    f"The firmware's entry {title} starts {loader.path} on volume"
                    f" {volume.number if volume else 0}."
                )
                return ChosenLoader(volume, loader, entry.command_line, says, tuple(passed))
            severity = Severity.WARNING if volume is not None else Severity.NOTE
            passed.append(_note(f"{title} {fault}; firmware passes over it.", where, severity))
        elif entry.kind == "device":
            for esp in found:
                loader = next((file for file in esp.fallbacks if file.sound), None)
                if loader is not None:
                    says = (
                        f"The firmware's entry {title} starts a whole device; on this disk"
                        f" {loader.path}."
                    )
                    return ChosenLoader(esp.volume, loader, entry.command_line, says, tuple(passed))
    says = (
        "No entry that firmware remembers leads to a loader on this disk."
        if options.order
        else _NO_ORDER
    )
    return ChosenLoader(None, None, "", says, tuple(passed))


_NO_ORDER = "Firmware remembers no order of boot entries."


def _target(
    entry: LoadOption, volumes: tuple[Volume, ...], found: list[EfiVolume]
) -> tuple[Volume | None, Loader | None, str]:
    """The volume that an entry names, the sound loader on it, and why there is none."""
    drive = entry.drive
    wanted = drive.partition.lower() if drive is not None else ""
    volume = next(
        (volume for volume in volumes if wanted and volume.partuuid.lower() == wanted), None
    )
    if volume is None:
        other = next(
            (volume for volume in volumes if drive is not None and volume.start == drive.start),
            None,
        )
        beside = (
            f"; volume {other.number} lies in its place under another identifier"
            if other is not None
            else ""
        )
        return (
            other,
            None,
            f"names partition {wanted or 'nothing'}, which is not on this disk{beside}",
        )
    readable = next((esp for esp in found if esp.volume == volume and not esp.unreadable), None)
    if readable is None:
        return volume, None, f"names volume {volume.number}, which firmware cannot read"
    paths = (
        [entry.file.lower()]
        if entry.file
        else [fallback.path.lower() for fallback in readable.fallbacks]
    )
    loader = next((loader for loader in readable.loaders if loader.path.lower() in paths), None)
    if loader is None:
        return (
            volume,
            None,
            f"names {entry.file or 'the fallback loader'}, which is not on volume {volume.number}",
        )
    if not loader.sound:
        return volume, None, f"names {loader.path}, which is damaged"
    return volume, loader, ""


def _note(says: str, where: Where, severity: Severity) -> Finding:
    return finding(FindingId.BOOT_OPTION_PASSED_OVER, severity, says, where)


def _is_number(text: str) -> bool:
    return all(name in "0123456789ABCDEFabcdef" for name in text)


# The link that finds the partition table of a UEFI disk: protective MBR, both copies, their
# places.


_REPAIRS = (RepairId.GPT_COPY,)


def check_gpt(disk: Disk, table: Gpt, then: Link) -> CheckResult:
    """A protective MBR, and at least one sound copy."""
    faults = _record_faults(disk)
    if faults and faults[0].severity is Severity.FATAL:
        return failed(faults[0], then if table.believed else None)
    if table.believed is None:
        says = (
            f"Both copies of the GPT are damaged: {_fault(table.primary)} and"
            f" {_fault(table.backup)}."
        )
        repairs = (RepairId.PARTITION_TABLE,)
        return failed(
            finding(
                FindingId.GPT_BOTH_DAMAGED, Severity.FATAL, says, _where(table.primary), repairs
            )
        )
    notes = [*faults, *_copies(table), *_entries(table.believed), *_size(disk, table)]
    which = "Both copies" if table.primary.sound and table.backup.sound else "One copy"
    says = (
        f"{which} of the GPT {'are' if which[0] == 'B' else 'is'} sound, with"
        f" {len(table.believed.entries)} entries."
    )
    place = Where(offset=table.believed.lba * disk.source.bytes_per_sector, length=92)
    return CheckResult(
        phase=_PHASE,
        state=PhaseState.PASSED,
        says=says,
        where=place,
        findings=tuple(notes),
        then=then,
    )


def _record_faults(disk: Disk) -> list[Finding]:
    """Firmware looks at the protective MBR before it believes that there is a GPT."""
    reading = disk.mbr
    if reading is None:
        where = Where(offset=0, length=mbr.SIZE)
        return [finding(FindingId.BOOT_RECORD_UNREADABLE, Severity.FATAL, disk.unreadable, where)]
    table = Where(offset=mbr.TABLE_OFFSET, length=66)
    if reading.has("signature-missing") or not reading.record.protective:
        says = "The protective MBR in sector 0 is missing, so firmware does not look for the GPT."
        return [finding(FindingId.PROTECTIVE_RECORD_MISSING, Severity.FATAL, says, table, _REPAIRS)]
    if len(reading.record.entries) > 1:
        says = (
            f"Sector 0 lists {len(reading.record.entries) - 1} volumes beside the protective entry:"
            " a hybrid."
        )
        return [finding(FindingId.HYBRID_RECORD, Severity.NOTE, says, table)]
    return []


def _copies(table: Gpt) -> list[Finding]:
    found = []
    for name, kind, copy in (
        ("primary", FindingId.GPT_PRIMARY_DAMAGED, table.primary),
        ("backup", FindingId.GPT_BACKUP_DAMAGED, table.backup),
    ):
        if not copy.sound:
            says = f"The {name} copy of the GPT is damaged: {_fault(copy)}; the other one is sound."
            found.append(finding(kind, Severity.WARNING, says, _where(copy), _REPAIRS))
    if not found and not table.agree:
        says = "The two copies of the GPT are sound and say different things."
        differ = FindingId.GPT_COPIES_DIFFER
        found.append(finding(differ, Severity.WARNING, says, _where(table.backup)))
    return found


_ENTRY_FINDINGS = {
    "entry-outside": FindingId.GPT_ENTRY_OUTSIDE,
    "entries-overlap": FindingId.GPT_ENTRIES_OVERLAP,
    gpt.GUIDS_ALIKE: FindingId.GPT_GUIDS_ALIKE,
}


def _entries(copy: GptCopy) -> list[Finding]:
    """What is odd about single entries, while firmware uses the others."""
    found = []
    for problem in copy.problems:
        ending = "Firmware passes over such an entry."
        if problem.code == gpt.GUIDS_ALIKE:
            ending = "What is named by it may be either of them."
        says = f"The GPT: {problem.found}; expected {problem.expected}. {ending}"
        where = Where(offset=problem.offset, length=problem.length)
        found.append(finding(_ENTRY_FINDINGS[problem.code], Severity.WARNING, says, where))
    return found


def _size(disk: Disk, table: Gpt) -> list[Finding]:
    header = table.primary.header
    if header is None or not table.primary.sound:
        return []
    last, named = disk.sectors - 1, header.alternate_lba
    where = Where(offset=disk.source.bytes_per_sector + 32, length=8)
    if named < last:
        says = f"The disk is {last - named} sectors longer than its GPT says."
        return [finding(FindingId.GPT_DISK_LARGER, Severity.WARNING, says, where)]
    if named > last:
        says = f"The disk is {named - last} sectors shorter than its GPT says."
        return [finding(FindingId.GPT_DISK_SMALLER, Severity.WARNING, says, where)]
    return []


def _fault(copy: GptCopy) -> str:
    problem = copy.problems[0]
    return f"{problem.code.replace('-', ' ')} (found {problem.found}, expected {problem.expected})"


def _where(copy: GptCopy) -> Where:
    if not copy.problems:
        return Where()
    return Where(offset=copy.problems[0].offset, length=copy.problems[0].length)


class UefiChain:
    """The checks of one disk. `start` is the first.

    Args:
        options: what firmware remembers, where that is known.
    """

    def __init__(self, environment: DiskEnvironment, options: BootOptions | None = None) -> None:
        self._environment, self._disk, self._options = environment, environment.disk, options
        self._found = efi_volumes(environment)
        self._readable = [esp for esp in self._found if not esp.unreadable]

    def start(self) -> CheckResult:
        """Is there a table that firmware believes?"""
        if self._disk.gpt is not None:
            return check_gpt(self._disk, self._disk.gpt, self.volume)
        says = "The disk has a table in sector 0 alone, which UEFI firmware reads too."
        return passed(Phase.FIRMWARE, says, Where(offset=446, length=64), self.volume)

    def volume(self) -> CheckResult:
        """Is there a volume that firmware looks into, and can it be read?"""
        if not any(esp.loaders for esp in self._found) and self._is_darwin_alone():
            return self._by_firmware_of_its_own()
        if not self._found:
            return self._no_volume()
        damaged = [esp for esp in self._found if esp.unreadable]
        if not self._readable:
            return failed(_damage(self._disk, damaged[0], Severity.FATAL))
        first = self._readable[0].volume
        notes = (
            *doubts(first, READABLE_DAMAGE),
            *_unmarked(first),
            *(_damage(self._disk, esp, Severity.WARNING) for esp in damaged),
        )
        what = "not marked for EFI, but holds a fallback loader"
        if first.efi:
            what = "the EFI system partition"
        says = f"Volume {first.number} ({first.filesystem}) is {what}."
        where = Where(offset=first.offset, length=512)
        return passed(Phase.BOOT_RECORD, says, where, self.loader, notes)

    def loader(self) -> CheckResult:
        """Which file would firmware start?"""
        if self._options is None:
            return self._without_options()
        chosen = choose_loader(self._options, self._disk.volumes, self._found)
        if chosen.volume is None or chosen.loader is None:
            says = f"{chosen.says} Firmware that tries the fallback loader by itself goes on."
            lost = finding(FindingId.BOOT_OPTIONS_LEAD_NOWHERE, Severity.WARNING, says)
            loaders = [file for esp in self._readable for file in esp.loaders if file.sound]
            if loaders and not any(file.fallback for file in loaders):
                return self._found_by_nobody(chosen).with_findings(*chosen.passed_over)
            return self._without_options().with_findings(*chosen.passed_over, lost)
        where = Where(path=chosen.loader.path, length=chosen.loader.bytes)
        then = behind_loader(
            self._environment, chosen.volume, chosen.loader.path, chosen.command_line
        )
        return passed(Phase.BOOT_RECORD, chosen.says, where, then, chosen.passed_over)

    def _found_by_nobody(self, chosen: ChosenLoader) -> CheckResult:
        """Sound loaders that only an entry would start, and no entry does."""
        volume, likeliest = by_likelihood(self._environment, self._readable)[0]
        damaged = any(file.fallback for esp in self._readable for file in esp.loaders)
        says = (
            f"{chosen.says} The fallback loader is {'damaged' if damaged else 'not there'}, so"
            f" firmware starts nothing, though {likeliest.path} is sound."
        )
        where = Where(path=likeliest.path, length=likeliest.bytes)
        lost = FindingId.FIRMWARE_FINDS_NOTHING
        fault = finding(lost, Severity.FATAL, says, where, self._copy())
        return failed(fault, behind_loader(self._environment, volume, likeliest.path))

    def _is_darwin_alone(self) -> bool:
        """Whether every system on the disk is of the family that brings its own firmware."""
        families = {
            system.family
            for volume in self._environment.volumes
            if not volume.extended
            for system in self._environment.contents(volume).systems
        }
        return families == {"darwin"}

    def _by_firmware_of_its_own(self) -> CheckResult:
        """Firmware of that family reads the container itself, and needs nothing on the ESP."""
        volume = next(
            each for each in self._environment.volumes if self._environment.contents(each).systems
        )
        inside = "; ".join(self._environment.contents(volume).info.contained)
        says = (
            f"Volume {volume.number} is a container with {inside}. Firmware made for it starts it"
            " without the ESP; what it does, and what is in these volumes, cannot be checked from"
            " outside."
        )
        where = Where(offset=volume.offset, length=volume.bytes)
        return not_checked(finding(FindingId.VOLUME_NOT_CHECKED, Severity.NOTE, says, where))

    def _no_volume(self) -> CheckResult:
        ignored = any(volume.efi and volume.passed_over for volume in self._disk.volumes)
        says = "No volume is marked as EFI system partition, and none holds a fallback loader."
        if ignored:
            says = (
                "Firmware passes over the EFI system partition: it lies outside or shares sectors"
                " with another."
            )
        lost = any(volume.kind.is_fat for volume in find_unlisted_volumes(self._disk))
        repairs = (RepairId.PARTITION_TABLE,) if lost else ()
        missing = FindingId.NO_EFI_VOLUME
        return failed(finding(missing, Severity.FATAL, says, self._table(), repairs))

    def _without_options(self) -> CheckResult:
        """The fallback loader; else the likeliest one that an entry may name."""
        fallbacks = [file for esp in self._readable for file in esp.fallbacks]
        others = [file for esp in self._readable for file in esp.loaders if not file.fallback]
        bad = tuple(
            _bad_loader(file, Severity.WARNING) for file in (*fallbacks, *others) if not file.sound
        )
        for esp in self._readable:
            for file in esp.fallbacks:
                if file.sound:
                    says = f"{file.path} is there, {file.bytes} bytes, and sound."
                    where = Where(path=file.path, length=file.bytes)
                    then = behind_loader(self._environment, esp.volume, file.path)
                    return passed(Phase.BOOT_RECORD, says, where, then, bad)
        if any(file.sound for file in others):
            return self._by_entry_alone(bool(fallbacks), bad)
        if fallbacks or others:
            first = (*fallbacks, *others)[0]
            return failed(_bad_loader(first, Severity.FATAL, self._copy()))
        return self._no_loader()

    def _no_loader(self) -> CheckResult:
        volume = self._readable[0].volume
        says = (
            f"Volume {volume.number} holds no loader file: {FALLBACK_FOLDER} has none, and there is"
            " no other."
        )
        where = Where(offset=volume.offset, path=FALLBACK_FOLDER)
        repairs = self._copy()
        if self._environment.fats_can_be_mended(volume):
            repairs = (RepairId.FAT_MIRROR,)
        missing = FindingId.EFI_LOADER_MISSING
        return failed(finding(missing, Severity.FATAL, says, where, repairs))

    def _by_entry_alone(self, fallback_damaged: bool, bad: tuple[Finding, ...]) -> CheckResult:
        """Loaders that only a boot entry starts: followed from the likeliest on; what is wrong
        behind the others is damage that a start may get past.
        """
        ordered = by_likelihood(self._environment, self._readable)
        (volume, first), others = ordered[0], ordered[1:]
        aside = [
            fault
            for other_volume, other in others
            for fault in _faults_behind(behind_loader(self._environment, other_volume, other.path))
        ]
        where = Where(path=first.path, length=first.bytes)
        says = f"{first.path} is sound; a boot entry in firmware starts it."
        then = self._entry_question(
            first, fallback_damaged, behind_loader(self._environment, volume, first.path)
        )
        return passed(Phase.BOOT_RECORD, says, where, then, (*bad, *aside))

    def _entry_question(self, loader: Loader, fallback_damaged: bool, then: Link) -> Link:
        """What the disk cannot tell: whether firmware still has its entry."""
        why, severity = "There is no fallback loader", Severity.NOTE
        repairs: tuple[RepairId, ...] = ()
        if fallback_damaged:
            why, severity = "The fallback loader is damaged", Severity.WARNING
            repairs = self._copy()
        says = (
            f"{why}, so {loader.path} starts only by its boot entry; whether firmware still has it"
            " is not on this disk (a dump of its variables tells: --variables)."
        )
        where = Where(path=loader.path, length=loader.bytes)
        question = finding(FindingId.EFI_ENTRY_NEEDED, severity, says, where, repairs)
        return lambda: doubtful(question, then)

    def _copy(self) -> tuple[RepairId, ...]:
        return (RepairId.BOOT_FILES,) if spare_loader(self._environment) is not None else ()

    def _table(self) -> Where:
        believed = self._disk.gpt.believed if self._disk.gpt else None
        if believed is None or believed.header is None:
            return Where(offset=446, length=64)
        size = self._disk.source.bytes_per_sector
        return Where(offset=believed.header.entries_lba * size, length=len(believed.entry_bytes))


def _faults_behind(first: Link) -> list[Finding]:
    """What stops a start by a loader that is not the likeliest, as warnings."""
    found = [fault for result in run_chain(first) for fault in result.findings]
    return [
        msgspec.structs.replace(fault, severity=Severity.WARNING)
        for fault in found
        if fault.severity is Severity.FATAL
    ]


def _unmarked(volume: Volume) -> list[Finding]:
    if volume.efi:
        return []
    says = (
        f"Volume {volume.number} holds a fallback loader, but the table does not call it an EFI"
        " system partition."
    )
    where = Where(offset=volume.entry_offset)
    return [finding(FindingId.EFI_VOLUME_NOT_MARKED, Severity.WARNING, says, where)]


def _damage(disk: Disk, found: EfiVolume, severity: Severity) -> Finding:
    boot = found.volume.boot
    has_backup = boot.backup is not None and boot.backup.sound and not boot.sound
    ending = "; the copy of its boot sector is sound." if has_backup else "."
    says = found.unreadable.removesuffix(".") + ending
    where = Where(offset=found.volume.offset, length=512, hex=hex_preview(boot.data))
    repairs: tuple[RepairId, ...] = ()
    if has_backup:
        repairs = (RepairId.BOOT_SECTOR,)
    elif entry_is_beside(disk, found.volume):
        repairs = (RepairId.PARTITION_TABLE,)
    return finding(FindingId.EFI_VOLUME_DAMAGED, severity, says, where, repairs)


def _bad_loader(loader: Loader, severity: Severity, others: tuple[RepairId, ...] = ()) -> Finding:
    problem = loader.problems[0]
    instead = "" if problem.code == "chain" else f" instead of {problem.expected}"
    says = f"The loader file {loader.path} is damaged: {problem.found}{instead}."
    where = Where(path=loader.path, offset=problem.offset, length=problem.length or loader.bytes)
    repairs = loader.repairs or others
    return finding(FindingId.EFI_LOADER_DAMAGED, severity, says, where, repairs)
