"""The repair `file-restore`: files that differ from their package's sums, put back from sound copies.

Nothing is written whose sum is not the one that the package database of the system itself keeps; files of persons are
in no package.
"""

from mending.boot import FolderGrounds, the_linux_system
from mending.disk import FileCheck, Files, FilesUnavailableError, PackageFiles, patient_files, sound_copies
from mending.model import InputError, RefusedError
from mending.repair.proposal import FilesRequest, Proposal

REPAIR = "file-restore"
_SHOWN = 3


def propose(request: FilesRequest) -> Proposal:
    """Changes that put every bad file back for which a sound copy is at hand.

    Raises:
        RefusedError: no database, nothing is wrong, or no sound copy is at hand.
    """
    home = the_linux_system(request.grounds)[0].volume
    grounds = request.grounds
    files = grounds.files(home) if isinstance(grounds, FolderGrounds) else patient_files(grounds.disk.source, home)
    try:
        bad = [one for one in PackageFiles(files).check(lambda _done, _all: None) if one.state != "sound"]
        copies = sound_copies(bad, request.leave.restore_from, files) if bad else {}
    except FilesUnavailableError as error:
        raise RefusedError(error.says, error.hint) from error
    except InputError as error:
        raise RefusedError(error.says, error.hint) from error
    if not bad:
        raise RefusedError("Every boot-critical file is as its package has it.", "Nothing is written.")
    if not copies:
        raise RefusedError(
            f"{_listed(bad)}, and no sound copy is at hand.",
            "Add --from FOLDER: a mounted sound system, or its packages.",
        )
    changes = request.put(home, {_real(files, path): data for path, data in copies.items()}, "file of a package")
    left = [one for one in bad if one.path not in copies]
    rest = f" No sound copy: {', '.join(one.path for one in left[:_SHOWN])}." if left else ""
    says = f"Puts back {', '.join(sorted(copies))} on volume {home.number}.{rest}"
    restored = {_real(files, path) for path in copies} | set(copies)
    answers = {one.id for one in request.trace.fatal if REPAIR in one.repairs and one.where.path in restored}
    return Proposal(REPAIR, says, tuple(changes), tuple(sorted(answers)))


def _listed(bad: list[FileCheck]) -> str:
    shown = ", ".join(f"{one.path} ({one.state})" for one in bad[:_SHOWN])
    more = f" and {len(bad) - _SHOWN} more" if len(bad) > _SHOWN else ""
    return f"{len(bad)} boot-critical {'file is' if len(bad) == 1 else 'files are'} not sound: {shown}{more}"


def _real(files: Files, path: str) -> str:
    """A path with the links on the way followed, as far as its folders are there."""
    folder, _, name = path.rpartition("/")
    home = files.find(folder)
    return f"{home.path.rstrip('/')}/{name}" if home is not None else path
