"""Which volume of a disk a device of the boot configuration means.

A partition is named by the identity of its disk and its own: on an MBR disk by signature and
offset, on a GPT disk by two GUIDs. A copy of a disk has another identity, or its partitions moved:
then the manager looks for one that is not there.
"""

import re
import uuid

import msgspec

from mending.boot.chain import BootEnvironment
from mending.disk.volume import Volume
from mending.formats.nt.boot_store import StoreDevice
from mending.knowledge.families import nt_names

_WIDE = re.compile(rb"(?:[\x21-\x7e]\0){6,120}")


class StoreVolumes:
    """The volumes that devices are matched with.

    Args:
        home: the volume from which the manager was loaded.
    """

    def __init__(self, environment: BootEnvironment, home: Volume) -> None:
        self._environment, self._home = environment, home

    def find(self, device: StoreDevice, path: str) -> tuple[Volume | None, str]:
        """The volume, or None and why there is none.

        Args:
            path: a file or folder on it, for a device that is found by one.

        Raises:
            OutOfReachError: files of a volume that may be meant cannot be read.
        """
        if device.kind == "boot":
            return self._home, ""
        if device.kind == "search":
            found = [each for each in self._volumes() if self._environment.find(each, path)]
            return (found[0], "") if len(found) == 1 else (None, f"the volume that holds {path}")
        if device.kind != "partition":
            return None, "a device of a kind that is not read"
        if self._environment.disk is None:
            return None, "a partition, which a mounted tree does not tell"
        return self._of_disk(device)

    def is_lost(self, device: StoreDevice) -> bool:
        """Whether a device is a partition that can only be meant to be on this disk and is not: of
        this disk, or at the very place of one of its volumes under the name of another disk, as a
        copy leaves it. What has nothing in common with this disk may be on another one of the PC.
        """
        if device.kind != "partition" or self._environment.disk is None:
            return False
        if self._of_disk(device)[0] is not None:
            return False
        here = device.disk == self.disk_identity()
        return here or any(_is_at(volume, device) for volume in self._in_table())

    def _volumes(self) -> list[Volume]:
        """All but those that are looked into once they are unlocked."""
        inside = self._environment.inside
        return [
            volume
            for volume in self._environment.volumes
            if not volume.extended and inside(volume) is volume
        ]

    def _in_table(self) -> list[Volume]:
        return [volume for volume in self._environment.volumes if not volume.extended]

    def _of_disk(self, device: StoreDevice) -> tuple[Volume | None, str]:
        for volume in self._in_table():
            if _is_at(volume, device) and self.disk_identity() == device.disk:
                return self._environment.inside(volume), ""
        by_guid = device.offset < 0
        at = device.partition if by_guid else f"at byte {device.offset}"
        name = f"{'' if by_guid else 'the '}partition {at}"
        ours = self.disk_identity() or "none"
        return None, f"{name} of disk {device.disk}, which is not on this one ({ours})"

    def disk_identity(self) -> str:
        """How a device names this disk; empty where it has no identity."""
        disk = self._environment.disk
        if disk is None:
            return ""
        believed = disk.gpt.believed if disk.gpt is not None else None
        if believed is not None and believed.header is not None:
            return str(uuid.UUID(bytes_le=believed.header.disk_guid))
        reading = disk.mbr
        return f"{reading.record.fields.disk_signature:08x}" if reading is not None else ""


class StorePlace(msgspec.Struct, frozen=True):
    """Where a boot configuration is, or would be looked for."""

    volume: Volume
    path: str


def store_places(environment: BootEnvironment) -> list[StorePlace]:
    """The boot configurations that are there: beside what boot code loads on the active volume, and
    two folders down on an ESP.

    Raises:
        OutOfReachError: files of a volume cannot be read.
    """
    names, found = nt_names().store, list[StorePlace]()
    for volume in environment.volumes:
        if volume.active and not volume.extended and volume.kind.is_readable:
            file = environment.find(volume, names.beside_code)
            found += [StorePlace(volume, file.path)] if file is not None else []
        if volume.efi or volume.kind.is_fat:
            paths = stores_on(environment, volume)
            found += [StorePlace(volume, path) for path in paths]
    return found


def carried_store(data: bytes) -> str:
    """The path of the boot configuration that a manager for UEFI carries in itself, from the top of
    the ESP; empty where it carries none.

    Args:
        data: the manager's file.
    """
    ending = f"/{nt_names().store.beside_loader}"
    for match in _WIDE.finditer(data):
        text = match.group().decode("utf-16-le").replace("\\", "/")
        if text.lower().startswith("/efi/") and text.lower().endswith(ending):
            return text
    return ""


def stores_on(environment: BootEnvironment, volume: Volume) -> list[str]:
    """Files named like a store, two folders down below the top one of an ESP.

    Raises:
        OutOfReachError
    """
    name, top = nt_names().store.beside_loader, environment.find(volume, "EFI")
    files = environment.files(volume)
    makers = files.listing(top.path) if top is not None and top.is_folder else []
    folders = [maker.path for maker in makers if maker.is_folder]
    folders += [
        below.path for path in folders[:16] for below in files.listing(path) if below.is_folder
    ]
    found = [file for path in folders[:64] if (file := files.find(f"{path}/{name}"))]
    return [file.path for file in found if not file.is_folder]


def _is_at(volume: Volume, device: StoreDevice) -> bool:
    """Whether a device names the partition of a volume, whatever the disk."""
    if device.offset < 0:
        return volume.partuuid.lower() == device.partition
    return volume.offset == device.offset
