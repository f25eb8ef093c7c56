"""The chain of a BIOS machine: boot record, the one active volume, its boot sector, the boot manager's first file.

A link is a method that makes one rung and names the next. After a failure the walk goes on wherever the next link is
still known, so that two faults at once are both found.
"""

from mending.boot.active import check_active
from mending.boot.codes import CodeKind, recognise_code
from mending.boot.first_file import check_first_file
from mending.boot.grounds import Grounds
from mending.boot.grub.core import check_core, core_repairs, find_core, spare_core
from mending.boot.grub.menu import GrubLinks
from mending.boot.rungs import Link, Rung, failed, finding, place, shifted
from mending.boot.volume_sector import check_volume_sector
from mending.disk import Volume
from mending.formats import grub, mbr
from mending.formats.grub_image import GrubImage
from mending.model import Lba, Phase, PhaseState, Severity, Where, Window


class BiosChain:
    """The links of one disk. `start` is the first."""

    def __init__(self, grounds: Grounds) -> None:
        self._grounds, self._disk = grounds, grounds.disk

    def start(self) -> Rung:
        """Does firmware take this disk for one that starts? It wants to read 55 aa at the end of sector 0."""
        reading = self._disk.boot_record
        phase = Phase.FIRMWARE
        if reading is None:
            where = Where(offset=0, length=mbr.SIZE)
            return failed(finding("boot-record-unreadable", phase, Severity.FATAL, self._disk.unreadable, where))
        if reading.has("signature-missing"):
            blank = not any(mbr.BOOT_RECORD.encode(reading.record.fields))
            what = "Sector 0 is blank" if blank else "Sector 0 does not end in 55 aa"
            says = f"{what}, so firmware does not take this disk for one that starts."
            where = place(510, reading.record.fields.signature.to_bytes(2, "little"))
            then = self.boot_code if self._disk.volumes else None
            repairs = () if self._disk.volumes else ("partition-table",)
            return failed(finding("boot-signature-missing", phase, Severity.FATAL, says, where, repairs), then)
        where = Where(offset=510, length=2, hex="55 aa")
        return Rung(
            phase=phase, state=PhaseState.PASSED, says="Sector 0 ends in 55 aa.", where=where, then=self.boot_code
        )

    def boot_code(self) -> Rung:
        """What is the code in sector 0, and what does it need next?"""
        sector = self._first_sector()
        where = place(0, sector.data[: mbr.CODE_SIZE])
        kind = recognise_code(sector)
        if self._whole_disk_volume() is not None:
            says = "Sector 0 is the boot sector of a volume that fills the disk."
            return _passed(says, where, self._volume_sector(self._disk.volumes[0]))
        if kind is CodeKind.GRUB:
            lba = Lba(grub.STAGE_ONE.read(sector).core_lba)
            return _passed(f"The boot code is GRUB's stage one; it names sector {lba}.", where, self._core(lba))
        if kind is CodeKind.ACTIVE_ENTRY:
            return _passed("The boot code looks for the active entry in the table.", where, self.active_entry)
        return self._bad_code(kind, where)

    def active_entry(self) -> Rung:
        """Exactly one active entry, and one that can be started from."""
        return check_active(self._disk, self._volume_sector)

    def _bad_code(self, kind: CodeKind, where: Where) -> Rung:
        core = find_core(self._disk)
        then: Link | None = self.active_entry if core is None else self._core(core)
        if core is None and spare_core(self._disk) is not None:
            then = None  # the system that is to start brings a boot manager that needs no active entry
        sound = not self._disk.boot_record or not self._disk.boot_record.problems
        table = "the table behind it is sound" if sound else "the table behind it is not sound either"
        mendable = core is not None or not self._disk.gpt or bool(core_repairs(self._disk))
        repairs = ("boot-code",) if mendable else ()
        if kind is CodeKind.BLANK:
            says = f"The boot code is blank; {table}."
            one = finding("boot-code-blank", Phase.BOOT_RECORD, Severity.FATAL, says, where, repairs)
            return failed(one, then)
        if kind is CodeKind.MESSAGE:
            says = "The boot code only prints that this is no disk to start from."
            return failed(finding("boot-code-message", Phase.BOOT_RECORD, Severity.FATAL, says, where, repairs), then)
        says = "The boot code is none that we know; whether it works cannot be told from its bytes."
        one = finding("boot-code-unknown", Phase.BOOT_RECORD, Severity.WARNING, says, where, repairs)
        state = PhaseState.DOUBTFUL
        return Rung(phase=one.phase, state=state, says=says, where=where, findings=(one,), then=then)

    def _volume_sector(self, volume: Volume) -> Link:
        return lambda: check_volume_sector(self._disk, volume, self._first_file(volume), self._core)

    def _first_file(self, volume: Volume) -> Link:
        return lambda: check_first_file(self._disk, volume, self.configuration)

    def _core(self, lba: Lba) -> Link:
        return lambda: check_core(self._disk, lba, self._grub)

    def _grub(self, image: GrubImage) -> Link:
        return GrubLinks(self._grounds, image, "i386-pc", None, self._chained).files

    def _chained(self, volume: Volume, path: str) -> Link:
        """What a GRUB entry hands over to: the boot sector of a volume, or a file that is not read further."""
        if path.rpartition(")")[2] == "+1":
            return shifted(self._volume_sector(volume), Phase.LOADER) or self.configuration
        return self.configuration

    def configuration(self) -> Rung:
        """The end of what is read today, said so."""
        says = "What the boot manager does next is not read yet."
        return Rung(phase=Phase.BOOT_MANAGER, state=PhaseState.NOT_CHECKED, says=says)

    def _first_sector(self) -> Window:
        return self._disk.source.read(0, mbr.SIZE)

    def _whole_disk_volume(self) -> Volume | None:
        return next((volume for volume in self._disk.volumes if volume.start == 0), None)


def _passed(says: str, where: Where, then: Link) -> Rung:
    return Rung(phase=Phase.BOOT_RECORD, state=PhaseState.PASSED, says=says, where=where, then=then)
