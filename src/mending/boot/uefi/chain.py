"""The chain of a UEFI machine: GPT, EFI system partition, loader file.

Boot entries live in the firmware's own memory and not on the disk. Where a dump of it is at hand,
it decides what is started. Else the fallback loader is what firmware starts without an entry; and
where there is none, the chain is followed as firmware would that remembers an entry for the
likeliest loader on the disk: then everything on the disk is judged, and the one question that stays
open is said.
"""

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
from mending.boot.uefi.boot_options import BootOptions, ChosenLoader, choose_loader
from mending.boot.uefi.gpt_check import check_gpt
from mending.boot.uefi.loader_files import FALLBACK_FOLDER, EfiVolume, Loader, efi_volumes
from mending.boot.uefi.loaders import behind_loader, by_likelihood
from mending.boot.uefi.spare_loader import spare_loader
from mending.boot.volumes import doubts, entry_is_beside
from mending.disk.layout import Disk, find_unlisted_volumes
from mending.disk.volume import READABLE_DAMAGE, Volume
from mending.model import Finding, FindingId, Phase, RepairId, Severity, Where, hex_preview


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
