"""Kernels that could be started: whole ones, each with the whole initramfs that belongs to it."""

import re
from collections.abc import Iterable, Iterator

import msgspec

from mending.boot.chain import BootEnvironment, OutOfReachError, falling
from mending.boot.linux.mounts import parse_name, unlock_table
from mending.disk.files import FileFound, FilesUnavailableError
from mending.disk.volume import Volume
from mending.formats import bzimage, initramfs
from mending.formats.initramfs import Initramfs
from mending.model import FilesystemKind, Window
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


# What the images for the first root must hold so that the real root can be mounted.
#
# Between the kernel and the root lie a driver for the drive, one for the file system, and, where
# the root is inside something, what opens that: a volume group, an encrypted volume. Each is built
# into the kernel (`modules.builtin` says so), or is a module that the images must bring, with all
# modules that it builds on (`modules.dep`); what opens containers is a program besides. Makers of
# images (initramfs-tools, dracut, mkinitcpio) put modules in the same places, and their programs go
# by the same names, so one look serves for all of them.
#
# What a PC's drive hangs on, its disk does not tell: only that no drive can be seen at all is sure.
# Where nothing says what is built in, nothing is judged.
#
# Sources: the manual pages modules.dep(5), initramfs-tools(7), dracut.modules(7), mkinitcpio(8),
# crypttab(5); `Documentation/kbuild/kbuild.rst` (modules.builtin).


_MODULE = re.compile(r"(?:usr/)?lib/modules/([^/]+)/(.+/([^/]+)\.ko)(?:\.(?:gz|xz|zst))?")
_LISTED = re.compile(r"\.ko(?:\.(?:gz|xz|zst))?(?=:|\s|$)")
_MODULES = ("usr/lib/modules", "lib/modules")
_OF_FILESYSTEM = {
    FilesystemKind.EXT: "ext4",
    FilesystemKind.XFS: "xfs",
    FilesystemKind.BTRFS: "btrfs",
}
_ALONE = {"nvme", "virtio_blk", "mmc_block", "xen_blkfront"}
"""Drivers of drives that need no general driver of disks besides."""
_OF_NAME = (
    (re.compile(r"/dev/nvme"), "nvme"),
    (re.compile(r"/dev/vd"), "virtio_blk"),
    (re.compile(r"/dev/mmcblk"), "mmc_block"),
    (re.compile(r"/dev/sd"), "sd_mod"),
    (re.compile(r"/dev/xvd"), "xen_blkfront"),
)
_DISKS = "sd_mod"
_ADAPTERS = re.compile(r"kernel/drivers/(?:ata|scsi|usb/storage|message|ufs|firewire)/")
_NO_ADAPTERS = {"sd_mod", "sr_mod", "sg", "st", "scsi_mod", "scsi_common", "libata", "ses"}
_OF_LEVEL = {
    -1: "linear",
    0: "raid0",
    1: "raid1",
    4: "raid456",
    5: "raid456",
    6: "raid456",
    10: "raid10",
}
_ASSEMBLERS = ("mdadm",)
_OF_PROGRAMS = re.compile(r"(?:^|/)(?:s?bin|systemd)$")
_LVM = ("lvm", "lvm.static")
_UNLOCKERS = ("cryptsetup", "systemd-cryptsetup")


class FirstRoot(msgspec.Struct, frozen=True):
    """All images that are loaded for one start, together.

    Attributes:
        names: of their files.
        kept: contents that they keep of what says what the others are for, by name.
    """

    names: frozenset[str]
    kept: dict[str, bytes]

    @classmethod
    def of(cls, images: Iterable[Initramfs]) -> "FirstRoot":
        """The files of several images; of equal names the last counts."""
        listed = list(images)
        kept = {name: data for image in listed for name, data in image.kept.items()}
        return cls(frozenset().union(*(image.names for image in listed)), kept)

    def text(self, ending: str) -> str:
        """The kept content of the file whose name ends so; empty where there is none."""
        found = (data for name, data in self.kept.items() if name.endswith(ending))
        return next(found, b"").decode("utf-8", errors="replace")

    def has_program(self, names: Iterable[str]) -> bool:
        """Whether one of these programs is inside, in a folder of programs."""
        wanted = set(names)
        parts = (name.rpartition("/") for name in self.names)
        return any(last in wanted and _OF_PROGRAMS.search(folder) for folder, _, last in parts)


class InitramfsNeeds:
    """What one root asks of the images.

    Args:
        inside: the images.
        root: the volume that the kernel is to mount.
        version: of the kernel.
        given: what the command line calls the root.
    """

    def __init__(
        self,
        environment: BootEnvironment,
        inside: FirstRoot,
        root: Volume,
        version: str,
        given: str,
    ) -> None:
        self._environment, self._inside, self._root = environment, inside, root
        self._version, self._given = version, given
        self._built_in = self._read_built_in()
        self._paths = {
            _plain(match[3]): match[2]
            for name in inside.names
            if (match := _MODULE.fullmatch(name)) and match[1] == version
        }

    def missing(self) -> list[str]:
        """Sentences on what is not there and on which the root hangs; none where all is there, or
        where nothing tells what is built in.
        """
        if self._root.filesystem is FilesystemKind.LUKS:
            found = [] if self._built_in is None else [*self._drive(), *self._unlocking()]
            return list(dict.fromkeys([*found, *self._other_lock()]))
        if self._built_in is None:
            return []
        found = [*self._filesystem(), *self._drive(), *self._array()]
        found += [*self._group(), *self._locked()]
        return list(dict.fromkeys(found))

    def _read_built_in(self) -> dict[str, str] | None:
        """Modules that are part of the kernel, each with its path; None where nothing tells."""
        text = self._inside.text(f"{self._version}/modules.builtin")
        for folder in _MODULES if self._version and not text else ():
            path = f"{folder}/{self._version}/modules.builtin"
            try:
                text = text or self._environment.read_text(self._root, path)
            except OutOfReachError:
                continue
        rows = [row.strip() for row in text.splitlines() if row.strip().endswith(".ko")]
        return {_plain(row.rpartition("/")[2][:-3]): row for row in rows} if rows else None

    def _has(self, name: str) -> bool:
        return name in self._paths or name in (self._built_in or {})

    def _lacks(self, name: str, what: str) -> list[str]:
        """Sentences on one module and what it builds on."""
        if name in (self._built_in or {}):
            return []
        if name not in self._paths:
            return [f"holds no {what} ({name}), and the kernel has none built in"]
        lost = sorted(each for each in self._below(name) if not self._has(each))
        return [f"holds {name}, but not {lost[0]}, which it builds on"] if lost else []

    def _below(self, name: str) -> set[str]:
        """All modules that one builds on, by the list of the images."""
        for row in self._inside.text(f"{self._version}/modules.dep").splitlines():
            module, _, rest = row.partition(":")
            if _name(module) == name:
                return {_name(path) for path in rest.split()}
        return set()

    def _filesystem(self) -> list[str]:
        name = _OF_FILESYSTEM.get(self._root.filesystem)
        what = f"driver for the file system {self._root.filesystem}"
        return self._lacks(name, what) if name is not None else []

    def _drive(self) -> list[str]:
        for pattern, name in _OF_NAME:
            if pattern.match(self._given):
                return self._lacks(name, f"driver for {self._given}")
        alone = any(self._has(name) for name in _ALONE)
        known = {**(self._built_in or {}), **self._paths}
        adapters = any(
            _ADAPTERS.match(path) and name not in _NO_ADAPTERS for name, path in known.items()
        )
        seen = self._has(_DISKS) and (adapters or self._has("virtio_scsi"))
        return [] if alone or seen else ["holds no driver for any kind of drive"]

    def _array(self) -> list[str]:
        arrays = self._environment.arrays
        level = next((each.level for each in arrays if each.id == self._root.array), None)
        if level is None or not self._root.array:
            return []
        lacking = self._lacks(_OF_LEVEL.get(level, "md_mod"), "driver for the array of the root")
        if not self._inside.has_program(_ASSEMBLERS):
            lacking.append("holds no program that starts arrays")
        return lacking

    def _group(self) -> list[str]:
        if not self._root.type.startswith("logical volume"):
            return []
        lacking = self._lacks("dm_mod", "driver for logical volumes")
        if not self._inside.has_program(_LVM):
            lacking.append("holds no program that opens volume groups")
        return lacking

    def _locked(self) -> list[str]:
        return self._unlocking() if self._root.type.startswith("inside volume") else []

    def _unlocking(self) -> list[str]:
        lacking = self._lacks("dm_crypt", "driver for encrypted volumes")
        if not self._inside.has_program(_UNLOCKERS):
            lacking.append("holds no program that unlocks the root's volume")
        return lacking

    def _other_lock(self) -> list[str]:
        """A table of what is unlocked in which the root's mapping names a volume that is not there,
        or nothing that is named is there.
        """
        rows = list(unlock_table(self._inside.text("crypttab")))
        mapping = parse_name(self._given).value
        own = [row for row in rows if row.point == mapping] or rows
        lost = [
            row.name.value
            for row in own
            if row.name.kind in {"uuid", "label", "partuuid", "partlabel"}
            and not self._environment.named(row.name.kind, row.name.value)
        ]
        if not own or len(lost) < len(own):
            return []
        return [f"would unlock {lost[0]}, which is no volume of this disk"]


def _plain(name: str) -> str:
    """A module's name as the kernel knows it."""
    return name.replace("-", "_")


def _name(path: str) -> str:
    return _plain(_LISTED.sub("", path.strip()).rpartition("/")[2])
