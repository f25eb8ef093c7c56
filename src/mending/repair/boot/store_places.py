"""How the boot configuration names volumes of this disk, and where it would be looked for."""

from mending.boot.chain import OutOfReachError
from mending.boot.nt import StoreVolumes
from mending.disk.volume import Volume
from mending.formats.nt.boot_store import StoreDevice, encode_device
from mending.model import RefusedError
from mending.repair.base import Request


def device_of(request: Request, volume: Volume) -> bytes:
    """The element that names a volume of this disk.

    Raises:
        RefusedError: the disk has no identity of its own.
    """
    outer = request.environment.outside(volume)
    disk = StoreVolumes(request.environment, outer).disk_identity()
    if not disk or not disk.strip("0-"):
        raise RefusedError("The disk has no identity that a boot configuration could name.")
    if outer.partuuid and request.disk.gpt is not None:
        return encode_device(StoreDevice("partition", disk, outer.partuuid.lower()))
    return encode_device(StoreDevice("partition", disk, offset=outer.offset))


def store_home(request: Request, path: str) -> Volume:
    """The volume on which a boot configuration of this path is looked for: the active one, or the
    ESP that has the folder.

    Raises:
        RefusedError: that cannot be told.
    """
    environment, folder = request.environment, path.rpartition("/")[0]
    if request.trace.firmware == "bios":
        found = [each for each in environment.volumes if each.active and not each.extended]
    else:
        found = [each for each in environment.volumes if each.efi]
        having = [each for each in found if _has(request, each, folder)]
        found = having or found
    if len(found) != 1:
        count = "No volume" if not found else f"{len(found)} volumes"
        raise RefusedError(f"{count} could hold {path}, so where it goes cannot be told.")
    return found[0]


def _has(request: Request, volume: Volume, folder: str) -> bool:
    try:
        return request.environment.find(volume, folder) is not None
    except OutOfReachError:
        return False
