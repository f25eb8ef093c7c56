"""What a loader file is, told by what it carries, and the chain behind it.

A loader may be a boot manager (GRUB, systemd-boot), a kernel that firmware starts by itself, a
unified kernel, or a first stage that only checks signatures and hands over (shim). Loaders that
hand over to each other are followed up to a limit.
"""

from collections.abc import Callable, Iterator

import msgspec

from mending.boot.chain import (
    BootEnvironment,
    CheckResult,
    Link,
    OutOfReachError,
    failed,
    finding,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.grub import GrubChecks
from mending.boot.linux import LinuxChecks, LinuxStart, Part, options, read_unified, start_of
from mending.boot.nt import behind_loader as behind_nt_manager
from mending.boot.nt import carried_store
from mending.boot.refind import RefindChecks
from mending.boot.systemd_boot import MARK, EntryChecks
from mending.disk.files import FileDamagedError, FileFound, Files, FilesUnavailableError
from mending.disk.volume import Volume
from mending.formats import boot_menus, bzimage, grub, pe, signatures
from mending.knowledge.families import nt_names
from mending.model import (
    FilesystemKind,
    Finding,
    FindingId,
    Phase,
    PhaseState,
    Problem,
    RepairId,
    Severity,
    Where,
    Window,
)
from mending.model.limits import FOLDER_DEPTH, LOADED_BYTES, LOADER_FILES

# What UEFI firmware could load from a disk: volumes that it can read, and the loader files on
# them.


FALLBACK_FOLDER = "/EFI/BOOT"


class Loader(msgspec.Struct, frozen=True):
    """One loader file.

    Attributes:
        fallback: whether firmware finds it without a boot entry.
        problems: everything that keeps it from being loaded; offsets are in the file.
        repairs: what would make it whole.
    """

    path: str
    bytes: int
    fallback: bool
    problems: tuple[Problem, ...]
    repairs: tuple[RepairId, ...] = ()

    @property
    def sound(self) -> bool:
        """Whether firmware would load it."""
        return not self.problems


class EfiVolume(msgspec.Struct, frozen=True):
    """A volume that firmware would look at. `unreadable` says why its files cannot be read; empty
    when they can.
    """

    volume: Volume
    loaders: tuple[Loader, ...]
    unreadable: str = ""

    @property
    def fallbacks(self) -> tuple[Loader, ...]:
        """Loaders that are found without a boot entry."""
        return tuple(loader for loader in self.loaders if loader.fallback)


def efi_volumes(environment: BootEnvironment) -> list[EfiVolume]:
    """Volumes marked as EFI system partitions, then FAT volumes that hold a fallback loader all the
    same.
    """
    seen = [volume for volume in environment.volumes if not volume.passed_over]
    marked = [_look(environment, volume) for volume in seen if volume.efi]
    others = [
        _look(environment, volume)
        for volume in seen
        if not volume.efi and volume.kind.is_fat and volume.boot.readable
    ]
    return [*marked, *(esp for esp in others if esp.fallbacks)]


def _look(environment: BootEnvironment, volume: Volume) -> EfiVolume:
    if not volume.kind.is_fat and volume.filesystem is not FilesystemKind.FOLDER:
        says = f"Volume {volume.number} holds no FAT file system that firmware could read."
        return EfiVolume(volume, (), says)
    try:
        files = environment.files(volume)
        loaders = loaders_on(files, lambda: environment.fats_can_be_mended(volume))
        return EfiVolume(volume, loaders)
    except FilesUnavailableError as error:
        return EfiVolume(volume, (), error.says)


def loaders_on(files: Files, mendable: Callable[[], bool] = lambda: False) -> tuple[Loader, ...]:
    """The loader files of a volume.

    Args:
        mendable: asked for a file whose chain is broken: would another FAT mend it?

    Raises:
        FilesUnavailableError: damage hides a folder.
    """
    return tuple(
        _loader(files, file, mendable)
        for file in _loader_files(files, files.find("EFI"), 0)[:LOADER_FILES]
    )


def _loader_files(files: Files, folder: FileFound | None, depth: int) -> list[FileFound]:
    if folder is None or not folder.is_folder or depth > FOLDER_DEPTH:
        return []
    inside = files.listing(folder.path)
    below = [
        file for sub in inside if sub.is_folder for file in _loader_files(files, sub, depth + 1)
    ]
    return [
        file for file in inside if not file.is_folder and file.path.lower().endswith(".efi")
    ] + below


def _loader(files: Files, found: FileFound, mendable: Callable[[], bool]) -> Loader:
    folder, _, name = found.path.rpartition("/")
    wanted = pe.FALLBACK_MACHINES.get(name.upper()) if folder.upper() == FALLBACK_FOLDER else None
    try:
        data = files.read(found, LOADED_BYTES)  # all of it, so that its whole chain is followed
    except FileDamagedError as error:
        broken = Problem("chain", 0, 0, error.says, "a chain as long as the file")
        repairs = (RepairId.FAT_MIRROR,) if mendable() else ()
        return Loader(found.path, found.bytes, wanted is not None, (broken,), repairs)
    reading = pe.read(Window(data), found.bytes)
    problems = reading.problems
    if not problems and wanted is not None and reading.record.machine != wanted:
        kind = f"machine type {reading.record.machine:04x}"
        problems = (Problem("machine", 0, 0, kind, f"{wanted:04x} for {name}"),)
    return Loader(found.path, found.bytes, wanted is not None, problems)


PLATFORM = "x86_64-efi"
_GENERATIONS, _SHIM = b".sbat", b"\nshim,"
"""The section in which signed loaders name themselves, and how shim and its helpers do."""
_KEPT_SECOND = {
    "grubx64.efi": (
        "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed",
        "usr/lib/grub/x86_64-efi/monolithic/grubx64.efi",
    ),
    "mmx64.efi": ("usr/lib/shim/mmx64.efi.signed", "usr/lib/shim/mmx64.efi"),
    "fbx64.efi": ("usr/lib/shim/fbx64.efi.signed", "usr/lib/shim/fbx64.efi"),
}
"""Where the packages of loaders put them, by the name that they have on the ESP."""
_SHORT = {0x8664: "x64", 0x014C: "ia32", 0xAA64: "aa64"}
_MOST_LOADERS = 8
_OF_GRUB = b"Welcome to GRUB!"
"""What the kernel of every such image says first."""
_UNREAD = FindingId.BOOT_MANAGER_NOT_CHECKED


class _LoaderChecks(msgspec.Struct, frozen=True):
    """The check of one loader file.

    Attributes:
        command_line: what a boot entry of the firmware hands to it.
        seen: how many loaders handed over already.
        who: who hands over to it, for sentences; empty where firmware starts it.
        machine: what the loader that hands over is made for; 0 where firmware starts it.
    """

    environment: BootEnvironment
    volume: Volume
    path: str
    command_line: str = ""
    seen: int = 0
    who: str = ""
    machine: int = 0

    @not_followed(_UNREAD, "The loader file")
    def behind(self) -> CheckResult:
        """The first check of what a sound loader file is; of an unknown one, that it is not
        read.
        """
        data = self.environment.read(self.volume, self.path, LOADED_BYTES)
        return self._behind(data).with_findings(*self._changed(data))

    def _changed(self, data: bytes) -> tuple[Finding, ...]:
        """Whether a signed file is what was signed: who signed it is not judged."""
        fits, _ = signatures.judged(data)
        if fits is not False:
            return ()
        says = (
            f"{self.path} is not what was signed: firmware that checks signatures refuses it, and"
            " other firmware may stop in it."
        )
        where = Where(path=self.path, length=len(data))
        return (finding(FindingId.LOADER_CHANGED, Severity.WARNING, says, where),)

    def _behind(self, data: bytes) -> CheckResult:
        environment, volume, path = self.environment, self.volume, self.path
        machine = pe.read(Window(data)).record.machine
        if _is_shim(data, machine):
            return self._behind_shim(machine)
        if MARK in data:
            return EntryChecks(environment, volume).menu()
        if boot_menus.REFIND_MARK in data:
            behind = chained(environment, self.seen, machine)
            return RefindChecks(environment, volume, path, behind).menu()
        unified = read_unified(environment, volume, path)
        if unified is not None:
            return self._kernel_itself(start_of(volume, unified))
        if bzimage.is_kernel(data[: bzimage.HEAD_BYTES]):
            return self._kernel_itself(self._own_start())
        image = grub.read_image(data)
        if image is not None:
            behind = chained(environment, self.seen, machine)
            return GrubChecks(environment, image, PLATFORM, volume, behind, path).files()
        if _OF_GRUB in data:
            says = f"{path} carries GRUB's words, but no list of its modules: it is damaged."
            where, damaged = Where(path=path, length=len(data)), FindingId.EFI_LOADER_DAMAGED
            return failed(finding(damaged, Severity.FATAL, says, where, phase=Phase.BOOT_MANAGER))
        return behind_nt_manager(environment, volume, path, data)()

    @not_followed(_UNREAD, "A second loader")
    def second(self) -> CheckResult:
        """Is a loader there that another one hands over to, and is it whole?"""
        where = Where(path=self.path)
        found = self.environment.find(self.volume, self.path)
        if found is None:
            says = (
                f"{self.who} hands over to {self.path}, which is not on volume"
                f" {self.volume.number}."
            )
            missing = FindingId.SECOND_LOADER_MISSING
            return failed(finding(missing, Severity.FATAL, says, where, self._copied()))
        data = self.environment.read(self.volume, self.path, LOADED_BYTES)
        reading = pe.read(Window(data), found.bytes)
        why = ""
        if reading.problems:
            first = reading.problems[0]
            why = f"damaged: {first.found} instead of {first.expected}"
        elif self.machine not in {0, reading.record.machine}:
            why = f"made for machine {reading.record.machine:x} and not for {self.machine:x}"
        if why:
            says = f"{self.who} hands over to {self.path}, which is {why}."
            damaged = FindingId.SECOND_LOADER_DAMAGED
            return failed(finding(damaged, Severity.FATAL, says, where, self._copied()))
        if self.seen > _MOST_LOADERS:
            return _unread(self.path, "The loaders hand over to each other in a circle.")
        says = f"{self.who} hands over to {self.path}, which is sound."
        behind = behind_loader(self.environment, self.volume, found.path, seen=self.seen)
        return passed(Phase.BOOT_MANAGER, says, where, behind)

    def _copied(self) -> tuple[RepairId, ...]:
        """Where a system keeps a sound file of that name."""
        found = spare_second_loader(self.environment, self.path, self.machine)
        return (RepairId.BOOT_FILES,) if found is not None else ()

    def _kernel_itself(self, start: LinuxStart) -> CheckResult:
        says = f"{self.path} is a kernel itself; no boot manager stands between."
        then = LinuxChecks(self.environment, start).kernel
        return passed(Phase.BOOT_MANAGER, says, Where(path=self.path), then)

    def _own_start(self) -> LinuxStart:
        """A kernel that firmware starts by itself, with the command line of its boot entry
        (`Documentation/admin-guide/efi-stub`). Its `initrd=` options are paths on the volume that
        it was loaded from, written with backslashes.
        """
        initrds = tuple(
            Part(self.volume, path.replace("\\", "/"))
            for path in options(self.command_line, "initrd")
        )
        return LinuxStart(
            Part(self.volume, self.path),
            initrds,
            self.command_line,
            Where(path=self.path),
            "The boot entry",
            as_program=True,
        )

    def _behind_shim(self, machine: int) -> CheckResult:
        """Shim hands over to the loader beside it; in the fallback place, to the one that a list of
        entries names. Source: shim 15, `README.fallback` and `DEFAULT_LOADER`.
        """
        environment, volume = self.environment, self.volume
        folder, short = self.path.rpartition("/")[0], _SHORT.get(machine, "x64")
        in_fallback_place = folder.upper() == FALLBACK_FOLDER
        if in_fallback_place and environment.find(volume, f"{folder}/fb{short}.efi") is not None:
            listed = _listed_loader(environment, volume, f"BOOT{short.upper()}.CSV")
            if listed:
                return self._hand_over(listed, "The list of entries beside shim", machine)
        return self._hand_over(f"{folder}/grub{short}.efi", f"Shim ({self.path})", machine)

    def _hand_over(self, path: str, who: str, machine: int) -> CheckResult:
        following = _LoaderChecks(
            self.environment, self.volume, path, seen=self.seen + 1, who=who, machine=machine
        )
        return following.second()


def spare_second_loader(
    environment: BootEnvironment, path: str, machine: int = 0
) -> tuple[Volume, str, bytes] | None:
    """A sound file that could stand where a second loader is looked for: what installed systems
    keep of their signed ones first; None where there is none.
    """
    name = path.rpartition("/")[2].lower()
    for place in _KEPT_SECOND.get(name, ()):
        for volume in environment.volumes:
            if volume.extended or volume.kind.is_fat or not volume.kind.is_readable:
                continue
            inside = environment.contents(volume)
            home = msgspec.structs.replace(volume, top=inside.top)
            try:
                found = environment.find(home, place)
                data = environment.read(home, place, LOADED_BYTES) if found is not None else b""
            except OutOfReachError:
                continue
            reading = pe.read(Window(data), len(data)) if data else None
            if reading is None or reading.problems:
                continue
            if machine in {0, reading.record.machine}:
                return home, place, data
    return None


def behind_loader(
    environment: BootEnvironment, volume: Volume, path: str, command_line: str = "", seen: int = 0
) -> Link:
    """The first check behind a sound loader file.

    Args:
        command_line: what a boot entry of the firmware hands to it.
        seen: how many loaders handed over already.
    """
    return _LoaderChecks(environment, volume, path, command_line, seen).behind


def chained(
    environment: BootEnvironment, seen: int = 0, machine: int = 0
) -> Callable[[Volume, str], Link]:
    """What lies behind a loader file that a menu hands over to.

    Args:
        machine: what the manager of the menu is made for, where that is known.
    """

    def link(volume: Volume, path: str) -> Link:
        return _LoaderChecks(
            environment, volume, path, seen=seen + 1, who="A menu", machine=machine
        ).second

    return link


def by_likelihood(
    environment: BootEnvironment, esps: list[EfiVolume]
) -> list[tuple[Volume, Loader]]:
    """The sound loaders that a boot entry may name, the likeliest first, each with its volume.

    A loader that shim stands beside is started by shim and not by an entry, and so are shim's own
    helpers; both are left out. Of the rest, boot managers that we know go first, unless the only
    system on the disk is one of another family.
    """
    rated: list[tuple[int, Volume, Loader]] = []
    for esp in esps:
        files = [file for file in esp.loaders if file.sound and not file.fallback]
        ranks = {file.path: _rank(environment, esp.volume, file) for file in files}
        shimmed = {path.rpartition("/")[0] for path, rank in ranks.items() if rank == _BY_SHIM}
        for file in files:
            rank, folder = ranks[file.path], file.path.rpartition("/")[0]
            helper = rank == _HELPER or (rank == _KNOWN and folder in shimmed)
            rated.append((_LAST if helper else rank, esp.volume, file))
    families = {
        system.family
        for volume in environment.volumes
        if not volume.extended
        for system in environment.contents(volume).systems
    }
    if families and "linux" not in families:
        rated = [
            (_BY_SHIM if rank == _OTHER else rank, volume, file) for rank, volume, file in rated
        ]
    rated.sort(key=lambda row: row[0])
    wanted = [row for row in rated if row[0] != _LAST] or rated
    return [(volume, file) for _, volume, file in wanted]


_BY_SHIM, _KNOWN, _OTHER, _HELPER, _LAST = range(5)


def _rank(environment: BootEnvironment, volume: Volume, loader: Loader) -> int:
    try:
        data = environment.read(volume, loader.path, LOADED_BYTES)
    except OutOfReachError:
        return _OTHER
    image = pe.read(Window(data)).record
    if _is_shim(data, image.machine):
        return _BY_SHIM
    if pe.section(data, image, _GENERATIONS) is not None and _SHIM in data:
        return _HELPER
    is_kernel = bzimage.is_kernel(data[: bzimage.HEAD_BYTES])
    if (
        MARK in data
        or boot_menus.REFIND_MARK in data
        or is_kernel
        or grub.read_image(data) is not None
    ):
        return _KNOWN
    return _KNOWN if pe.section(data, image, b".linux") is not None else _OTHER


def _is_shim(data: bytes, machine: int) -> bool:
    """Shim itself, not one of its helpers: it carries the name of the loader that it starts."""
    default = f"grub{_SHORT.get(machine, 'x64')}.efi".encode("utf-16-le")
    image = pe.read(Window(data)).record
    return pe.section(data, image, _GENERATIONS) is not None and _SHIM in data and default in data


def _listed_loader(environment: BootEnvironment, volume: Volume, name: str) -> str:
    """The first loader that a list names, as a path; empty where there is no list."""
    top = environment.find(volume, "EFI")
    if top is None:
        return ""
    for folder in environment.files(volume).listing(top.path):
        if not folder.is_folder:
            continue
        raw = environment.read(volume, f"{folder.path}/{name}")
        text = raw.decode("utf-16", errors="replace")
        first = text.splitlines()[0].split(",")[0].strip() if text.strip() else ""
        if first and folder.path.upper() != FALLBACK_FOLDER:
            return f"{folder.path}/{first}"
    return ""


def _unread(path: str, says: str) -> CheckResult:
    return not_checked(finding(_UNREAD, Severity.NOTE, says, Where(path=path)))


# A sound loader that could stand in the fallback place.


_KEPT = (
    "usr/lib/systemd/boot/efi/systemd-bootx64.efi",
    "usr/lib/grub/x86_64-efi/monolithic/grubx64.efi",
)
"""Where installed systems keep their boot managers."""


class SpareLoader(msgspec.Struct, frozen=True):
    """A sound loader that could stand in the fallback place.

    Attributes:
        home: the EFI system partition that it would go to.
        volume: where it is now.
        machine: its machine type.
        own_path: where it goes beside the fallback place; empty where it needs no other.
    """

    home: Volume
    volume: Volume
    path: str
    machine: int
    data: bytes
    own_path: str = ""


def fallback_name(machine: int) -> str:
    """Where firmware of a machine type looks for the fallback loader."""
    name = next(name for name, number in pe.FALLBACK_MACHINES.items() if number == machine)
    return f"{FALLBACK_FOLDER}/{name}"


def spare_loader(environment: BootEnvironment) -> SpareLoader | None:
    """A boot manager that we know, on the EFI system partition itself or among the files of an
    installed system; None where there is none.
    """
    homes = [esp for esp in efi_volumes(environment) if not esp.unreadable]
    if not homes:
        return None
    home = homes[0]
    places = [
        (home.volume, loader.path)
        for loader in home.loaders
        if loader.sound and not loader.fallback
    ]
    others = [
        volume
        for volume in environment.volumes
        if volume.kind.is_readable and not volume.kind.is_fat
    ]
    places += [(volume, path) for path in _KEPT for volume in others]
    places += list(_kept_by_nt(environment))
    for volume, path in places:
        spare = _spare(environment, home.volume, volume, path)
        if spare is not None:
            return spare
    return None


def _kept_by_nt(environment: BootEnvironment) -> Iterator[tuple[Volume, str]]:
    """The managers that systems of the nt family keep in folders of their own."""
    for volume in environment.volumes:
        if volume.extended:
            continue
        for system in environment.contents(volume).systems:
            if system.family != "nt":
                continue
            folder = f"{system.title.rstrip('/')}/{nt_names().manager.efi_folder}"
            try:
                inside = environment.listing(volume, folder)
            except OutOfReachError:
                continue
            yield from (
                (volume, file.path)
                for file in inside
                if file.path.lower().endswith(".efi") and not file.is_folder
            )


def _spare(
    environment: BootEnvironment, home: Volume, volume: Volume, path: str
) -> SpareLoader | None:
    """The file, if it is whole and of a kind whose own files are found from the fallback place,
    too.
    """
    try:
        found = environment.find(volume, path)
        data = environment.read(volume, path, LOADED_BYTES) if found is not None else b""
    except OutOfReachError:
        return None
    if found is None or len(data) != found.bytes:
        return None
    reading = pe.read(Window(data))
    if reading.problems or reading.record.machine not in pe.FALLBACK_MACHINES.values():
        return None
    folder = carried_store(data).rpartition("/")[0] if volume != home else ""
    if not folder and not _finds_its_entries(environment, home, data):
        return None
    own_path = f"{folder}/{found.path.rpartition('/')[2]}" if folder else ""
    return SpareLoader(home, volume, found.path, reading.record.machine, data, own_path)


def _finds_its_entries(environment: BootEnvironment, home: Volume, data: bytes) -> bool:
    """Whether a boot manager that we know would come to its menu, loaded from the EFI system
    partition.
    """
    if MARK in data:
        return EntryChecks(environment, home).menu().state is PhaseState.PASSED
    image = grub.read_image(data)
    if image is None:
        return False
    path = f"{FALLBACK_FOLDER}/BOOTX64.EFI"
    checks = GrubChecks(environment, image, PLATFORM, home, chained(environment), path)
    return checks.files().state is PhaseState.PASSED
