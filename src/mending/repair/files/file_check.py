"""The list of boot-critical files, as `mending files` gives it."""

from collections import Counter
from pathlib import Path

import msgspec

from mending.boot.new_entry import only_linux_system
from mending.boot.nt import StartFile, start_files
from mending.boot.trace import open_environment
from mending.disk.locked import GivenKey, key_ring
from mending.disk.system import PackageFiles, sound_copies
from mending.disk.volume import Volume
from mending.model import Progress
from mending.source import Target

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
