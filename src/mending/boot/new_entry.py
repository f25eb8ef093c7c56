"""What a new boot entry has to say: which system it starts, its root, and the words that the system
itself keeps.
"""

import re
import shlex

import msgspec

from mending.boot.chain import BootEnvironment, OutOfReachError
from mending.boot.linux import mount_table
from mending.boot.systemd_boot import MARK
from mending.boot.uefi import efi_volumes
from mending.disk.system import Contents, InstalledSystem
from mending.disk.volume import Volume
from mending.model import RefusedError
from mending.model.limits import LOADED_BYTES

_WORDS_FILE, _SETTINGS_FILE = "etc/kernel/cmdline", "etc/default/grub"
_PLAIN = re.compile(r"[A-Za-z0-9._/+@:=,~-]*")
_SETTINGS = ("GRUB_CMDLINE_LINUX", "GRUB_CMDLINE_LINUX_DEFAULT")


def is_plain(name: str) -> bool:
    """Whether a name has only signs that mean nothing to any boot manager."""
    return _PLAIN.fullmatch(name) is not None


class WantedSystem(msgspec.Struct, frozen=True):
    """The one Linux system of a disk.

    Attributes:
        name: of its root, as a command line gives it.
        words: what else the command line says.
        key: short name of the system, for sorting and for names of files.
    """

    volume: Volume
    title: str
    key: str
    name: str
    words: str

    def line(self, initramfs: bool) -> str:
        """A command line. Without an initramfs only the identifier of the table entry is
        understood.
        """
        name = (
            self.name
            if initramfs or not self.volume.partuuid
            else f"PARTUUID={self.volume.partuuid}"
        )
        return f"root={name} {self.words}"


def wanted_system_of(environment: BootEnvironment) -> WantedSystem:
    """The system that entries should start.

    Raises:
        RefusedError: there is none or more than one, or its root has no name.
    """
    return _wanted(environment, *only_linux_system(environment))


def only_linux_system(environment: BootEnvironment) -> tuple[Contents, InstalledSystem]:
    """The one Linux system of a disk or tree; its volume is the subvolume that holds it.

    Raises:
        RefusedError: there is none or more than one.
    """
    inside = [environment.contents(volume) for volume in environment.volumes if not volume.extended]
    found = [
        (contents, system)
        for contents in inside
        for system in contents.systems
        if system.family == "linux"
    ]
    if len(found) != 1:
        count = "No Linux system" if not found else f"{len(found)} Linux systems"
        raise RefusedError(
            f"{count} can be read, so which one is meant cannot be told.", "Ask the user."
        )
    contents, system = found[0]
    volume = msgspec.structs.replace(contents.volume, top=contents.top)
    return msgspec.structs.replace(contents, volume=volume), system


def _wanted(
    environment: BootEnvironment, inside: Contents, system: InstalledSystem
) -> WantedSystem:
    volume = inside.volume
    try:
        kept = environment.read(volume, _WORDS_FILE).decode("utf-8", errors="replace").split()
        settings = _settings(
            environment.read(volume, _SETTINGS_FILE).decode("utf-8", errors="replace")
        )
        release = environment.read(volume, "etc/os-release").decode("utf-8", errors="replace")
        table = environment.read(volume, "etc/fstab").decode("utf-8", errors="replace")
    except OutOfReachError as error:
        raise RefusedError(
            f"The system on volume {volume.number} cannot be read: {error}"
        ) from error
    others = [
        word
        for word in kept or settings
        if not word.startswith(("root=", "BOOT_IMAGE=", "initrd="))
    ]
    if not {"ro", "rw"} & set(others):
        others.insert(0, "ro")
    name = f"UUID={inside.info.identifier}" if inside.info.identifier else _named_in(table)
    if not name:
        raise RefusedError(
            f"The root on volume {volume.number} has no name that an entry could give.",
            "Ask the user.",
        )
    key = next(
        (
            row.partition("=")[2].strip("\"' ")
            for row in release.splitlines()
            if row.startswith("ID=")
        ),
        "linux",
    )
    safe = "".join(text for text in key if text.isalnum() or text in "-_") or "linux"
    return WantedSystem(volume, system.title, safe, name, " ".join(others))


def entry_home(environment: BootEnvironment) -> Volume | None:
    """The volume of the boot manager that reads entry files; None where no such manager is
    there.
    """
    esps = efi_volumes(environment)
    for esp in esps:
        for loader in esp.loaders:
            if loader.sound and _is_entry_reader(environment, esp.volume, loader.path):
                return esp.volume
    # a tree shows no table, so the one system partition in it is the one that is meant
    return esps[0].volume if esps and environment.disk is None else None


def _is_entry_reader(environment: BootEnvironment, volume: Volume, path: str) -> bool:
    try:
        return MARK in environment.read(volume, path, LOADED_BYTES)
    except OutOfReachError:
        return False


def _settings(text: str) -> list[str]:
    """Words that a system's own settings want on every command line."""
    found: list[str] = []
    for row in text.splitlines():
        key, equals, value = row.strip().partition("=")
        if equals and key in _SETTINGS:
            try:
                found += " ".join(shlex.split(value)).split()
            except ValueError:
                continue  # a quote without an end: the system's own shell would not read it either
    return found


def _named_in(table: str) -> str:
    rows = [
        row
        for row in mount_table(table)
        if row.point == "/" and row.name.kind in {"uuid", "label", "partuuid"}
    ]
    return f"{rows[0].name.kind.upper()}={rows[0].name.value}" if rows else ""
