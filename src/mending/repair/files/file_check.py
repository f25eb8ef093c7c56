"""The list of boot-critical files, as `mending files` gives it."""

from pathlib import Path

import msgspec

from mending.boot.new_entry import only_linux_system
from mending.boot.trace import open_environment
from mending.disk.system import PackageFiles, sound_copies
from mending.model import Progress
from mending.source import Target


class FileResult(msgspec.Struct, frozen=True, kw_only=True):
    """One file that is not sound: it `differs`, is `missing` or `unreadable`. `copy`: a sound one
    is at hand.
    """

    path: str
    package: str
    state: str
    copy: bool


class FilesResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="files/1"):
    """How many boot-critical files were compared with their packages' sums, and those that
    differ.
    """

    target: str
    volume: int
    checked: int
    files: tuple[FileResult, ...]


def check_files(target: Target, restore_from: Path | None, progress: Progress) -> FilesResult:
    """Compare the files without which the system does not start.

    Raises:
        RefusedError: no system, or no package database that can be read here.
        FilesUnavailableError: damage hides the files.
    """
    environment = open_environment(target)
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
