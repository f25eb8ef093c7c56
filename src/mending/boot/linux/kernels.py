"""Kernels that could be started: whole ones, each with the whole initramfs that belongs to it."""

from collections.abc import Iterator

import msgspec

from mending.boot.chain import BootEnvironment, OutOfReachError, falling
from mending.disk.files import FileFound, FilesUnavailableError
from mending.disk.volume import Volume
from mending.formats.container import initramfs
from mending.formats.executable import bzimage
from mending.model import Window
from mending.model.limits import LOADED_BYTES

_DEPTH, _FOLDERS, _LEAST = 3, 48, 16_384
_SKIPPED = {"efi", "loader", "grub", "grub2", "lost+found"}
_ON_ROOT = ("boot", "usr/lib/modules", "lib/modules")
_NAMES = ("vmlinuz", "linux", "kernel", "bzimage")


class KernelWithInitramfs(msgspec.Struct, frozen=True):
    """A kernel on a volume. `initrd` is empty where none belongs to it."""

    volume: Volume
    path: str
    version: str
    initrd: str


def find_sound_kernels(environment: BootEnvironment, volume: Volume) -> list[KernelWithInitramfs]:
    """All of a volume, the newest version first; none where its files cannot be read."""
    found: dict[str, KernelWithInitramfs] = {}
    try:
        for inside in _folders(environment, volume):
            for file in inside:
                version = _version(environment, volume, file)
                if version and version not in found:
                    found[version] = KernelWithInitramfs(
                        volume, file.path, version, _initrd(environment, volume, inside, version)
                    )
    except (OutOfReachError, FilesUnavailableError):
        return []
    return sorted(found.values(), key=lambda kernel: falling(kernel.version))


def _folders(environment: BootEnvironment, volume: Volume) -> Iterator[list[FileFound]]:
    """Files of each folder in which kernels are kept."""
    system = environment.contents(volume).role == "system"
    tops = [
        file
        for place in (_ON_ROOT if system else ("",))
        if (file := environment.find(volume, place)) is not None
    ]
    waiting = [(top.path, 0) for top in tops]
    looked = 0
    while waiting and looked < _FOLDERS:
        folder, depth = waiting.pop(0)
        looked += 1
        inside = environment.files(volume).listing(folder)
        yield [file for file in inside if not file.is_folder and not file.is_link]
        below = [
            file.path
            for file in inside
            if file.is_folder and file.path.rpartition("/")[2].lower() not in _SKIPPED
        ]
        waiting += [(text, depth + 1) for text in below if depth < (1 if system else _DEPTH)]


def _version(environment: BootEnvironment, volume: Volume, file: FileFound) -> str:
    """The version of a file that is a whole kernel; empty for others."""
    name = file.path.rpartition("/")[2].lower()
    if not _LEAST <= file.bytes <= LOADED_BYTES or not name.startswith(_NAMES):
        return ""
    try:
        data = environment.files(volume).read(file, LOADED_BYTES)
    except FilesUnavailableError:
        return ""
    reading = bzimage.read(Window(data[: bzimage.HEAD_BYTES]), file.bytes)
    return reading.record.version if not reading.problems else ""


def _initrd(
    environment: BootEnvironment, volume: Volume, inside: list[FileFound], version: str
) -> str:
    """The whole initramfs of a version, by what is in it, or by its name where nothing tells."""
    named = [
        file
        for file in inside
        if "init" in file.path.rpartition("/")[2].lower() and file.bytes <= LOADED_BYTES
    ]
    for file in sorted(named, key=lambda each: version not in each.path):
        try:
            record, problems = initramfs.read(environment.files(volume).read(file, LOADED_BYTES))
        except FilesUnavailableError:
            continue
        versions = record.module_versions
        if (
            not problems
            and not record.unchecked
            and (version in versions or (not versions and version in file.path))
        ):
            return file.path
    return ""
