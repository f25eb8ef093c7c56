"""The chain of a BIOS machine: MBR, the one active volume, its boot sector, the boot manager's
first file.

BIOS firmware runs the code of sector 0 and knows nothing more. Where that code goes on depends on
what it is: usual code starts the boot sector of the one active volume; GRUB's stage one reads the
sector that is written into it and needs no active flag.

What is behind a boot manager is loaded when a chain gets there: a disk has one of them, and a short
command is to be quick.
"""

from functools import partial

import msgspec

from mending.boot.bios.active_entry import check_active, startable
from mending.boot.bios.code_kinds import CodeKind, recognise_code
from mending.boot.bios.first_file import check_first_file
from mending.boot.bios.volume_sector import check_volume_sector
from mending.boot.chain import (
    CheckResult,
    DiskEnvironment,
    Link,
    doubtful,
    failed,
    finding,
    passed,
    place,
    shifted,
)
from mending.disk.layout import Scheme
from mending.disk.volume import Volume
from mending.formats.bootloader import grub
from mending.formats.bootloader.grub_image import GrubImage
from mending.formats.partition import mbr
from mending.model import (
    FINDINGS,
    Finding,
    FindingId,
    Lba,
    Phase,
    PhaseState,
    RepairId,
    Severity,
    Where,
    Window,
)

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
