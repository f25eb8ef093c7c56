"""Sound disks, and every way in which they are broken: the finding and the phase that each fault
must lead to.
"""

import struct
import tempfile
from pathlib import Path

from mending.repair.boot import own_code
from mending.workshop import (
    BIOS_FAULTS,
    LINUX_FAULTS,
    UEFI_FAULTS,
    bios_disk,
    linux_disk,
    uefi_disk,
)
from mending.workshop.disks import code
from tests.support import SECTOR, patch, tool, trace_file
from tests.volumes import MIB, PROGRAMS, disk_of, make_volume

NEEDED = ("sfdisk", "mcopy", "mmd", *PROGRAMS)
WORKSHOP = {
    "blank-boot-code": ("boot-code-blank", "boot-record"),
    "no-signature": ("boot-signature-missing", "firmware"),
    "no-table": ("boot-signature-missing", "firmware"),
    "no-active-entry": ("no-active-entry", "boot-record"),
    "two-active-entries": ("two-active-entries", "boot-record"),
    "odd-flag-elsewhere": ("table-flag-odd", None),
    "blank-boot-sector": ("volume-boot-sector-blank", "boot-record"),
    "boot-sector-without-signature": ("volume-boot-sector-damaged", "boot-record"),
    "blank-volume-code": ("volume-boot-code-blank", "boot-record"),
    "wrong-hidden-sectors": ("hidden-sectors-wrong", "boot-record"),
    "media-byte": ("boot-sector-odd", None),
    "blank-backup-boot-sector": ("backup-boot-sector-damaged", None),
    "blank-first-fat": ("fats-differ", {"bios": None, "uefi": "boot-record"}),
    "blank-second-fat": ("fats-differ", None),
    "first-fat-breaks-loader": ("efi-loader-damaged", "boot-record"),
    "blank-primary-header": ("gpt-primary-damaged", None),
    "primary-header-crc": ("gpt-primary-damaged", None),
    "blank-primary-entries": ("gpt-primary-damaged", None),
    "blank-backup-header": ("gpt-backup-damaged", None),
    "blank-both-headers": ("gpt-both-damaged", "firmware"),
    "no-protective-record": ("protective-record-missing", "firmware"),
    "no-protective-entry": ("protective-record-missing", "firmware"),
    "protective-entry-active": (None, None),
    "efi-type-missing": ("efi-volume-not-marked", None),
    "other-entry-outside": ("gpt-entry-outside", None),
    "efi-entry-shared": ("no-efi-volume", "firmware"),
    "blank-efi-boot-sector": ("efi-volume-damaged", "boot-record"),
    "efi-boot-sector-without-signature": ("boot-sector-odd", None),
    "efi-media-byte": ("boot-sector-odd", None),
    "blank-efi-backup-boot-sector": ("backup-boot-sector-damaged", None),
    "truncated-loader": ("efi-loader-damaged", "boot-record"),
    "blank-loader": ("efi-loader-damaged", "boot-record"),
    "loader-of-another-machine": ("efi-loader-damaged", "boot-record"),
    "root-of-another-name": ("root-missing", "kernel"),
    "blank-initial-files": ("initramfs-damaged", "loader"),
    "blank-kernel-head": ("kernel-damaged", "loader"),
    "blank-root-superblock": ("root-superblock-lost", "kernel"),
    "blank-init": ("init-damaged", "kernel"),
    "blank-accounts": ("accounts-damaged", "session"),
    "mount-of-another-name": ("mount-missing", "session"),
}
KINDS = ("fat32", "ext4", "ntfs", "exfat", "fat16", "luks2", "swap", "xfs", "btrfs", "apfs")


def workshop_cases(folder):
    """Name, path, finding and phase of the sample PCs; the sound ones first, with None for both."""
    kinds = (
        ("bios", lambda: bios_disk(own_code()), BIOS_FAULTS),
        ("uefi", uefi_disk, UEFI_FAULTS),
        ("linux", linux_disk, LINUX_FAULTS),
    )
    for kind, draw, faults in kinds:
        for name in (None, *faults):
            draft = draw()
            if name is not None:
                faults[name](draft)
            path = Path(folder) / f"{kind}.img"
            draft.save(path)
            finding, phase = WORKSHOP[name] if name else (None, None)
            yield (
                f"{kind} {name or 'sound'}",
                path,
                finding,
                phase[kind] if isinstance(phase, dict) else phase,
            )
            path.unlink()


def volume_cases(folder):
    """The same for one disk with a volume of every kind, made by real programs, that starts by
    UEFI.
    """
    volumes = [make_volume(folder, kind) for kind in KINDS]
    loader = Path(folder) / "loader.efi"
    loader.write_bytes(code("desk-loader-efi"))
    tool("mmd", "-i", volumes[0], "::EFI", "::EFI/BOOT")
    tool("mcopy", "-i", volumes[0], loader, "::EFI/BOOT/BOOTX64.EFI")
    path, places = disk_of(folder, volumes, types={0: "uefi"})
    yield "every kind, sound", path, None, None
    at = dict(zip(KINDS, places, strict=True))
    for name, finding, phase, offset, data in _volume_faults(path, at):
        before = _read(path, offset, len(data))
        patch(path, offset, data)
        yield name, path, finding, phase
        patch(path, offset, before)


def _volume_faults(path, at):
    head = _read(path, at["ntfs"], SECTOR)
    table, mirror = (at["ntfs"] + cluster * 4096 for cluster in struct.unpack_from("<QQ", head, 48))
    fat = at["fat16"] + struct.unpack_from("<H", _read(path, at["fat16"], SECTOR), 14)[0] * SECTOR
    size = path.stat().st_size
    return [
        ("ext superblock blank", "first-superblock-lost", None, at["ext4"] + 1024, bytes(1024)),
        ("ext superblock magic", "first-superblock-lost", None, at["ext4"] + 1024 + 56, b"\0\0"),
        ("ext superblock checksum", "superblock-checksum", None, at["ext4"] + 1024 + 125, b"?"),
        ("ext copy blank", "superblock-copy-damaged", None, at["ext4"] + 8193 * 1024, bytes(1024)),
        ("ntfs boot sector blank", "other-boot-sector-damaged", None, at["ntfs"], bytes(SECTOR)),
        (
            "ntfs boot sector signature",
            "other-boot-sector-damaged",
            None,
            at["ntfs"] + 510,
            bytes(2),
        ),
        ("ntfs file table head", "file-table-damaged", None, table, bytes(4)),
        ("ntfs mirror", "file-table-mirror-damaged", None, mirror, bytes(1024)),
        ("ntfs mirror unlike", "file-table-mirror-differs", None, mirror + 100, b"\x55\x44"),
        (
            "exfat boot region checksum",
            "other-boot-sector-damaged",
            None,
            at["exfat"] + 100,
            b"\x01\x02\x03\x04",
        ),
        ("exfat boot sector blank", "other-boot-sector-damaged", None, at["exfat"], bytes(SECTOR)),
        ("fat16 second FAT", "fats-differ", None, fat + 400, b"\xff\xff"),
        ("luks2 header checksum", "volume-header-damaged", None, at["luks2"] + 5000, b"x"),
        ("xfs superblock checksum", "volume-header-damaged", None, at["xfs"] + 110, b"?"),
        (
            "btrfs superblock checksum",
            "volume-header-damaged",
            None,
            at["btrfs"] + 65_536 + 300,
            b"?",
        ),
        ("apfs container checksum", "volume-header-damaged", None, at["apfs"] + 80, b"?"),
        ("swap hibernated", "volume-hibernated", None, at["swap"] + 4086, b"S1SUSPEND\0"),
        ("second GPT blank", "gpt-backup-damaged", None, size - SECTOR, bytes(SECTOR)),
        (
            "GPT twice the same identifier",
            "gpt-primary-damaged",
            None,
            1024 + 128 + 16,
            _read(path, 1024 + 16, 16),
        ),
        ("ESP blank", "efi-volume-damaged", "boot-record", at["fat32"], bytes(MIB)),
    ]


def _read(path, offset, length):
    with path.open("rb") as file:
        file.seek(offset)
        return file.read(length)


def judge(cases):
    """One row for every case: name, what was wrong with the answer (empty: nothing), alarms on a
    sound disk.
    """
    rows = []
    for name, path, finding, phase in cases:
        trace = trace_file(path)
        found = [finding.id for finding in trace.findings]
        wrong = []
        if finding is not None and finding not in found:
            wrong.append(f"{finding} is not among {found}")
        if trace.failing_phase != phase:
            wrong.append(f"fails at {trace.failing_phase} instead of {phase}")
        sound = name.endswith("sound")
        alarms = (
            [finding.id for finding in trace.findings if finding.severity != "note"]
            if sound
            else []
        )
        rows.append((name, "; ".join(wrong), alarms))
    return rows


def every_case():
    """All rows; makes and removes its own folder."""
    with tempfile.TemporaryDirectory() as folder:
        return judge(workshop_cases(folder)) + judge(volume_cases(folder))
