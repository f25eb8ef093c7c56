"""The checks behind rEFInd, a manager that looks for kernels and loaders by itself.

It reads FAT by its firmware, and other file systems by drivers that lie beside it. On each volume
that it can read it looks into a few folders; beside a kernel a file has its command line, else the
fstab on the same volume tells the root. Which entry starts by itself is the one that was started
last, unless its settings name one: of several, the newest kernel is followed.

Source: as `formats.boot_menus`; `refind/scan.c` (`ScanLoaderDir`, `AddLoaderEntry`),
`refind/driver_support.c`, `refind/linux.c` (`FindInitrd`, `AddKernelToSubmenu`).
"""

import re
from collections.abc import Callable, Iterator

import msgspec

from mending.boot.chain import (
    BootEnvironment,
    CheckResult,
    Link,
    failed,
    falling,
    finding,
    not_followed,
    passed,
)
from mending.boot.linux import LinuxChecks, LinuxStart, Part, mount_table
from mending.disk.files import FileFound
from mending.disk.volume import Volume
from mending.formats import boot_menus, pe
from mending.formats.boot_menus import Settings, Stanza
from mending.model import FilesystemKind, Finding, FindingId, Phase, Severity, Where, Window
from mending.model.limits import LOADED_BYTES

_SETTINGS, _OPTIONS = "refind.conf", ("refind_linux.conf", "refind-linux.conf")
_DRIVERS = ("drivers_x64", "drivers")
_READ_BY = {
    FilesystemKind.EXT: ("ext4", "ext2"),
    FilesystemKind.BTRFS: ("btrfs",),
    FilesystemKind.XFS: ("xfs",),
}
"""What is in the name of a driver for each kind."""
_ALSO = ("boot", "@/boot")
_KERNEL = re.compile(r"(?:vmlinuz|bzimage|kernel)(?!.*\.(?:sig|old|bak)$)", re.IGNORECASE)
_INITRD = re.compile(r"init(?:rd|ramfs)", re.IGNORECASE)
_VERSION = re.compile(r"\d+(?:\.\d+)+[^/]*")
_PASSED_OVER = {
    *("shim.efi", "shimx64.efi", "mokmanager.efi", "mmx64.efi", "fbx64.efi", "textmode.efi"),
    *("preloader.efi", "hashtool.efi", "ebounce.efi", "graphicsconsole.efi"),
}
_TOOLS = re.compile(r"tools|memtest\d*")
_MOST_INCLUDED = 16
_UNREAD = FindingId.BOOT_MANAGER_NOT_CHECKED


class _Entry(msgspec.Struct, frozen=True):
    """Something that can be started. `version` sorts kernels; empty for others."""

    volume: Volume
    path: str
    version: str
    then: Link


class RefindChecks:
    """The checks of one manager. `menu` is the first.

    Args:
        home: the volume that it was loaded from. path: its own file.
        behind: makes the checks of a loader file.
    """

    def __init__(
        self,
        environment: BootEnvironment,
        home: Volume,
        path: str,
        behind: Callable[[Volume, str], Link],
    ) -> None:
        self._environment, self._home, self._path = environment, home, path
        self._folder = path.rpartition("/")[0]
        self._behind = behind
        self._bad_drivers: list[Finding] = []

    @not_followed(_UNREAD, "What the boot manager finds")
    def menu(self) -> CheckResult:
        """Is there something that it would show?"""
        settings = self._settings()
        drivers = list(self._drivers(settings))
        wanted = settings.named("scanfor") or ("internal", "external", "optical", "manual")
        found = list(self._by_hand(settings)) if "manual" in wanted else []
        if "internal" in wanted:
            found += self._found(settings, drivers)
        where = Where(path=f"{self._folder}/{_SETTINGS}")
        if not found:
            return failed(self._nothing(drivers, where)).with_findings(*self._bad_drivers)
        entry = self._chosen(found, settings)
        says = (
            f"rEFInd finds {len(found)} entries; {entry.path} on volume {entry.volume.number} is"
            " followed."
        )
        notes = tuple(self._bad_drivers)
        return passed(Phase.BOOT_MANAGER, says, Where(path=entry.path), entry.then, notes)

    def _nothing(self, drivers: list[str], where: Where) -> Finding:
        hidden = [
            volume
            for volume in self._environment.volumes
            if not volume.extended
            and volume.filesystem in _READ_BY
            and not self._reads(volume, drivers)
        ]
        says = "rEFInd finds nothing that it could start"
        if hidden:
            first = hidden[0]
            says += f"; it has no sound driver for volume {first.number} ({first.filesystem})"
        return finding(FindingId.MANAGER_MENU_UNFIT, Severity.FATAL, f"{says}.", where)

    @staticmethod
    def _chosen(found: list[_Entry], settings: Settings) -> _Entry:
        for text in settings.default:
            for entry in found:
                if text.lower() in entry.path.lower():
                    return entry
        kernels = [entry for entry in found if entry.version]
        return min(kernels, key=lambda entry: falling(entry.version)) if kernels else found[0]

    def _settings(self) -> Settings:
        text = self._environment.read_text(self._home, f"{self._folder}/{_SETTINGS}")
        settings = boot_menus.read_refind_settings(text)
        for name in dict.fromkeys(settings.included[:_MOST_INCLUDED]):
            more = boot_menus.read_refind_settings(
                self._environment.read_text(self._home, f"{self._folder}/{name}")
            )
            settings = msgspec.structs.replace(
                settings,
                lists=settings.lists | more.lists,
                default=more.default or settings.default,
                stanzas=settings.stanzas + more.stanzas,
            )
        return settings

    def _drivers(self, settings: Settings) -> Iterator[str]:
        """Names of the drivers that are whole; of others that fact is kept."""
        folders = [f"{self._folder}/{name}" for name in _DRIVERS]
        folders += [f"/{name.strip('/')}" for name in settings.named("scan_driver_dirs")]
        for folder in folders:
            for file in self._environment.listing(self._home, folder):
                name = file.path.rpartition("/")[2].lower()
                if file.is_folder or not name.endswith(".efi"):
                    continue
                data = self._environment.read(self._home, file.path, LOADED_BYTES)
                problems = pe.read(Window(data), file.bytes).problems
                if not problems:
                    yield name
                    continue
                says = f"The driver {file.path} of rEFInd is damaged: {problems[0].found}."
                unfit, where = FindingId.MANAGER_DRIVER_UNFIT, Where(path=file.path)
                self._bad_drivers.append(finding(unfit, Severity.WARNING, says, where))

    def _reads(self, volume: Volume, drivers: list[str]) -> bool:
        if volume.kind.is_fat:
            return True
        names = _READ_BY.get(volume.filesystem, ())
        return any(name in driver for name in names for driver in drivers)

    def _found(self, settings: Settings, drivers: list[str]) -> Iterator[_Entry]:
        for volume in self._environment.volumes:
            if volume.extended or volume.passed_over or not self._reads(volume, drivers):
                continue
            whole = msgspec.structs.replace(volume, top="") if volume.top else volume
            for folder in self._folders(whole, settings):
                yield from self._in_folder(whole, folder, settings)

    def _folders(self, volume: Volume, settings: Settings) -> Iterator[str]:
        also = settings.named("also_scan_dirs") or _ALSO
        yield from ("", *(name.rpartition(":")[2].strip("/") for name in also))
        left_out = {
            name.rpartition(":")[2].strip("/").lower() for name in settings.named("dont_scan_dirs")
        }
        for file in self._environment.listing(volume, "EFI"):
            name = file.path.rpartition("/")[2].lower()
            own = volume.number == self._home.number and file.path == self._folder
            if (
                file.is_folder
                and not own
                and not _TOOLS.fullmatch(name)
                and f"efi/{name}" not in left_out
            ):
                yield file.path

    def _in_folder(self, volume: Volume, folder: str, settings: Settings) -> Iterator[_Entry]:
        left_out = _PASSED_OVER | {name.lower() for name in settings.named("dont_scan_files")}
        inside = self._environment.listing(volume, folder)
        for file in inside:
            name = file.path.rpartition("/")[2]
            if file.is_folder or name.lower() in left_out:
                continue
            if settings.kernels and _KERNEL.match(name):
                yield self._kernel(volume, file, inside)
            elif name.lower().endswith(".efi") and file.path != self._path:
                yield _Entry(volume, file.path, "", self._behind(volume, file.path))

    def _kernel(self, volume: Volume, file: FileFound, inside: list[FileFound]) -> _Entry:
        name = file.path.rpartition("/")[2]
        match = _VERSION.search(name)
        version = match.group() if match else "0"
        images = [each.path for each in inside if _INITRD.match(each.path.rpartition("/")[2])]
        fitting = [path for path in images if match and version in path] or (
            images if not match and len(images) == 1 else []
        )
        line, where = self._command_line(volume, file.path.rpartition("/")[0])
        line = line.replace("%v", version)
        initrds = () if "initrd=" in line else tuple(Part(volume, path) for path in fitting[:1])
        start = LinuxStart(Part(volume, file.path), initrds, line, where, "rEFInd", as_program=True)
        return _Entry(volume, file.path, version, LinuxChecks(self._environment, start).kernel)

    def _command_line(self, volume: Volume, folder: str) -> tuple[str, Where]:
        for name in _OPTIONS:
            found = boot_menus.read_refind_options(
                self._environment.read_text(volume, f"{folder}/{name}")
            )
            if found is not None:
                return found[0], Where(path=f"{folder}/{name}", line=found[1])
        table = self._environment.read_text(volume, "etc/fstab")
        root = next((row for row in mount_table(table) if row.point == "/"), None)
        if root is None:
            return "", Where(path=folder)
        row = table.splitlines()[root.line - 1]
        return f"ro root={row.split()[0]}", Where(path="/etc/fstab", line=root.line)

    def _by_hand(self, settings: Settings) -> Iterator[_Entry]:
        for stanza in settings.stanzas:
            volume = self._named(stanza) if stanza.volume else self._home
            if volume is None or not stanza.loader:
                continue
            where = Where(path=f"{self._folder}/{_SETTINGS}", line=stanza.line)
            if not stanza.initrds and not stanza.options:
                yield _Entry(volume, stanza.loader, "", self._behind(volume, stanza.loader))
                continue
            start = LinuxStart(
                Part(volume, stanza.loader),
                tuple(Part(volume, name) for name in stanza.initrds),
                stanza.options,
                where,
                f"The entry {stanza.title!r}",
                as_program=True,
            )
            version = _VERSION.search(stanza.loader)
            named = version.group() if version else "0"
            then = LinuxChecks(self._environment, start).kernel
            yield _Entry(volume, stanza.loader, named, then)

    def _named(self, stanza: Stanza) -> Volume | None:
        name = stanza.volume.rstrip(":")
        kinds = (
            ("label", name),
            ("partlabel", name),
            ("partuuid", name.lower()),
            ("uuid", name.lower()),
        )
        for kind, value in kinds:
            found = self._environment.named(kind, value)
            if found:
                return found[0]
        return None
