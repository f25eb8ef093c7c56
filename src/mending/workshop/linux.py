"""A sound disk with a Linux system behind a unified kernel, and the ways in which it gets broken.

The root is a template that the real mkfs made (`tests/templates.py`); its kernel and programs are
heads without bodies, which is all that a trace reads of them. What firmware starts is the sample
loader with the kernel's parts beside it.
"""

import functools
import lzma
import uuid
from collections.abc import Mapping
from pathlib import Path

from mending.formats.partition import gpt
from mending.workshop.disks import DESK, DISK_GUID, DISK_SECTORS, STORE, Fault, put_desk
from mending.workshop.guid_table import put_guid_table
from mending.workshop.image import SECTOR, ImageDraft

_LINUX_DATA = uuid.UUID("0fc63daf-8483-4772-8e79-3d69d8477de4")
_FALLBACK = "EFI/BOOT/BOOTX64.EFI"
_ROOT_AT = STORE[0] * SECTOR
_BLOCK = 1024


@functools.cache
def _template(name: str) -> bytes:
    return lzma.decompress((Path(__file__).parent / "templates" / f"{name}.xz").read_bytes())


def linux_disk(loader: bytes | None = None) -> ImageDraft:
    """100 MiB: a GPT, an EFI system partition with a unified kernel as its fallback loader, and an
    ext4 root.
    """
    draft = ImageDraft(DISK_SECTORS * SECTOR)
    put_guid_table(
        draft, DISK_GUID, [(gpt.EFI_SYSTEM, *DESK, "EFI"), (_LINUX_DATA, *STORE, "gangway")]
    )
    put_desk(draft, "EFI", {_FALLBACK: _template("desk-linux.efi") if loader is None else loader})
    root = _template("linux-root.ext4")
    for at in range(0, len(root), _BLOCK):
        if any(root[at : at + _BLOCK]):
            draft.put(_ROOT_AT + at, root[at : at + _BLOCK])
    return draft


def _in_loader(found: bytes, instead: bytes) -> Fault:
    """The loader with some bytes changed, as damage on its way to the volume leaves it."""

    def apply(draft: ImageDraft) -> None:
        changed = _template("desk-linux.efi").replace(found, instead)
        put_desk(draft, "EFI", {_FALLBACK: changed})

    return apply


def _in_root(found: bytes, instead: bytes) -> Fault:
    """Other bytes over the place in the root where a file holds these; blocks of files begin at
    multiples of 1 KiB.
    """
    return lambda draft: draft.put(_ROOT_AT + _template("linux-root.ext4").index(found), instead)


def _blank_init(draft: ImageDraft) -> None:
    at = _template("linux-root.ext4").index(b"init of the ticket desk") // _BLOCK * _BLOCK
    draft.put(_ROOT_AT + at, bytes(64))


def _superblock(draft: ImageDraft) -> None:
    draft.put(_ROOT_AT + 1024, bytes(1024))


LINUX_FAULTS: Mapping[str, Fault] = {
    "root-of-another-name": _in_loader(b"-00000000de5c", b"-0000000005ea"),
    "blank-initial-files": _in_loader(b"\x1f\x8b\x08", b"\0\0\0"),
    "blank-kernel-head": _in_loader(b"HdrS", bytes(4)),
    "blank-root-superblock": _superblock,
    "blank-init": _blank_init,
    "blank-accounts": _in_root(b"root:x:0:0", bytes(80)),
    "mount-of-another-name": _in_root(b"de5c / ext4 defaults 0 1\n", b"05ea /t ext4 defaults 0 2"),
}
"""Ways to break `linux_disk`."""
