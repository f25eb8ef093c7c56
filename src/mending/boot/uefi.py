"""The chain of a UEFI machine: table, EFI volume, loader file.

Boot entries live in the firmware's own memory and not on the disk. Where a dump of it is at hand, it decides what is
started. Else what can be told is whether the fallback file would start, and whether other loaders are there that an
entry may name.
"""

import msgspec

from mending.boot.boot_options import BootOptions, choose
from mending.boot.efi_files import FALLBACK_FOLDER, EfiVolume, Loader, efi_volumes
from mending.boot.grounds import Grounds
from mending.boot.guid_link import check_guid_table
from mending.boot.loader_kinds import behind_loader, spare_loader
from mending.boot.rungs import Rung, failed, finding
from mending.boot.volume_faults import entry_is_beside, fats_can_be_mended
from mending.boot.volume_sector import doubts
from mending.disk import READABLE_DAMAGE, Disk, Volume, unlisted_starts
from mending.model import Finding, Phase, PhaseState, Severity, Where, hex_preview


class UefiChain:
    """The links of one disk. `start` is the first. Args: options: what firmware remembers, where that is known."""

    def __init__(self, grounds: Grounds, options: BootOptions | None = None) -> None:
        self._grounds, self._disk, self._options = grounds, grounds.disk, options
        self._found = efi_volumes(self._disk)

    def start(self) -> Rung:
        """Is there a table that firmware believes?"""
        if self._disk.gpt is not None:
            return check_guid_table(self._disk, self._disk.gpt, self.volume)
        says = "The disk has a table in sector 0 alone, which UEFI firmware reads too."
        where = Where(offset=446, length=64)
        return Rung(phase=Phase.FIRMWARE, state=PhaseState.PASSED, says=says, where=where, then=self.volume)

    def volume(self) -> Rung:
        """Is there a volume that firmware looks into, and can it be read?"""
        if not self._found:
            ignored = any(volume.efi and volume.passed_over for volume in self._disk.volumes)
            says = "No volume is marked as EFI system partition, and none holds a fallback loader."
            if ignored:
                says = "Firmware passes over the EFI system partition: it lies outside or shares sectors with another."
            lost = any(one.filesystem.startswith("fat") for one in unlisted_starts(self._disk))
            repairs = ("partition-table",) if lost else ()
            return failed(finding("no-efi-volume", Phase.FIRMWARE, Severity.FATAL, says, self._table(), repairs))
        readable = [one for one in self._found if not one.unreadable]
        damaged = [one for one in self._found if one.unreadable]
        if not readable:
            return failed(_damage(self._disk, damaged[0], Severity.FATAL))
        first = readable[0].volume
        notes = (
            *doubts(first, READABLE_DAMAGE),
            *_unmarked(first),
            *(_damage(self._disk, one, Severity.WARNING) for one in damaged),
        )
        what = "the EFI system partition" if first.efi else "not marked for EFI, but holds a fallback loader"
        says = f"Volume {first.number} ({first.filesystem}) is {what}."
        where = Where(offset=first.offset, length=512)
        return Rung(
            phase=Phase.BOOT_RECORD, state=PhaseState.PASSED, says=says, where=where, findings=notes, then=self.loader
        )

    def loader(self) -> Rung:
        """Which file would firmware start?"""
        if self._options is None:
            return self._fallback()
        choice = choose(self._options, self._disk.volumes, self._found)
        if choice.volume is None or choice.loader is None:
            rung = self._fallback()
            says = f"{choice.says} Firmware that tries the fallback loader by itself goes on."
            lost = finding("boot-options-lead-nowhere", Phase.FIRMWARE, Severity.WARNING, says)
            return msgspec.structs.replace(rung, findings=(*choice.passed_over, lost, *rung.findings))
        where = Where(path=choice.loader.path, length=choice.loader.bytes)
        then = behind_loader(self._grounds, choice.volume, choice.loader.path, choice.words)
        return Rung(
            phase=Phase.BOOT_RECORD, state=PhaseState.PASSED, says=choice.says, where=where,
            findings=choice.passed_over, then=then,
        )  # fmt: skip

    def _fallback(self) -> Rung:
        """Would the fallback file start?"""
        readable = [one for one in self._found if not one.unreadable]
        fallbacks = [one for found in readable for one in found.fallbacks]
        others = [one for found in readable for one in found.loaders if not one.fallback]
        good = next(((found.volume, one) for found in readable for one in found.fallbacks if one.sound), None)
        bad = tuple(_bad_loader(one, Severity.WARNING) for one in (*fallbacks, *others) if not one.sound)
        if good is not None:
            volume, file = good
            says = f"{file.path} is there, {file.bytes} bytes, and sound."
            where = Where(path=file.path, length=file.bytes)
            state, then = PhaseState.PASSED, behind_loader(self._grounds, volume, file.path)
            return Rung(phase=Phase.BOOT_RECORD, state=state, says=says, where=where, findings=bad, then=then)
        if any(one.sound for one in others):
            return self._by_entry_alone(fallbacks, others, bad)
        if fallbacks or others:
            return failed(_bad_loader((*fallbacks, *others)[0], Severity.FATAL, self._copy()))
        number = readable[0].volume.number
        says = f"Volume {number} holds no loader file: {FALLBACK_FOLDER} has none, and there is no other."
        where = Where(offset=readable[0].volume.offset, path=FALLBACK_FOLDER)
        repairs = ("fat-mirror",) if fats_can_be_mended(self._disk, readable[0].volume) else self._copy()
        return failed(finding("efi-loader-missing", Phase.BOOT_RECORD, Severity.FATAL, says, where, repairs))

    def _by_entry_alone(self, fallbacks: list[Loader], others: list[Loader], bad: tuple[Finding, ...]) -> Rung:
        sound = next(one for one in others if one.sound)
        why = "is damaged" if fallbacks else "is missing"
        says = f"The fallback loader {why}; {sound.path} is sound, but only a boot entry in firmware can start it."
        where = Where(path=sound.path, length=sound.bytes)
        one = finding("efi-entry-needed", Phase.BOOT_RECORD, Severity.WARNING, says, where, self._copy())
        state = PhaseState.DOUBTFUL
        return Rung(phase=one.phase, state=state, says=says, where=where, findings=(one, *bad))

    def _copy(self) -> tuple[str, ...]:
        return ("boot-files",) if spare_loader(self._disk) is not None else ()

    def _table(self) -> Where:
        believed = self._disk.gpt.believed if self._disk.gpt else None
        if believed is None or believed.header is None:
            return Where(offset=446, length=64)
        size = self._disk.source.bytes_per_sector
        return Where(offset=believed.header.entries_lba * size, length=len(believed.entry_bytes))


def _unmarked(volume: Volume) -> list[Finding]:
    if volume.efi:
        return []
    says = f"Volume {volume.number} holds a fallback loader, but the table does not call it an EFI system partition."
    return [finding("efi-volume-not-marked", Phase.FIRMWARE, Severity.WARNING, says, Where(offset=volume.entry_offset))]


def _damage(disk: Disk, found: EfiVolume, severity: Severity) -> Finding:
    boot = found.volume.boot
    copy = boot.backup is not None and boot.backup.sound and not boot.sound
    says = found.unreadable.removesuffix(".") + ("; the copy of its boot sector is sound." if copy else ".")
    where = Where(offset=found.volume.offset, length=512, hex=hex_preview(boot.data))
    repairs = ("boot-sector",) if copy else ("partition-table",) if entry_is_beside(disk, found.volume) else ()
    return finding("efi-volume-damaged", Phase.BOOT_RECORD, severity, says, where, repairs)


def _bad_loader(loader: Loader, severity: Severity, others: tuple[str, ...] = ()) -> Finding:
    problem = loader.problems[0]
    instead = "" if problem.code == "chain" else f" instead of {problem.expected}"
    says = f"The loader file {loader.path} is damaged: {problem.found}{instead}."
    where = Where(path=loader.path, offset=problem.offset, length=problem.length or loader.bytes)
    return finding("efi-loader-damaged", Phase.BOOT_RECORD, severity, says, where, loader.repairs or others)
