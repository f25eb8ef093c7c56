"""`file-restore` for the nt family: programs, libraries and drivers that a start needs, from the
system's own file store, a healthy copy, a sound PC or an earlier moment of the volume.

Nothing of another build or machine is taken: a copy must be whole and be known by the system's
catalogues, be what the damaged file's own header says, or be of the kernel's build.
"""

from collections.abc import Iterator

import msgspec

from mending.boot.chain import OutOfReachError
from mending.boot.nt import NtStart, Program, beside_manager, judge_program, read_program
from mending.disk.files import Files, FilesUnavailableError, open_files, open_tree
from mending.disk.healthy import why_not_of
from mending.disk.layout import volume_at_moment
from mending.disk.shadow import shadow_copies
from mending.disk.system import Catalogues, systems_on
from mending.disk.volume import Volume
from mending.formats import pe
from mending.knowledge.families import nt_names
from mending.model import FileAttributes, Finding, FindingId, InputError, RefusedError, RepairId
from mending.repair.base import Proposal, Request
from mending.repair.files import put_files, read_all, real_path
from mending.repair.nt.changing import nt_home, nt_homes
from mending.source import open_folder_source

NT_RESTORE = RepairId.FILE_RESTORE
_PROGRAM_BYTES, _STORE_BYTES = 64 << 20, 1 << 30
"""Of one program, and of all copies that are looked at."""
_MOST_FOLDERS, _SHOWN = 60_000, 4
_EVERYTHING = FileAttributes(0o777, 0, 0, None)


class _Copy(msgspec.Struct, frozen=True):
    """A copy that may be put back. `told` is where it is from, `own` whether it is of this PC."""

    data: bytes
    told: str
    own: bool = False


class _Needs(msgspec.Struct, frozen=True):
    """What a copy has to fit to.

    Attributes:
        build: first three numbers of the kernel's version; None where it carries none.
    """

    start: NtStart
    catalogues: Catalogues
    build: tuple[int, ...] | None


def propose_nt_restore(request: Request) -> Proposal:
    """Changes that put back each file for which a fitting copy is at hand.

    Raises:
        RefusedError: nothing is wrong, or no fitting copy is at hand.
    """
    asking = request.calling_for(NT_RESTORE)
    if not asking:
        raise RefusedError("Every file that the start needs is sound.", "Nothing is written.")
    start = nt_home(request)
    needs = _needs(request, start)
    wanted = _wanted(needs.start, asking)
    store = _in_store(request, start, {path.rpartition("/")[2].casefold() for path in wanted})
    put, told = dict[str, bytes](), list[str]()
    for path in wanted:
        present = read_program(needs.start, path)
        copy = _best(request, needs, path, present, store)
        if copy is not None:
            put[real_path(request, start.volume, path)] = copy.data
            told.append(f"{path} from {copy.told}")
    if not put:
        listed = ", ".join(list(wanted)[:_SHOWN])
        raise RefusedError(
            f"No copy of {listed} is at hand that is of this build and whole.",
            "Add --from PLACE: this PC's healthy copy, or a sound PC of the same build, mounted.",
            "--from PLACE",
        )
    changes = put_files(
        request, start.volume, put, "file of the system", dict.fromkeys(put, _EVERYTHING)
    )
    answers = tuple(each for each in asking if _is_answered(needs.start, each, put))
    locked = request.environment.outside(start.volume) is not start.volume
    loaders = {nt_names().kernel.loaders.bios, nt_names().kernel.loaders.uefi}
    if locked and any(path.casefold().endswith(tuple(loaders)) for path in put):
        trusted = " The loader is part of what the lock trusts: its key will be asked for."
    else:
        trusted = ""
    more = f" and {len(told) - _SHOWN} more" if len(told) > _SHOWN else ""
    return Proposal(
        repair=NT_RESTORE,
        says=f"Puts back {'; '.join(told[:_SHOWN])}{more}.{trusted}",
        changes=tuple(changes),
        answers=answers,
        fault_after=lambda _trace: "",
    )


def _needs(request: Request, start: NtStart) -> _Needs:
    kernel = nt_names().kernel
    machine, build = 0, None
    for name in (kernel.file, *nt_names().session.programs, kernel.hardware_layer):
        program = read_program(start, start.path(name))
        if program is None or program.image is None or program.why:
            continue
        machine = machine or program.image.machine
        known = pe.version(program.data)
        build = build or (known[:3] if known is not None else None)
    catalogues = Catalogues(
        request.environment.files(start.volume), start.path(nt_names().catalogues.folder)
    )
    return _Needs(msgspec.structs.replace(start, machine=machine), catalogues, build)


def _wanted(start: NtStart, asking: tuple[Finding, ...]) -> dict[str, None]:
    """The files that findings name, and the libraries of those that are sound themselves but do not
    get what they want.
    """
    found: dict[str, None] = {}
    for finding in asking:
        path = finding.where.path
        if path is None:
            continue
        found[path] = None
        program = read_program(start, path)
        if program is None or program.why or program.image is None:
            continue
        for wanted in pe.imports(program.data):
            folders = nt_names().kernel.library_folders
            paths = [start.path(f"{folder}/{wanted.library}") for folder in folders]
            there = [each for each in paths if start.environment.find(start.volume, each)]
            found[(there or paths[-1:])[0]] = None
    return found


def _best(
    request: Request,
    needs: _Needs,
    path: str,
    present: Program | None,
    store: dict[str, list[_Copy]],
) -> _Copy | None:
    """The fitting copy with the highest version of the first place that has one; None where there
    is none, or the file is that already.
    """
    name = path.rpartition("/")[2].casefold()
    for copies in (store.get(name, []), *_elsewhere(request, needs.start, path)):
        fitting = [copy for copy in copies if _fits(needs, path, present, copy)]
        if fitting:
            best = max(fitting, key=lambda copy: pe.version(copy.data) or ())
            return best if present is None or best.data != present.data else None
    return None


def _fits(needs: _Needs, path: str, present: Program | None, copy: _Copy) -> bool:
    judged = judge_program(path, copy.data, needs.start.machine)
    if judged.why or judged.unread or judged.image is None:
        return False
    if copy.own or needs.catalogues.know(copy.data):
        return True
    marks = pe.build_marks(present.data) if present is not None else None
    if marks is not None and marks == pe.build_marks(copy.data):
        return True
    version = pe.version(copy.data)
    return needs.build is not None and version is not None and version[:3] == needs.build


def _in_store(request: Request, start: NtStart, names: set[str]) -> dict[str, list[_Copy]]:
    """What the system's own file store has of these names; it is walked once."""
    files = request.environment.files(start.volume)
    found: dict[str, list[_Copy]] = {}
    left = _STORE_BYTES
    try:
        home = files.find(start.path(nt_names().file_store.folder))
        folders = files.listing(home.path) if home is not None and home.is_folder else []
    except FilesUnavailableError:
        return {}
    for number, folder in enumerate(folders[:_MOST_FOLDERS]):
        request.progress(number, len(folders))
        if not folder.is_folder:
            continue
        try:
            for file in files.listing(folder.path):
                name = file.path.rpartition("/")[2].casefold()
                if name in names and not file.is_folder and 0 < file.bytes <= left:
                    left -= file.bytes
                    data = files.read(file, _PROGRAM_BYTES)
                    found.setdefault(name, []).append(_Copy(data, file.path))
        except FilesUnavailableError:
            continue  # a damaged folder of the store has no sound copy
        finally:
            files.forget(folder.path)
    return found


def _elsewhere(request: Request, start: NtStart, path: str) -> Iterator[list[_Copy]]:
    """Copies of other places, place by place."""
    yield from ([each] for each in _of_copy(request, path))
    yield from ([each] for each in _of_folder(request, start, path))
    disk, volume = request.disk, start.volume
    try:
        entries = shadow_copies(disk.source, volume.offset, volume.bytes).entries
    except InputError:
        return
    for entry in sorted(entries, key=lambda each: each.number, reverse=True):
        try:
            files = open_files(*volume_at_moment(disk.source, volume, entry.number))
            data = _read(files, path)
        except InputError:
            continue  # a moment that cannot be read has no copy
        if data:
            yield [_Copy(data, f"moment {entry.number} of the volume")]


def _of_copy(request: Request, path: str) -> Iterator[_Copy]:
    healthy = request.settings.healthy
    if healthy is None:
        return
    is_own = not why_not_of(healthy.index, request.disk)
    for number, file in enumerate(healthy.index.files):
        if file.kept and file.path.casefold() == path.casefold():
            yield _Copy(healthy.file_bytes(number), healthy.path.name, own=is_own)


def _of_folder(request: Request, start: NtStart, path: str) -> Iterator[_Copy]:
    """A sound PC that is mounted, or a folder with the file itself."""
    folder = request.settings.restore_from
    if folder is None:
        return
    below = path[len(start.root.rstrip("/")) :].lstrip("/")
    try:
        files = open_tree(open_folder_source(str(folder)), caseless=True)
        systems = systems_on(files, 0).systems
        roots = [system.title for system in systems if system.family == "nt"]
        for place in (*(f"{root}/{below}" for root in roots), path.rpartition("/")[2]):
            data = _read(files, place)
            if data:
                yield _Copy(data, f"{folder}/{place.lstrip('/')}")
    except InputError as error:
        raise RefusedError(error.says, error.hint) from error
    except OutOfReachError:
        return


def _read(files: Files, path: str) -> bytes:
    found = files.find(path)
    return files.read(found, _PROGRAM_BYTES) if found is not None and not found.is_folder else b""


def _is_answered(start: NtStart, finding: Finding, put: dict[str, bytes]) -> bool:
    path = (finding.where.path or "").casefold()
    named = {each.casefold() for each in put}
    if path in named:
        return True
    program = read_program(start, path)
    libraries = [each.library for each in pe.imports(program.data)] if program else []
    return any(each.rpartition("/")[2] in map(str.casefold, libraries) for each in named)


# `boot-files` for a BIOS PC of the nt family: the manager that boot code loads, from the system's
# own folder.


NT_MANAGER = RepairId.BOOT_FILES
KINDS = (
    FindingId.FIRST_FILE_MISSING,
    FindingId.FIRST_FILE_EMPTY,
    FindingId.FIRST_FILE_COMPRESSED,
)


def propose_nt_manager(request: Request) -> Proposal:
    """Changes that put the manager on the active volume.

    Raises:
        RefusedError: no system keeps a copy of it, or a guard says no.
    """
    asking = [each for each in request.calling_for(NT_MANAGER) if each.id in KINDS]
    path = next((each.where.path for each in asking if each.where.path), None)
    active = [each for each in request.disk.volumes if each.active and not each.extended]
    if path is None or len(active) != 1:
        raise RefusedError("Which file boot code looks for, and where, cannot be told.")
    for start in nt_homes(request):
        kept = start.path(f"{nt_names().manager.bios_folder}/{path.rpartition('/')[2]}")
        found = request.environment.find(start.volume, kept)
        if found is not None and found.bytes:
            home, files = active[0], {path: read_all(request, start.volume, found.path)}
            store = nt_names().store.beside_code.rpartition("/")[0]
            files |= files_beside(request, start.volume, found.path, home, f"/{store}")
            changes = put_files(request, home, files, f"the boot manager {path} and its files")
            more = f" and {len(files) - 1} files beside it" if len(files) > 1 else ""
            return Proposal(
                repair=NT_MANAGER,
                says=f"Copies the boot manager of {start.root} to {path} on volume {home.number}"
                f"{more}.",
                changes=tuple(changes),
                answers=tuple(asking),
            )
    raise RefusedError(
        "No system here keeps a copy of its boot manager.", "Copy it off a rescue stick."
    )


def files_beside(
    request: Request, volume: Volume, manager: str, home: Volume, folder: str
) -> dict[str, bytes]:
    """What a system keeps beside its manager and the other volume lacks, by where it goes.

    Args:
        folder: on the other volume.
    """
    found = {}
    for path, name in beside_manager(request.environment, volume, manager):
        place = f"{folder}/{name}"
        if request.environment.find(home, place) is None:
            found[place] = read_all(request, volume, path)
    return found
