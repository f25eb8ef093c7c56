"""The repair `file-restore`: files that differ from their package's sums, put back from sound
copies.

Nothing is written whose sum is not the one that the package database of the system itself keeps;
files of persons are in no package.
"""

from mending.boot.chain import Trace
from mending.boot.new_entry import only_linux_system
from mending.disk.files import Files
from mending.disk.system import FileCheck, PackageFiles, sound_copies
from mending.model import FileAttributes, InputError, RefusedError, RepairId
from mending.repair.base import Proposal, Request
from mending.repair.files.placement import put_files

REPAIR = RepairId.FILE_RESTORE
_SHOWN = 3


def propose(request: Request) -> Proposal:
    """Changes that put every bad file back for which a sound copy is at hand.

    Raises:
        RefusedError: no database, nothing is wrong, or no sound copy is at hand.
    """
    home = only_linux_system(request.environment)[0].volume
    environment = request.environment
    files = environment.files(home)
    try:
        checked = PackageFiles(files).check(request.progress)
        bad = [check for check in checked if check.state != "sound"]
        copies = sound_copies(bad, request.settings.restore_from, files) if bad else {}
    except InputError as error:
        raise RefusedError(error.says, error.hint) from error
    if not bad:
        raise RefusedError(
            "Every boot-critical file is as its package has it.", "Nothing is written."
        )
    if not copies:
        raise RefusedError(
            f"{_listed(bad)}, and no sound copy is at hand.",
            "Add --from FOLDER: a mounted sound system, or its packages.",
        )
    placed = {_real(files, path): copy for path, copy in copies.items()}
    changes = put_files(
        environment,
        home,
        {path: copy.data for path, copy in placed.items()},
        "file of a package",
        {
            path: FileAttributes(copy.mode, copy.owner, copy.group, None)
            for path, copy in placed.items()
        },
    )
    left = [check for check in bad if check.path not in copies]
    rest = f" No sound copy: {', '.join(check.path for check in left[:_SHOWN])}." if left else ""
    restored = {*placed, *copies}
    answers = tuple(
        finding for finding in request.calling_for(REPAIR) if finding.where.path in restored
    )
    return Proposal(
        repair=REPAIR,
        says=f"Puts back {', '.join(sorted(copies))} on volume {home.number}.{rest}",
        changes=tuple(changes),
        answers=answers,
        fault_after=_sums_agree,
    )


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


def _real(files: Files, path: str) -> str:
    """A path with the links on the way followed, as far as its folders are there."""
    folder, _, name = path.rpartition("/")
    home = files.find(folder)
    return f"{home.path.rstrip('/')}/{name}" if home is not None else path
