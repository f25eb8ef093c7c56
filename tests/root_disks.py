"""Disks whose ESP starts a kernel by itself, with a small Linux system on any kind of root."""

import gzip
import uuid

from mending.formats import gpt
from mending.workshop.disks import DISK_GUID, SECTOR, ImageDraft, put_desk, put_guid_table
from tests.support import made_kernel
from tests.systems import LINKS, archive
from tests.templates import _FILES, LOADER, ROOT_UUID, VERSION, unified

MIB, FIRST = 1 << 20, 83_968
DATA = uuid.UUID("0fc63daf-8483-4772-8e79-3d69d8477de4")


def system_tree(folder, kind, identifier):
    """The files of the sample system, whose fstab names a root of this kind."""
    tree = folder / "system"
    if not tree.exists():
        for name, data in _FILES.items():
            data = data.replace(b" ext4 ", f" {kind} ".encode())
            data = data.replace(ROOT_UUID.encode(), identifier.encode())
            (tree / name).parent.mkdir(parents=True, exist_ok=True)
            (tree / name).write_bytes(data)
            (tree / name).chmod(0o755)
        for link, target in LINKS:
            (tree / link).parent.mkdir(parents=True, exist_ok=True)
            (tree / link).symlink_to(target)
    return tree


def root_disk(folder, volume, command_line, inside=None):
    """A GPT disk of an ESP and this volume. Args: inside: what the initramfs holds."""
    path, size = folder / "disk.img", volume.stat().st_size
    draft = ImageDraft(FIRST * SECTOR + size + MIB)
    parts = [(gpt.EFI_SYSTEM, 2048, 81_920, "EFI"), (DATA, FIRST, size // SECTOR, "root")]
    put_guid_table(draft, DISK_GUID, parts)
    loader = unified(
        LOADER.read_bytes(),
        {
            b".osrel": b"ID=ferry\n",
            b".cmdline": command_line.encode(),
            b".linux": made_kernel(version=VERSION),
            b".initrd": gzip.compress(inside or archive(), mtime=0),
        },
    )
    put_desk(draft, "EFI", {"EFI/BOOT/BOOTX64.EFI": loader})
    with volume.open("rb") as file:
        for at in range(0, size, MIB):
            data = file.read(MIB)
            if any(data):
                draft.put(FIRST * SECTOR + at, data)
    draft.save(path)
    return path
