"""What is wrong with the mounts that an installed system asks for: rows of its fstab, and of the
table of encrypted volumes below them.

A row stops the start only where systemd requires it: not with `nofail` or `noauto`, not where an
automount waits for the first use, and not where it counts as a network's (systemd.mount(5),
"fstab"; fstab(5); crypttab(5)).
"""

from collections.abc import Sequence

import msgspec

from mending.boot.chain import BootEnvironment, OutOfReachError, finding
from mending.boot.linux.mounts import Mount
from mending.disk.layout import find_unlisted_volumes
from mending.disk.volume import Volume
from mending.model import FilesystemKind, Finding, FindingId, Phase, RepairId, Severity, Where

_FSTAB, _CRYPTTAB = "/etc/fstab", "/etc/crypttab"
_TYPES = {
    "ext2": FilesystemKind.EXT,
    "ext3": FilesystemKind.EXT,
    "ext4": FilesystemKind.EXT,
    "xfs": FilesystemKind.XFS,
    "btrfs": FilesystemKind.BTRFS,
    "ntfs": FilesystemKind.NTFS,
    "ntfs3": FilesystemKind.NTFS,
    "ntfs-3g": FilesystemKind.NTFS,
    "exfat": FilesystemKind.EXFAT,
}
"""What rows call the kinds that their volumes must have."""
_FAT_TYPES = {"vfat", "msdos"}
_MADE_OF_ANY = {FilesystemKind.UNKNOWN, FilesystemKind.BLANK, FilesystemKind.UNREADABLE}


class MountFindings:
    """The findings on both tables of one system.

    Args:
        rows: of its fstab. locks: rows of the table of encrypted volumes.
    """

    def __init__(
        self, environment: BootEnvironment, rows: Sequence[Mount], locks: Sequence[Mount]
    ) -> None:
        self._environment, self._rows, self._locks = environment, rows, locks

    def all(self) -> list[Finding]:
        """Those of the fstab first."""
        found = [fault for row in self._rows for fault in self._of_row(row)]
        return found + [fault for row in self._locks for fault in self._of_lock(row)]

    def _of_row(self, row: Mount) -> list[Finding]:
        where, name = Where(path=_FSTAB, line=row.line), row.name
        if name.kind == "device":
            says = (
                f"fstab names {name.value} for {row.point}, which may mean another volume next"
                " time."
            )
            fragile = FindingId.MOUNT_NAME_FRAGILE
            return [finding(fragile, Severity.WARNING, says, where)]
        if row.point == "/" and "ro" in row.options:
            says = (
                "fstab wants the root read-only, so nothing can be saved and much will not start."
            )
            return [finding(FindingId.ROOT_READ_ONLY, Severity.WARNING, says, where)]
        if name.kind == "other" or not self._environment.knows_names or row.filesystem == "swap":
            return self._of_swap(row) if row.filesystem == "swap" else []
        if name.kind == "mapped":
            return self._of_mapped(row)
        found = self._environment.named(name.kind, name.value)
        if found:
            return self._of_volume(row, self._environment.inside(found[0]))
        says = f"fstab wants {name.kind} {name.value} for {row.point}, which no volume has"
        return [self._missing(row, says)]

    def _of_swap(self, row: Mount) -> list[Finding]:
        name = row.name
        if name.kind in {"other", "mapped", "device"} or not self._environment.knows_names:
            return []
        if self._environment.named(name.kind, name.value):
            return []
        says = f"fstab wants {name.kind} {name.value} for {row.point}, which no volume has"
        return [self._missing(row, says)]

    def _missing(self, row: Mount, says: str) -> Finding:
        hidden = bool(self._environment.unknown())
        stops = row.required and row.point != "/" and not hidden
        may = "; it may be one that cannot be read" if hidden else ""
        missing, severity = FindingId.MOUNT_MISSING, Severity.FATAL if stops else Severity.WARNING
        where = Where(path=_FSTAB, line=row.line)
        return finding(missing, severity, f"{says}{may}.", where, self._answers(stops))

    def _answers(self, stops: bool) -> tuple[RepairId, ...]:
        """Where a volume lies that no entry lists, the entry comes first."""
        disk = self._environment.disk
        if not stops:
            return ()
        if disk is not None and find_unlisted_volumes(disk):
            return (RepairId.PARTITION_TABLE, RepairId.MOUNT_OPTIONAL)
        return (RepairId.ROOT_NAME, RepairId.MOUNT_OPTIONAL)

    def _of_mapped(self, row: Mount) -> list[Finding]:
        """A logical or unlocked volume: its name comes from a group or from the other table."""
        name, environment = row.name.value, self._environment
        if environment.named("mapped", name):
            return self._of_volume(row, environment.named("mapped", name)[0])
        groups = {
            known
            for volume in environment.volumes
            for known in environment.contents(volume).info.logical
        }
        if name in groups or any(lock.point == name for lock in self._locks):
            return []  # what unlocks it is judged by its own row
        return [self._missing(row, f"fstab wants {name} for {row.point}, which nothing makes")]

    def _of_volume(self, row: Mount, volume: Volume) -> list[Finding]:
        """What the kernel would refuse when it mounts the volume that is there."""
        if row.point == "/":
            return []  # it is mounted by then, with what the command line says
        why = self._of_type(row, volume) or self._of_subvolume(row, volume)
        if not why:
            return []
        where = Where(path=_FSTAB, line=row.line)
        severity = Severity.FATAL if row.required else Severity.WARNING
        repairs = (RepairId.MOUNT_OPTIONAL,) if row.required else ()
        says = f"fstab wants volume {volume.number} for {row.point}, but {why}."
        return [finding(FindingId.MOUNT_REFUSED, severity, says, where, repairs)]

    @staticmethod
    def _of_type(row: Mount, volume: Volume) -> str:
        if volume.filesystem in _MADE_OF_ANY:
            return ""
        wanted = _TYPES.get(row.filesystem)
        fits = volume.kind.is_fat if row.filesystem in _FAT_TYPES else volume.filesystem is wanted
        if (wanted is None and row.filesystem not in _FAT_TYPES) or fits:
            return ""
        return f"as {row.filesystem}, while {volume.filesystem} is on it"

    def _of_subvolume(self, row: Mount, volume: Volume) -> str:
        """Source: btrfs(5), "Mount Options"."""
        given = [each for each in row.options if each.startswith("subvol=")]
        name = given[0].partition("=")[2].strip("/") if given else ""
        if volume.filesystem is not FilesystemKind.BTRFS or not name:
            return ""
        whole = msgspec.structs.replace(volume, top="")
        try:
            there = self._environment.find(whole, name)
        except OutOfReachError:
            return ""
        return "" if there is not None else f"its subvolume {name}, which is not there"

    def _of_lock(self, row: Mount) -> list[Finding]:
        """An encrypted volume that is to be unlocked and is not there: the start waits for it, and
        stops where it needs what is inside.
        """
        name, environment = row.name, self._environment
        told = name.kind in {"uuid", "label", "partuuid", "partlabel"} and environment.knows_names
        if not told or not row.required or environment.named(name.kind, name.value):
            return []
        needing = [
            mount
            for mount in self._rows
            if mount.name.kind == "mapped" and mount.name.value == row.point and mount.required
        ]
        says = (
            f"The table of encrypted volumes wants {name.value} for {row.point}, which no volume is"
        )
        severity = Severity.WARNING
        if needing:
            severity = Severity.FATAL
            says += f"; fstab needs what is inside for {needing[0].point}"
        where, missing = Where(path=_CRYPTTAB, line=row.line), FindingId.UNLOCK_MISSING
        return [finding(missing, severity, f"{says}.", where, phase=Phase.SESSION)]
