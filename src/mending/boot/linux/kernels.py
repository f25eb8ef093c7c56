"""Kernels that could be started: whole ones, each with the whole initial file system that belongs to it."""

from collections.abc import Iterator

import msgspec

from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.versions import falling
from mending.disk import FileFound, FilesUnavailableError, Volume
from mending.formats import bzimage, initramfs
from mending.model import Window
from mending.model.limits import INITRAMFS_BYTES, KERNEL_BYTES

_DEPTH, _FOLDERS, _LEAST = 3, 48, 16_384
_SKIPPED = {"efi", "loader", "grub", "grub2", "lost+found"}
_ON_ROOT = ("boot", "usr/lib/modules", "lib/modules")
_NAMES = ("vmlinuz", "linux", "kernel", "bzimage")


class SoundKernel(msgspec.Struct, frozen=True):
    """A kernel on a volume. `initrd` is empty where none belongs to it."""

    volume: Volume
    path: str
    version: str
    initrd: str


def sound_kernels(grounds: Grounds, volume: Volume) -> list[SoundKernel]:
    """All of a volume, the newest version first; none where its files cannot be read."""
    found: dict[str, SoundKernel] = {}
    try:
        for inside in _folders(grounds, volume):
            for one in inside:
                version = _version(grounds, volume, one)
                if version and version not in found:
                    found[version] = SoundKernel(volume, one.path, version, _initrd(grounds, volume, inside, version))
    except (ElsewhereError, FilesUnavailableError):
        return []
    return sorted(found.values(), key=lambda one: falling(one.version))


def _folders(grounds: Grounds, volume: Volume) -> Iterator[list[FileFound]]:
    """Files of each folder in which kernels are kept."""
    system = grounds.contents(volume).role == "system"
    tops = [one for place in (_ON_ROOT if system else ("",)) if (one := grounds.find(volume, place)) is not None]
    waiting = [(top.path, 0) for top in tops]
    looked = 0
    while waiting and looked < _FOLDERS:
        folder, depth = waiting.pop(0)
        looked += 1
        inside = grounds.files(volume).listing(folder)
        yield [one for one in inside if not one.is_folder and not one.is_link]
        below = [one.path for one in inside if one.is_folder and one.path.rpartition("/")[2].lower() not in _SKIPPED]
        waiting += [(one, depth + 1) for one in below if depth < (1 if system else _DEPTH)]


def _version(grounds: Grounds, volume: Volume, one: FileFound) -> str:
    """The version of a file that is a whole kernel; empty for others."""
    name = one.path.rpartition("/")[2].lower()
    if one.bytes < _LEAST or not name.startswith(_NAMES):
        return ""
    try:
        data = grounds.files(volume).read(one, KERNEL_BYTES)
    except FilesUnavailableError:
        return ""
    reading = bzimage.read(Window(data[: bzimage.HEAD_BYTES]), one.bytes)
    return reading.record.version if not reading.problems else ""


def _initrd(grounds: Grounds, volume: Volume, inside: list[FileFound], version: str) -> str:
    """The whole initial file system of a version, by what is in it, or by its name where nothing tells."""
    named = [one for one in inside if "init" in one.path.rpartition("/")[2].lower()]
    for one in sorted(named, key=lambda each: version not in each.path):
        try:
            record, problems = initramfs.read(grounds.files(volume).read(one, INITRAMFS_BYTES))
        except FilesUnavailableError:
            continue
        versions = record.module_versions
        if not problems and not record.unchecked and (version in versions or (not versions and version in one.path)):
            return one.path
    return ""
