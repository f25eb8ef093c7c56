"""The repair `file-restore`: files that differ from their package's sums, and links of packages
that are gone, put back from sound copies.

Nothing is written whose sum is not the one that the package database of the system itself keeps, no
link but from a package whose files have those sums; files of persons are in no package.
"""

import re
from collections import Counter
from pathlib import Path

import msgspec

from mending.boot.chain import Trace
from mending.boot.linux import FIRST_PROGRAMS
from mending.boot.new_entry import only_linux_system
from mending.boot.nt import StartFile, start_files
from mending.boot.trace import open_environment
from mending.disk.files import Files
from mending.disk.layout import Disk
from mending.disk.locked import GivenKey, key_ring
from mending.disk.system import PACKAGE_STATUS, FileCheck, PackageFiles, sound_copies
from mending.disk.volume import Volume
from mending.formats.packages import PackagedFile
from mending.model import (
    FileAttributes,
    Finding,
    FindingId,
    InputError,
    Progress,
    RefusedError,
    RepairId,
)
from mending.repair.base import Proposal, Request
from mending.repair.files.placing import put_by_driver, put_files, read_whole
from mending.source import Target

FILE_RESTORE = RepairId.FILE_RESTORE
_SHOWN, _MAY_RUN = 3, 0o111
_INIT = "/sbin/init"
_MERGED = ("bin", "sbin", "lib", "lib64")


def propose_file_restore(request: Request) -> Proposal:
    """Changes that put every bad file back for which a sound copy is at hand.

    Raises:
        RefusedError: no database, nothing is wrong, or no sound copy is at hand.
    """
    home = only_linux_system(request.environment)[0].volume
    environment = request.environment
    files = environment.files(home)
    barred = request.found(FindingId.INIT_NOT_EXECUTABLE)
    if barred and environment.disk is not None:
        return _runnable(request, environment.disk, home, barred[0])
    try:
        bad, copies = _judged(request, files)
        copies |= {} if _INIT in copies else _usual_init(request, files)
        links = _usual_links(request, files)
        below = tuple(f"{link}/" for link in links)  # those come back with the link
        copies = {path: copy for path, copy in copies.items() if not path.startswith(below)} | links
    except InputError as error:
        raise RefusedError(error.says, error.hint) from error
    if not bad and not copies:
        raise RefusedError(
            "Every boot-critical file is as its package has it.", "Nothing is written."
        )
    if not copies:
        raise RefusedError(
            f"{_listed(bad)}, and no sound copy is at hand.",
            "Add --from FOLDER: a mounted sound system, or its packages.",
            "--from FOLDER",
        )
    placed = {_real(files, path): copy for path, copy in copies.items()}
    changes = put_files(
        request,
        home,
        {path: copy.data for path, copy in placed.items()},
        "file of a package",
        {
            path: FileAttributes(copy.mode, copy.owner, copy.group, None, is_link=copy.is_link)
            for path, copy in placed.items()
        },
    )
    left = [check for check in bad if check.path not in copies]
    rest = f" No sound copy: {', '.join(check.path for check in left[:_SHOWN])}." if left else ""
    restored = {*placed, *copies}
    init = any(path.endswith(_INIT) for path in restored)
    answers = tuple(
        finding
        for finding in request.calling_for(FILE_RESTORE)
        if finding.where.path in restored
        or (init and finding.id == FindingId.INIT_MISSING)
        or any((finding.where.path or "").startswith(f"{link}/") for link in links)
    )
    return Proposal(
        repair=FILE_RESTORE,
        says=f"Puts back {', '.join(sorted(copies))} on volume {home.number}.{rest}",
        changes=tuple(changes),
        answers=answers,
        fault_after=_sums_agree,
    )


def _runnable(request: Request, disk: Disk, home: Volume, barred: Finding) -> Proposal:
    """The permission to run the first program, where all else of it is as its package has it."""
    path, files = str(barred.where.path), request.environment.files(home)
    found = files.find(path)
    try:
        checks = PackageFiles(files).check_named([path])
    except InputError as error:
        raise RefusedError(error.says, error.hint) from error
    if found is None or any(check.state != "sound" for check in checks):
        raise RefusedError(f"{path} is not as its package has it.", "Put its package back by hand.")
    given = FileAttributes(found.mode | _MAY_RUN, 0, 0, None)
    data = read_whole(request.environment, home, found)
    changes = put_by_driver(disk, home, request.settings, {found.path: data}, {found.path: given})
    says = f"{found.path} on volume {home.number} may be run again."
    return Proposal(repair=FILE_RESTORE, says=says, changes=tuple(changes), answers=(barred,))


def _judged(request: Request, files: Files) -> tuple[list[FileCheck], dict[str, PackagedFile]]:
    """The files that are not as the database has them, and what of them and of links is at hand.
    Without a database nothing is, where only the link to the first program is asked for.
    """
    folder = request.settings.restore_from
    if request.found(FindingId.INIT_MISSING) and files.find(PACKAGE_STATUS) is None:
        return [], {}
    packages = PackageFiles(files)
    bad = []
    if request.settings.asking:
        named = [str(each.where.path) for each in request.calling_for(FILE_RESTORE)]
        bad = [check for check in packages.check_named(named) if check.state != "sound"]
    if not bad:
        bad = [check for check in packages.check(request.progress) if check.state != "sound"]
    copies = sound_copies(bad, folder, files) if bad else {}
    if request.settings.asking and copies:
        return bad, copies
    return bad, copies | packages.missing_links(folder)


def _usual_init(request: Request, files: Files) -> dict[str, PackagedFile]:
    """The link by which the kernel finds its first program, where no package at hand brings it and
    the program itself is there.
    """
    if not request.found(FindingId.INIT_MISSING) or files.find(_INIT) is not None:
        return {}
    program = next((path for path in FIRST_PROGRAMS if files.find(path) is not None), None)
    if program is None:
        return {}
    return {_INIT: PackagedFile(_INIT, 0o777, 0, 0, program.encode(), is_link=True)}


def _sums_agree(_trace: Trace) -> str:
    """What is put back was taken for its sum, which the package database keeps: that is the proof,
    where no finding tells of the file.
    """
    return ""


def _listed(bad: list[FileCheck]) -> str:
    shown = ", ".join(f"{check.path} ({check.state})" for check in bad[:_SHOWN])
    more = f" and {len(bad) - _SHOWN} more" if len(bad) > _SHOWN else ""
    return (
        f"{len(bad)} boot-critical {'file is' if len(bad) == 1 else 'files are'} not sound:"
        f" {shown}{more}"
    )


def _usual_links(request: Request, files: Files) -> dict[str, PackagedFile]:
    """Links from the top to folders below `/usr`, where those are there and the links are gone
    (file-hierarchy(7) of systemd) that a finding names.
    """
    said = [f"{each.where.path} {each.says}" for each in request.calling_for(FILE_RESTORE)]
    gone = [
        name
        for name in _MERGED
        if any(re.search(rf"(?<!\w)/{name}/", each) for each in said)
        and files.find(f"/{name}") is None
        and not files.is_link(f"/{name}")
        and (home := files.find(f"/usr/{name}")) is not None
        and home.is_folder
    ]
    return {
        f"/{name}": PackagedFile(f"/{name}", 0o777, 0, 0, f"usr/{name}".encode(), is_link=True)
        for name in gone
    }


def _real(files: Files, path: str) -> str:
    """A path with the links on the way followed, as far as its folders are there."""
    folder, _, name = path.rpartition("/")
    home = files.find(folder)
    return f"{home.path.rstrip('/')}/{name}" if home is not None else path


# The list of boot-critical files, as `mending files` gives it.


OWN_SUMS = "own-sums"
"""How programs of the nt family are judged: by the checksums in their headers."""


class FileResult(msgspec.Struct, frozen=True, kw_only=True):
    """One file that is not sound: it `differs`, is `missing` or `unreadable`. `copy`: a sound one
    is at hand. `package` is what it belongs to, or is to the start; `why` says what is wrong with
    it, where it tells.
    """

    path: str
    package: str
    state: str
    copy: bool
    why: str = ""


class FilesResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="files/1"):
    """How many boot-critical files were judged, and those that are not sound.

    `by`: `package-sums` for files compared with the sums of their packages, `own-sums` for
    programs that carry a checksum themselves; `without_sum` of these carry none, and were judged by
    their headers and by what they want of libraries. `proofs` counts what shows that the sound ones
    are: `signature` inside them, a `catalogue` of the system, `header-sum`, `nothing`. Who signed
    is not judged.
    """

    target: str
    volume: int
    checked: int
    files: tuple[FileResult, ...]
    by: str = "package-sums"
    without_sum: int = 0
    proofs: dict[str, int] = {}


def check_files(
    target: Target,
    restore_from: Path | None,
    progress: Progress,
    *,
    every: bool = False,
    secret: GivenKey | None = None,
) -> FilesResult:
    """Compare the files without which the system does not start.

    Args:
        secret: what opens locked volumes; it is kept nowhere.
        every: of the nt family, all other programs, libraries and drivers as well.

    Raises:
        RefusedError: no system, or no package database that can be read here.
        FilesUnavailableError: damage hides the files.
    """
    environment = open_environment(target, key_ring(secret))
    listed = start_files(environment, progress, every=every)
    if listed is not None:
        return _of_nt(target, *listed)
    home = only_linux_system(environment)[0].volume
    files = environment.files(home)
    found = PackageFiles(files).check(progress)
    bad = [check for check in found if check.state != "sound"]
    copies = sound_copies(bad, restore_from, files) if bad else {}
    rows = tuple(
        FileResult(
            path=check.path,
            package=check.package,
            state=check.state,
            copy=check.path in copies,
        )
        for check in bad
    )
    return FilesResult(target=target.path, volume=home.number, checked=len(found), files=rows)


def _of_nt(target: Target, home: Volume, listed: list[StartFile]) -> FilesResult:
    """Programs of the nt family, judged without a good copy."""
    rows = tuple(
        FileResult(path=each.path, package=each.role, state=each.state, copy=False, why=each.why)
        for each in listed
        if each.state != "sound"
    )
    return FilesResult(
        target=target.path,
        volume=home.number,
        checked=len(listed),
        files=rows,
        by=OWN_SUMS,
        without_sum=sum(each.proof == "" and each.state == "sound" for each in listed),
        proofs=dict(Counter(each.proof or "nothing" for each in listed if each.state == "sound")),
    )
