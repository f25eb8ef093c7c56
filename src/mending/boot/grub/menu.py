"""The checks of GRUB: where it looks for its files, its modules, its menu, and the entry that
starts by itself.

An image carries a *prefix*, the folder of its modules and its menu; it may carry commands that it
runs first, and a memory disk, a small file system inside the image with a menu file of its own.
Images that are signed for general use carry all three: their commands open the menu file of the
memory disk, which looks for the system's own menu file and opens that.
"""

from mending.boot.chain import (
    BootEnvironment,
    CheckResult,
    failed,
    finding,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.grub.entries import Chained, FileReference, Loaded, SelectedEntry
from mending.boot.grub.script import Modules, Script
from mending.boot.volumes import entry_is_beside
from mending.disk.layout import find_unlisted_volumes
from mending.disk.volume import Volume
from mending.formats.grub import GrubImage
from mending.model import FilesystemKind, Finding, FindingId, Phase, RepairId, Severity, Where

_NORMAL = "normal"
"""The module that reads menus; without it GRUB has a rescue prompt and nothing else."""
_UNREAD = FindingId.BOOT_MANAGER_NOT_CHECKED
_BUILT_IN = "built-in configuration"


class GrubChecks:
    """The checks behind a sound image. `files` is the first.

    Args:
        image: what the image carries.
        platform: folder of its modules, `i386-pc` or `x86_64-efi`.
        home: the volume that the image was loaded from; None for a core in the gap.
        behind: the check behind a boot sector or loader file that an entry hands over to.
        path: of the image on that volume; empty for a core in the gap.
    """

    def __init__(
        self,
        environment: BootEnvironment,
        image: GrubImage,
        platform: str,
        home: Volume | None,
        behind: Chained,
        path: str = "",
    ) -> None:
        self._environment, self._image, self._platform = environment, image, platform
        self._home, self._behind, self._path = home, behind, path
        self._home_name = environment.device_of(home) if home is not None else ""

    @not_followed(_UNREAD, "Where GRUB looks for its files")
    def files(self) -> CheckResult:
        """What do the image's own commands do, and is the folder there in which it looks for its
        modules and its menu?
        """
        if self._image.memory_disk:
            self._environment.attach_memory_disk(self._image.memory_disk)
        modules = Modules(frozenset(self._image.modules), self._platform)
        script = Script(self._environment, self._first_variables(), modules)
        script.run_text(self._image.config, _BUILT_IN)
        if script.opened or script.state.entries or script.state.loaded.starts_something:
            return self._chosen(script, f"its {_BUILT_IN}")
        prefix = script.state.value("prefix")
        device, folder = self._home_name, prefix
        if prefix.startswith("("):
            device, _, folder = prefix[1:].partition(")")
        volume = self._environment.device(device)
        fault = self._unfit(volume, device)
        if fault is not None or volume is None:
            return failed(fault or self._no_device(device))
        return self._menu_in(volume, device, folder, script)

    def _first_variables(self) -> dict[str, str]:
        prefix, home = self._image.prefix, self._home_name
        root = prefix[1:].partition(")")[0] if prefix.startswith("(") else home
        if not prefix.startswith("(") and home:
            prefix = f"({home}){prefix}"
        return {
            "prefix": prefix,
            "root": root,
            "cmdpath": f"({home}){self._path.rpartition('/')[0]}",
            "grub_platform": "efi" if "efi" in self._platform else "pc",
            "grub_cpu": self._platform.partition("-")[0],
        }

    def _no_device(self, device: str) -> Finding:
        says = f"GRUB looks for its files on {device}, and this disk has no such volume."
        repairs = (RepairId.PARTITION_TABLE,) if self._finds_unlisted() else ()
        return finding(FindingId.GRUB_PREFIX_MISSING, Severity.FATAL, says, repairs=repairs)

    def _unfit(self, volume: Volume | None, device: str) -> Finding | None:
        """Why nothing can be loaded from the volume that the prefix names; None where it can."""
        if volume is None:
            return self._no_device(device)
        disk, kind = self._environment.disk, FindingId.GRUB_PREFIX_UNREADABLE
        where = Where(offset=volume.offset, length=512)
        if volume.boot.unread:
            says = f"GRUB looks for its files on volume {volume.number}. {volume.boot.unread}"
            where = Where(offset=volume.offset + volume.kind.first_structure, length=512)
            return finding(kind, Severity.FATAL, says, where, (RepairId.SUPERBLOCK,))
        if disk is not None and entry_is_beside(disk, volume):
            says = (
                f"GRUB looks for its files on volume {volume.number}, and nothing that it can read"
                " begins where the entry of that volume says."
            )
            return finding(kind, Severity.FATAL, says, where, (RepairId.PARTITION_TABLE,))
        if volume.filesystem is FilesystemKind.BLANK:
            says = f"GRUB looks for its files on volume {volume.number}, and that is blank."
            return finding(kind, Severity.FATAL, says, where)
        return None

    def _finds_unlisted(self) -> bool:
        disk = self._environment.disk
        return disk is not None and bool(find_unlisted_volumes(disk))

    def _menu_in(self, volume: Volume, device: str, folder: str, script: Script) -> CheckResult:
        modules = f"{folder}/{self._platform}"
        module = f"{modules}/{_NORMAL}.mod"
        built_in = _NORMAL in self._image.modules
        if not built_in and self._environment.find(volume, module) is None:
            says = (
                f"GRUB's module {_NORMAL} is not in {modules} on volume {volume.number}; it stops"
                " at its rescue prompt."
            )
            where = Where(offset=volume.offset, path=module)
            return failed(finding(FindingId.GRUB_MODULES_MISSING, Severity.FATAL, says, where))
        path = f"{folder}/grub.cfg"
        found = self._environment.find(volume, path)
        if found is None or not found.bytes:
            what = "is empty" if found is not None else "is missing"
            says = f"GRUB's menu {path} on volume {volume.number} {what}; it stops at its prompt."
            return failed(_menu_missing(says, path))
        script.state.variables["prefix"] = f"({device}){folder}"
        script.state.loaded = Loaded()  # what the image's own commands searched for is done
        script.run_file(volume, device, found.path)
        return self._chosen(script, found.path)

    def _chosen(self, script: Script, menu: str) -> CheckResult:
        """The entry that starts by itself, or what the menu file loads without one."""
        notes = _menu_notes(script.damaged)
        entry = script.default()
        loaded = script.open(entry) if entry is not None else script.state.loaded
        if loaded.lacking and not loaded.starts_something:
            shown = _path_of(entry.menu) if entry is not None else menu
            return failed(_no_module(loaded.lacking, shown)).with_findings(*notes)
        if entry is None and not loaded.starts_something:
            return self._nothing(loaded, menu).with_findings(*notes)
        shown = _path_of(entry.menu) if entry is not None else menu
        title = f"entry {entry.title!r}" if entry is not None else "its menu file"
        number = len(script.state.entries)
        count = f"{number} {'entry' if number == 1 else 'entries'}"
        says = f"GRUB's menu {shown} has {count}; {title} starts by itself."
        where = Where(path=shown, line=entry.line if entry is not None else None)
        selected = SelectedEntry(self._environment, loaded, entry, shown, self._behind)
        return passed(Phase.BOOT_MANAGER, says, where, selected.start, notes)

    def _nothing(self, loaded: Loaded, menu: str) -> CheckResult:
        if loaded.unknown:
            says = f"GRUB's menu {menu} calls for something that cannot be read: {loaded.unknown}."
            return not_checked(finding(_UNREAD, Severity.NOTE, says))
        if loaded.missing:
            return failed(self._missing_menu(loaded.missing[-1], menu))
        says = f"GRUB's menu {menu} has no entry and loads nothing; it stops at its prompt."
        kind, repairs = FindingId.GRUB_MENU_EMPTY, (RepairId.BOOT_ENTRIES,)
        return failed(finding(kind, Severity.FATAL, says, Where(path=menu), repairs))

    def _missing_menu(self, asked: FileReference, menu: str) -> Finding:
        """The last file that was asked for; the folder of the prefix is where one belongs."""
        shown = _path_of(asked.menu) or menu
        says = (
            f"GRUB's menu {shown} asks for {asked.path}, which is not there; it stops at its"
            " prompt."
        )
        prefix = self._image.prefix
        folder = prefix.partition(")")[2] if prefix.startswith("(") else prefix
        return _menu_missing(says, f"{folder}/grub.cfg")


def _no_module(path: str, menu: str) -> Finding:
    says = (
        f"GRUB's menu {menu} needs a command whose module is neither in the image nor at {path}; it"
        " stops at its prompt."
    )
    return finding(FindingId.GRUB_MODULES_MISSING, Severity.FATAL, says, Where(path=menu))


def _menu_missing(says: str, path: str) -> Finding:
    kind, repairs = FindingId.GRUB_MENU_MISSING, (RepairId.BOOT_ENTRIES,)
    return finding(kind, Severity.FATAL, says, Where(path=path), repairs)


def _menu_notes(damaged: tuple[str, int] | None) -> tuple[Finding, ...]:
    if damaged is None:
        return ()
    path, line = damaged
    says = f"GRUB's menu {path} is damaged: what begins in line {line} does not end."
    where = Where(path=path, line=line)
    return (finding(FindingId.GRUB_MENU_DAMAGED, Severity.WARNING, says, where),)


def _path_of(menu: str) -> str:
    """A menu file without GRUB's name of the device; on a memory disk, with it."""
    device, _, path = menu.partition(")")
    return menu if not path or device == "(memdisk" else path
