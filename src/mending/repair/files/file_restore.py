"""The repair `file-restore`: files that differ from their package's sums, and links of packages
that are gone, put back from sound copies.

Nothing is written whose sum is not the one that the package database of the system itself keeps, no
link but from a package whose files have those sums; files of persons are in no package.
"""

import re

from mending.boot.chain import Trace
from mending.boot.linux import FIRST_PROGRAMS
from mending.boot.new_entry import only_linux_system
from mending.disk.files import Files
from mending.disk.layout import Disk
from mending.disk.system import PACKAGE_STATUS, FileCheck, PackageFiles, sound_copies
from mending.disk.volume import Volume
from mending.formats.package.dpkg import PackagedFile
from mending.model import FileAttributes, Finding, FindingId, InputError, RefusedError, RepairId
from mending.repair.base import Proposal, Request
from mending.repair.files.by_driver import put_by_driver
from mending.repair.files.placement import put_files, read_whole

REPAIR = RepairId.FILE_RESTORE
_SHOWN, _MAY_RUN = 3, 0o111
_INIT = "/sbin/init"
_MERGED = ("bin", "sbin", "lib", "lib64")


def propose(request: Request) -> Proposal:
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
        for finding in request.calling_for(REPAIR)
        if finding.where.path in restored
        or (init and finding.id == FindingId.INIT_MISSING)
        or any((finding.where.path or "").startswith(f"{link}/") for link in links)
    )
    return Proposal(
        repair=REPAIR,
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
    return Proposal(repair=REPAIR, says=says, changes=tuple(changes), answers=(barred,))


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
        named = [str(each.where.path) for each in request.calling_for(REPAIR)]
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
    said = [f"{each.where.path} {each.says}" for each in request.calling_for(REPAIR)]
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
