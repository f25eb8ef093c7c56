"""The checks from a boot sector of the SYSLINUX family to the kernel of its menu.

The boot sector knows one place, the first sector of `ldlinux.sys`, and that sector the others. So
the file has to lie where both say, whole. It loads the module `ldlinux.c32` from the folder of the
installation, and that reads the menu. Source: as `formats.boot_menus`.
"""

from collections.abc import Iterable

import msgspec

from mending.boot.chain import (
    BootEnvironment,
    CheckResult,
    OutOfReachError,
    failed,
    finding,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.linux import LinuxChecks, LinuxStart, Part
from mending.disk.files import FileFound, FilesUnavailableError
from mending.disk.volume import Volume
from mending.formats import boot_menus, elf
from mending.formats.boot_menus import Label, Menu, SecondFile
from mending.model import Finding, FindingId, Phase, Severity, Where

_FOLDERS = ("", "boot/extlinux", "extlinux", "boot/syslinux", "syslinux", "boot")
_MENUS = ("extlinux.conf", "syslinux.cfg")
_SECOND, _MODULE = "ldlinux.sys", "ldlinux.c32"
_BESIDE = {"menu.c32": "libutil.c32", "vesamenu.c32": "libcom32.c32"}
"""Modules and what they need besides."""
_MOST_MENUS = 16
_UNREAD = FindingId.BOOT_MANAGER_NOT_CHECKED


def starts_here(volume: Volume) -> bool:
    """Whether the boot sector of a volume is one of this family."""
    return boot_menus.is_syslinux_sector(volume.boot.data)


class SyslinuxChecks:
    """The checks of one volume. `second_file` is the first."""

    def __init__(self, environment: BootEnvironment, volume: Volume) -> None:
        self._environment, self._volume = environment, volume
        self._folder = ""

    @not_followed(_UNREAD, "The second file of the boot manager")
    def second_file(self) -> CheckResult:
        """Does `ldlinux.sys` lie whole where boot sector and file say?"""
        found = self._first(f"{folder}/{_SECOND}" for folder in _FOLDERS)
        if found is None:
            says = f"The boot sector loads {_SECOND}, which is not on volume {self._volume.number}."
            where = Where(offset=self._volume.offset, length=boot_menus.SYSLINUX_SECTOR)
            return failed(finding(FindingId.SECOND_FILE_UNFIT, Severity.FATAL, says, where))
        second = boot_menus.read_syslinux_file(self._environment.read(self._volume, found.path))
        why = self._why_unfit(found, second)
        if why or second is None:
            says = f"{found.path} {why}."
            where = Where(path=found.path, length=found.bytes)
            return failed(finding(FindingId.SECOND_FILE_UNFIT, Severity.FATAL, says, where))
        self._folder = second.folder or found.path.rpartition("/")[0]
        says = f"{found.path} is whole and lies where the boot sector says."
        return passed(Phase.BOOT_RECORD, says, Where(path=found.path), self.module)

    def _why_unfit(self, found: FileFound, second: SecondFile | None) -> str:
        if second is None:
            return "does not hold what its installer writes into it"
        if not second.sum_fits:
            return "is damaged: its checksum does not fit"
        first = second.first_sector(self._volume.boot.data)
        try:
            pieces = self._environment.files(self._volume).extents(found)
        except FilesUnavailableError as error:
            raise OutOfReachError(error.says) from error
        if first is None or pieces is None:
            raise OutOfReachError(f"where {found.path} lies cannot be told")
        size = boot_menus.SYSLINUX_SECTOR
        lies = [
            place // size + number
            for place, length in pieces
            for number in range(-(-length // size))
        ]
        wanted = list(second.sectors(first))
        if wanted[:1] != lies[:1]:
            return (
                f"begins at sector {lies[0] if lies else 0} of its volume, and the boot sector"
                f" looks for it at {first}; it was moved without being installed anew"
            )
        if wanted != lies[: len(wanted)]:
            return "does not lie where it says of itself; it was moved without being installed anew"
        return ""

    @not_followed(_UNREAD, "The module of the boot manager")
    def module(self) -> CheckResult:
        """Is the module there that reads the menu?"""
        fault = self._unfit_module(_MODULE)
        if fault is not None:
            return failed(fault, self.menu)
        says = f"{self._folder}/{_MODULE} is there."
        return passed(Phase.BOOT_MANAGER, says, Where(path=f"{self._folder}/{_MODULE}"), self.menu)

    def _unfit_module(self, name: str) -> Finding | None:
        path = f"{self._folder}/{name}"
        found = self._environment.find(self._volume, path)
        what = ""
        if found is None:
            what = f"which is not on volume {self._volume.number}"
        elif not self._environment.read_head(self._volume, path, 4).startswith(elf.MAGIC):
            what = "which is damaged"
        else:
            data = self._environment.read(self._volume, path)
            linking = elf.read_linking(data)
            if linking is None or linking.loaded > found.bytes:
                what = "which is cut short"
        if not what:
            return None
        says = f"The boot manager loads {path}, {what}."
        return finding(FindingId.MANAGER_MODULE_UNFIT, Severity.FATAL, says, Where(path=path))

    @not_followed(_UNREAD, "The menu of the boot manager")
    def menu(self) -> CheckResult:
        """Is there a menu, and what does it start by itself?"""
        folders = dict.fromkeys((self._folder.strip("/"), *_FOLDERS))
        found = self._first(f"{folder}/{name}" for folder in folders for name in _MENUS)
        if found is None:
            says = f"The boot manager finds no menu: none of its folders has {' or '.join(_MENUS)}."
            if self._is_alone():
                alone = f"{says} It is alone on its volume, and waits for a word to be typed."
                return not_checked(finding(_UNREAD, Severity.NOTE, alone))
            return failed(self._no_menu(says, Where(path=f"{self._folder}/{_MENUS[0]}")))
        menu = self._read(found.path)
        where = Where(path=found.path)
        if not menu.labels:
            return failed(self._no_menu(f"The menu {found.path} has no entry.", where))
        lost = self._interface_fault(menu)
        if lost is not None:
            return failed(lost)
        label = menu.chosen
        if label is None:
            says = f"The menu {found.path} starts {menu.default!r}, and has no such entry."
            return failed(self._no_menu(says, where))
        where = msgspec.structs.replace(where, line=label.line)
        count = len(menu.labels)
        waits = "; it waits for a key first" if menu.waits_for_ever else " by itself"
        says = f"The menu {found.path} has {count} entries; {label.name!r} starts{waits}."
        if label.kind != "linux":
            note = finding(_UNREAD, Severity.NOTE, f"{says} It is no kernel, and not followed.")
            return not_checked(note)
        return passed(Phase.BOOT_MANAGER, says, where, self._start(label, where).kernel)

    def _is_alone(self) -> bool:
        """Whether the volume holds nothing that a menu could have started."""
        top = self._environment.listing(self._volume, "/")
        names = {each.path.rpartition("/")[2] for each in top}
        return names <= {_SECOND, _MODULE}

    @staticmethod
    def _no_menu(says: str, where: Where) -> Finding:
        return finding(FindingId.MANAGER_MENU_UNFIT, Severity.FATAL, says, where)

    def _interface_fault(self, menu: Menu) -> Finding | None:
        for name in (menu.interface, _BESIDE.get(menu.interface, "")):
            fault = self._unfit_module(name) if name else None
            if fault is not None:
                return fault
        return None

    def _read(self, path: str) -> Menu:
        """A menu with the files that it includes, each once."""
        menu = boot_menus.read_syslinux_menu(self._environment.read_text(self._volume, path))
        waiting, seen = list(menu.included), {path}
        while waiting and len(seen) < _MOST_MENUS:
            name = self._whole(waiting.pop(0))
            if name in seen:
                continue
            seen.add(name)
            more = boot_menus.read_syslinux_menu(self._environment.read_text(self._volume, name))
            waiting += more.included
            menu = msgspec.structs.replace(
                menu,
                labels=menu.labels + more.labels,
                default=more.default or menu.default,
                interface=more.interface or menu.interface,
            )
        return menu

    def _start(self, label: Label, where: Where) -> LinuxChecks:
        kernel = Part(self._volume, self._whole(label.kernel.split()[0] if label.kernel else ""))
        initrds = tuple(Part(self._volume, self._whole(name)) for name in label.initrds)
        manager = f"The entry {label.name!r}"
        start = LinuxStart(kernel, initrds, label.command_line, where, manager)
        return LinuxChecks(self._environment, start)

    def _whole(self, name: str) -> str:
        """A path from the top; names without one are looked for beside the menu."""
        return name if name.startswith("/") else f"{self._folder}/{name}"

    def _first(self, paths: Iterable[str]) -> FileFound | None:
        for path in paths:
            found = self._environment.find(self._volume, path)
            if found is not None and not found.is_folder:
                return found
        return None
