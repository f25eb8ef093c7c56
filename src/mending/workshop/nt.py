"""Sound disks with a system of the nt family, BIOS and UEFI, and the ways in which they get broken.

The system's volume is a template that the real mkfs and a real driver made (`tests/templates.py`);
what differs from PC to PC is laid over the places of its files. The volume that starts it is FAT32,
with a stub in place of the manager, which nobody may hand on.
"""

import functools
import lzma
import tomllib
import uuid
from collections.abc import Callable, Mapping
from pathlib import Path

from mending.formats.nt.boot_store import StoreDevice
from mending.formats.partition import gpt, mbr
from mending.workshop import nt_tree
from mending.workshop.disks import DESK, DISK_GUID, DISK_SECTORS, STORE, code, put_desk
from mending.workshop.guid_table import put_guid_table
from mending.workshop.image import SECTOR, ImageDraft
from mending.workshop.nt_tree import Tree

SIGNATURE = 0x5EA0F0E1
PARTITION = uuid.uuid5(DISK_GUID, "system")
_NTFS, _FAT32_LBA = 0x07, 0x0C
_DATA = uuid.UUID("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7")
_AT = STORE[0] * SECTOR
_STUB_NAME, _MANAGER_NAME = b"DESKLOADBIN", b"BOOTMGR    "
_STEP = 4096

Fault = Callable[[Tree], None]
"""Changes the files of a system; the boot configuration is among them, as `store`."""
STORE_FILE = "store"


@functools.cache
def template() -> bytes:
    """The volume of the sound system."""
    path = Path(__file__).parent / "templates" / "nt-system.ntfs.xz"
    return lzma.decompress(path.read_bytes())


@functools.cache
def _places() -> dict[str, tuple[int, int]]:
    """Length and place of each file of the template that has clusters of its own."""
    path = Path(__file__).parent / "templates" / "nt-system.toml"
    rows = tomllib.loads(path.read_text())
    return {name: (size, start) for name, (size, start) in rows.items()}


def nt_bios_disk(boot_code: bytes, *faults: Fault) -> ImageDraft:
    """100 MiB: boot code, an active FAT32 volume with the manager and its store, and the system."""
    device = StoreDevice("partition", f"{SIGNATURE:08x}", offset=_AT)
    tree = _tree(nt_tree.letter_on_mbr(SIGNATURE, _AT), device, "winload.exe", faults)
    draft = ImageDraft(DISK_SECTORS * SECTOR)
    table = mbr.encode_entry(mbr.ACTIVE, _FAT32_LBA, *DESK) + mbr.encode_entry(0, _NTFS, *STORE)
    fields = mbr.MbrFields(boot_code, SIGNATURE, 0, table, mbr.SIGNATURE)
    draft.put(0, mbr.MBR.encode(fields))
    inside = {"BOOTMGR": code("desk-loader"), **_kept("BOOT/BCD", tree)}
    boot = code("fat32-start").replace(_STUB_NAME, _MANAGER_NAME)
    put_desk(draft, "TICKETDESK", inside, boot)
    _put_system(draft, tree)
    return draft


def nt_uefi_disk(*faults: Fault) -> ImageDraft:
    """100 MiB: a GPT, an ESP with the manager and its store, and the system."""
    device = StoreDevice("partition", str(DISK_GUID), str(PARTITION))
    tree = _tree(nt_tree.letter_on_gpt(PARTITION), device, "winload.efi", faults)
    draft = ImageDraft(DISK_SECTORS * SECTOR)
    put_guid_table(draft, DISK_GUID, [(gpt.EFI_SYSTEM, *DESK, "EFI"), (_DATA, *STORE, "system")])
    loader = tree[f"{nt_tree.ROOT}/boot/efi/harbour.efi"]
    inside = {
        "EFI/BOOT/BOOTX64.EFI": loader,
        "EFI/HARBOUR/BOOT/HARBOUR.EFI": loader,
        **_kept(nt_tree.STORE_ON_ESP, tree),
    }
    put_desk(draft, "EFI", inside)
    _put_system(draft, tree)
    return draft


def _tree(letter: bytes, device: StoreDevice, loader: str, faults: tuple[Fault, ...]) -> Tree:
    tree = nt_tree.system_tree(letter)
    tree[STORE_FILE] = nt_tree.store_bytes(device, loader)
    for fault in faults:
        fault(tree)
    return tree


def _kept(path: str, tree: Tree) -> dict[str, bytes]:
    data = tree.pop(STORE_FILE, None)
    return {path: data} if data is not None else {}


def _put_system(draft: ImageDraft, tree: Tree) -> None:
    """The template, with the files of the tree laid over their places.

    Raises:
        ValueError: a file has another length than in the template, or is not in the tree.
    """
    volume = bytearray(template())
    for path, (size, start) in _places().items():
        if path not in tree or len(tree[path]) != size:
            raise ValueError(f"{path} has another length in the template")
        volume[start : start + size] = tree[path]
    for at in range(0, len(volume), _STEP):
        piece = bytes(volume[at : at + _STEP])
        if any(piece):
            draft.put(_AT + at, piece)


def other_disk(tree: Tree) -> None:
    """The boot configuration of a disk that was copied to another one."""
    device = StoreDevice("partition", f"{SIGNATURE ^ 0xFFFF:08x}", offset=_AT)
    tree[STORE_FILE] = nt_tree.store_bytes(device, "winload.exe")


def filter_left_behind(tree: Tree) -> None:
    """A program was removed, and its driver is still named as a filter of all volumes."""
    path = "ferry/system32/config/SYSTEM"
    tree[path] = nt_tree.hive(
        nt_tree.system_keys(nt_tree.letter_on_mbr(SIGNATURE, _AT), {"quayvol": None})
    )


def damaged_driver(tree: Tree) -> None:
    """One byte in the driver of the disk controller has turned."""
    path = "ferry/system32/drivers/quaydisk.sys"
    data = bytearray(tree[path])
    data[1030] ^= 0x10
    tree[path] = bytes(data)


def half_written_hive(tree: Tree) -> None:
    """The power went while the system hive was written, and its second half is blank."""
    path = "ferry/system32/config/SYSTEM"
    length = int.from_bytes(tree[path][40:44], "little")
    tree[path] = tree[path][:4096] + bytes(length) + tree[path][4096 + length :]


def other_program_at_sign_in(tree: Tree) -> None:
    """Something that was removed since had put itself in front of the sign-in."""
    keys = nt_tree.software_keys("C:\\ferry\\system32\\greeter.exe,")
    tree["ferry/system32/config/SOFTWARE"] = nt_tree.hive(keys)


NT_FAULTS: Mapping[str, Fault] = {
    "other-disk": other_disk,
    "filter-left-behind": filter_left_behind,
    "damaged-driver": damaged_driver,
    "half-written-hive": half_written_hive,
    "other-program-at-sign-in": other_program_at_sign_in,
}
"""Ways to break a system; the first two are for a BIOS PC."""
