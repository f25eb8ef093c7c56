"""Whether the programs and libraries that a start needs are as their packages brought them.

A changed byte in the middle of a program keeps it from being called damaged by its head; the sum
that the system's own package database keeps tells. That a person changed it is possible, so it is
a warning and no more.
"""

from collections.abc import Iterable

from mending.boot.chain import BootEnvironment, finding
from mending.disk.files import FilesUnavailableError
from mending.disk.system import PackageFiles
from mending.disk.volume import Volume
from mending.model import Finding, FindingId, RefusedError, RepairId, Severity, Where


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
