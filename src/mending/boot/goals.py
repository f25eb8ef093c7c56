"""What a new boot entry has to say: which system it starts, its root, and the words that the system itself keeps."""

import shlex

import msgspec

from mending.boot.efi_files import efi_volumes
from mending.boot.entries_link import MARK
from mending.boot.folder_grounds import FolderGrounds
from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.linux.mounts import mount_table
from mending.disk import Contents, FilesUnavailableError, InstalledSystem, Volume
from mending.model import RefusedError

_WORDS_FILE, _SETTINGS_FILE = "etc/kernel/cmdline", "etc/default/grub"
_SETTINGS = ("GRUB_CMDLINE_LINUX", "GRUB_CMDLINE_LINUX_DEFAULT")


class Goal(msgspec.Struct, frozen=True):
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
        """A command line. Without an initial file system only the identifier of the table entry is understood."""
        name = self.name if initramfs or not self.volume.partition else f"PARTUUID={self.volume.partition}"
        return f"root={name} {self.words}"


def goal_of(grounds: Grounds) -> Goal:
    """The system that entries should start.

    Raises:
        RefusedError: there is none or more than one, or its root has no name.
    """
    return _goal(grounds, *the_linux_system(grounds))


def the_linux_system(grounds: Grounds) -> tuple[Contents, InstalledSystem]:
    """The one Linux system of a disk or tree. Raises RefusedError where there is none or more than one."""
    inside = [grounds.contents(volume) for volume in grounds.volumes if not volume.extended]
    found = [(one, system) for one in inside for system in one.systems if system.family == "linux"]
    if len(found) != 1:
        count = "No Linux system" if not found else f"{len(found)} Linux systems"
        raise RefusedError(f"{count} can be read, so which one is meant cannot be told.", "Ask the user.")
    return found[0]


def _goal(grounds: Grounds, inside: Contents, system: InstalledSystem) -> Goal:
    volume = inside.volume
    try:
        kept = grounds.read(volume, _WORDS_FILE).decode("utf-8", errors="replace").split()
        settings = _settings(grounds.read(volume, _SETTINGS_FILE).decode("utf-8", errors="replace"))
        release = grounds.read(volume, "etc/os-release").decode("utf-8", errors="replace")
        table = grounds.read(volume, "etc/fstab").decode("utf-8", errors="replace")
    except ElsewhereError as error:
        raise RefusedError(f"The system on volume {volume.number} cannot be read: {error}") from error
    others = [word for word in kept or settings if not word.startswith(("root=", "BOOT_IMAGE=", "initrd="))]
    if not {"ro", "rw"} & set(others):
        others.insert(0, "ro")
    name = f"UUID={inside.facts.identifier}" if inside.facts.identifier else _named_in(table)
    if not name:
        raise RefusedError(f"The root on volume {volume.number} has no name that an entry could give.", "Ask the user.")
    key = next((row.partition("=")[2].strip("\"' ") for row in release.splitlines() if row.startswith("ID=")), "linux")
    safe = "".join(one for one in key if one.isalnum() or one in "-_") or "linux"
    return Goal(volume, system.title, safe, name, " ".join(others))


def entry_home(grounds: Grounds) -> Volume | None:
    """The volume of the boot manager that reads entry files; None where no such manager is there."""
    if isinstance(grounds, FolderGrounds):
        return grounds.efi
    homes = [(one.volume, file.path) for one in efi_volumes(grounds.disk) for file in one.loaders if file.sound]
    for volume, path in homes:
        try:
            if MARK in grounds.read(volume, path):
                return volume
        except (ElsewhereError, FilesUnavailableError):
            continue
    return None


def _settings(text: str) -> list[str]:
    """Words that a system's own settings want on every command line."""
    found: list[str] = []
    for row in text.splitlines():
        key, equals, value = row.strip().partition("=")
        if equals and key in _SETTINGS:
            try:
                found += " ".join(shlex.split(value)).split()
            except ValueError:
                continue  # a quote that does not end; the system's own shell would not read it either
    return found


def _named_in(table: str) -> str:
    rows = [row for row in mount_table(table) if row.point == "/" and row.name.kind in {"uuid", "label", "partuuid"}]
    return f"{rows[0].name.kind.upper()}={rows[0].name.value}" if rows else ""
