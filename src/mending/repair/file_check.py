"""The list of boot-critical files, as `mending files` gives it."""

from pathlib import Path

import msgspec

from mending.boot import FolderGrounds, Grounds, the_linux_system
from mending.disk import PackageFiles, Progress, patient_files, sound_copies, survey
from mending.repair.touching import Ground
from mending.source import FolderSource, PatchedFolder


class FileResult(msgspec.Struct, frozen=True, kw_only=True):
    """One file that is not sound: it `differs`, is `missing` or `unreadable`. `copy`: a sound one is at hand."""

    path: str
    package: str
    state: str
    copy: bool


class FilesResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="files/1"):
    """How many boot-critical files were compared with their packages' sums, and those that differ."""

    target: str
    volume: int
    checked: int
    files: tuple[FileResult, ...]


def check_files(target: Ground, restore_from: Path | None, progress: Progress) -> FilesResult:
    """Compare the files without which the system does not start.

    Raises:
        RefusedError: no system, or no package database that can be read here.
        FilesUnavailableError: damage hides the files.
    """
    tree = isinstance(target, FolderSource | PatchedFolder)
    grounds: Grounds = (
        FolderGrounds(target) if isinstance(target, FolderSource | PatchedFolder) else Grounds(survey(target))
    )
    home = the_linux_system(grounds)[0].volume
    files = grounds.files(home) if tree else patient_files(grounds.disk.source, home)
    found = PackageFiles(files).check(progress)
    bad = [one for one in found if one.state != "sound"]
    copies = sound_copies(bad, restore_from, files) if bad else {}
    rows = tuple(
        FileResult(path=one.path, package=one.package, state=one.state, copy=one.path in copies) for one in bad
    )
    return FilesResult(target=target.path, volume=home.number, checked=len(found), files=rows)
