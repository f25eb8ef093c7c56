"""Whether a program of an installed Linux system could run: mode, kind, machine, the loader that it
asks for, and its libraries.
"""

from collections.abc import Iterable, Iterator
from enum import Enum, auto

import msgspec

from mending.boot.chain import BootEnvironment, OutOfReachError, finding
from mending.disk.files import FileFound, FilesUnavailableError
from mending.disk.system import PackageFiles
from mending.disk.volume import Volume
from mending.formats import elf
from mending.model import Finding, FindingId, RefusedError, RepairId, Severity, Where, Window

# The libraries of a program, as the loader of a Linux system finds them.
#
# The loader takes each library that is needed, and those that they need in turn, from the first
# place that has one for the machine: where the program itself says, then where the system's own
# lists say, then the usual folders (ld.so(8)). One that is not there, or of which a part that is
# loaded is cut off, keeps the program from running at all.


_USUAL = (
    *("lib/x86_64-linux-gnu", "usr/lib/x86_64-linux-gnu", "lib64", "usr/lib64"),
    *("lib", "usr/lib", "usr/local/lib", "lib/i386-linux-gnu", "usr/lib/i386-linux-gnu"),
)
_LISTS = "etc/ld.so.conf"
_MOST_LIBRARIES, _MOST_BYTES, _MOST_LISTS = 256, 192 << 20, 64


class LibraryFault(msgspec.Struct, frozen=True):
    """Why a library cannot be loaded. `says` follows the name of the program."""

    path: str
    says: str


class Libraries:
    """The libraries of the programs on one root."""

    def __init__(self, environment: BootEnvironment, volume: Volume) -> None:
        self._environment, self._volume = environment, volume
        self._places: tuple[str, ...] | None = None
        self._left = _MOST_BYTES
        self.loaded: dict[str, elf.Linking] = {}
        """Every library that was looked at and is whole, by its path."""

    def fault(self, program: FileFound) -> LibraryFault | None:
        """The first library that keeps a program from running; None where all are there. Raises
        OutOfReachError.
        """
        first = self._linking(program)
        if first is None:
            return None
        short = self._cut(program, first)
        if short is not None:
            return short
        waiting = [(program.path, first, name) for name in first.libraries]
        seen: set[str] = set()
        while waiting and len(seen) < _MOST_LIBRARIES:
            asking, linking, name = waiting.pop(0)
            if name in seen:
                continue
            seen.add(name)
            fault, library = self._find(asking, linking, name)
            if fault is not None:
                return fault
            if library is not None:
                path, inner = library
                waiting += [(path, inner, each) for each in inner.libraries]
        return None

    def fault_of_loader(self, loader: FileFound) -> LibraryFault | None:
        """Why the loader that a program asks for cannot run; None where it can. Raises
        OutOfReachError.
        """
        linking = self._linking(loader)
        if linking is None:
            return LibraryFault(loader.path, f"asks for {loader.path}, which is no program")
        short = self._cut(loader, linking)
        if short is None:
            self.loaded[loader.path] = linking
            return None
        return LibraryFault(loader.path, f"asks for {loader.path}, which {short.says}")

    def _find(
        self, asking: str, linking: elf.Linking, name: str
    ) -> tuple[LibraryFault | None, tuple[str, elf.Linking] | None]:
        own = asking.rpartition("/")[0]
        folders = [each.replace("${ORIGIN}", own).replace("$ORIGIN", own) for each in linking.paths]
        places = [f"{folder}/{name}" for folder in (*folders, *self._folders())]
        wrong: LibraryFault | None = None
        for path in [name] if "/" in name else places:
            found = self._environment.find(self._volume, path)
            if found is None or found.is_folder:
                continue
            if found.path in self.loaded:
                return None, (found.path, self.loaded[found.path])
            library = self._linking(found)
            if library is None:
                says = f"needs {name}, and {found.path} is no library"
                wrong = wrong or LibraryFault(found.path, says)
            elif (library.machine, library.bits) != (linking.machine, linking.bits):
                says = f"needs {name}, and {found.path} is for another kind of machine"
                wrong = wrong or LibraryFault(found.path, says)
            else:
                short = self._cut(found, library)
                if short is not None:
                    says = f"needs {name}, and {found.path} {short.says}"
                    return LibraryFault(found.path, says), None
                self.loaded[found.path] = library
                return None, (found.path, library)
        return wrong or LibraryFault(
            f"/{_USUAL[1]}/{name}", f"needs {name}, which is not there"
        ), None

    def _linking(self, found: FileFound) -> elf.Linking | None:
        self._left -= max(found.bytes, 0)
        if self._left < 0:
            raise OutOfReachError(f"{_MOST_BYTES} bytes of libraries were read before {found.path}")
        return elf.read_linking(self._environment.read(self._volume, found.path, _MOST_BYTES))

    @staticmethod
    def _cut(found: FileFound, linking: elf.Linking) -> LibraryFault | None:
        if linking.loaded <= found.bytes:
            return None
        says = f"is cut short: {found.bytes} bytes of {linking.loaded} that are loaded"
        return LibraryFault(found.path, says)

    def _folders(self) -> tuple[str, ...]:
        """Where libraries are looked for: what the system's lists name, then the usual places."""
        if self._places is None:
            named = [path.strip("/") for path in self._listed()]
            self._places = tuple(dict.fromkeys([*named, *_USUAL]))
        return self._places

    def _listed(self) -> list[str]:
        """The folders that the system's lists name; each list is read once, for lists may include
        each other.
        """
        found, waiting, seen = list[str](), [_LISTS], set[str]()
        while waiting and len(seen) < _MOST_LISTS:
            path = waiting.pop(0).strip("/")
            if path in seen:
                continue
            seen.add(path)
            for row in self._environment.read_text(self._volume, path).splitlines():
                words = row.split("#")[0].split()
                if words[:1] == ["include"]:
                    waiting += self._included(words[1:])
                elif len(words) == 1 and words[0].startswith("/"):
                    found.append(words[0])
        return found

    def _included(self, patterns: list[str]) -> Iterator[str]:
        for pattern in patterns:
            folder, _, name = pattern.rpartition("/")
            inside = self._environment.listing(self._volume, folder)
            ending = name.rpartition("*")[2]
            yield from sorted(each.path for each in inside if each.path.endswith(ending))


FIRST_PROGRAMS = ("/lib/systemd/systemd", "/usr/lib/systemd/systemd")
"""What `/sbin/init` is a link to on most systems (init(1) of systemd)."""
_SCRIPT = b"#!"
_EXECUTE = 0o111


class UnfitReason(Enum):
    """Why the kernel refuses to run a file."""

    NOT_EXECUTABLE = auto()
    LOADER_MISSING = auto()
    LIBRARY_UNFIT = auto()
    DAMAGED = auto()


class Unfit(msgspec.Struct, frozen=True):
    """A program that cannot run. `says`: what is so, after its name; `path`: the other file that is
    to blame, where it is one.
    """

    reason: UnfitReason
    says: str
    path: str = ""


def find_unfitness(
    environment: BootEnvironment,
    volume: Volume,
    found: FileFound,
    libraries: Libraries | None = None,
) -> Unfit | None:
    """Why the kernel would refuse to run a file, or its loader would end it; None where it would
    run. Raises OutOfReachError where the file cannot be read.

    Args:
        libraries: of the volume, where they are looked at, too.
    """
    if not found.mode & _EXECUTE:
        return Unfit(UnfitReason.NOT_EXECUTABLE, "may not be executed")
    head = environment.read_head(volume, found.path, elf.HEAD_BYTES)
    is_script = head.startswith(_SCRIPT)
    if is_script:
        words = head[len(_SCRIPT) :].split(b"\n")[0].split()
        if not words:
            return Unfit(UnfitReason.DAMAGED, "is a script that names no program")
        asked = words[0].decode("utf-8", errors="replace")
    else:
        reading = elf.read(Window(head))
        if reading.problems or reading.record.machine not in elf.X86:
            return Unfit(UnfitReason.DAMAGED, "is no program for this machine")
        asked = reading.record.interpreter
    loader = environment.find(volume, asked) if asked else None
    if asked and loader is None:
        return Unfit(UnfitReason.LOADER_MISSING, f"asks for {asked}, which is not there", asked)
    if libraries is None:
        return None
    if is_script:
        unfit = find_unfitness(environment, volume, loader, libraries) if loader else None
        return (
            msgspec.structs.replace(unfit, says=f"asks for {asked}, which {unfit.says}")
            if unfit
            else None
        )
    fault = libraries.fault(found)
    if fault is None and loader is not None:
        fault = libraries.fault_of_loader(loader)
    return Unfit(UnfitReason.LIBRARY_UNFIT, fault.says, fault.path) if fault is not None else None


# Whether the programs and libraries that a start needs are as their packages brought them.
#
# A changed byte in the middle of a program keeps it from being called damaged by its head; the sum
# that the system's own package database keeps tells. That a person changed it is possible, so it is
# a warning and no more.


def changed_parts(
    environment: BootEnvironment, volume: Volume, paths: Iterable[str]
) -> tuple[Finding, ...]:
    """A finding for each of these files that is not as its package has it; none where the system
    keeps no sums.
    """
    try:
        checks = PackageFiles(environment.files(volume)).check_named(paths)
    except (RefusedError, FilesUnavailableError):
        return ()
    return tuple(
        finding(
            FindingId.PART_DIFFERS,
            Severity.WARNING,
            f"{check.path} is needed to start, and is not as the package {check.package} has it"
            f" ({check.state}).",
            Where(path=check.path),
            (RepairId.FILE_RESTORE,),
        )
        for check in checks
        if check.state != "sound"
    )
