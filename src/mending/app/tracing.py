"""Tracing a target, and letting its case remember it."""

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from pathlib import Path
from threading import Lock
from typing import TYPE_CHECKING, Protocol

import msgspec

from mending.app.host import Host
from mending.app.targets import NamedTarget, traced_or_told, within_bounds
from mending.boot.chain import BootEnvironment, Trace
from mending.boot.trace import open_environment, trace_environment
from mending.disk.layout import volume_at
from mending.disk.locked import GivenKey, KeyRing, PlainVolume, plain_volumes
from mending.disk.opening import opened_disk, opened_to_read, refuse_named_twice
from mending.disk.scan import FoundResult, SearchResult, found_results, search, search_result
from mending.disk.volume import Volume
from mending.model import (
    KINDS,
    FilesystemKind,
    InputError,
    Lba,
    Phase,
    Progress,
    SectorCount,
    silent,
)
from mending.source import FileSource, FolderSource, Source, Target
from mending.source.portable import keep_no_memory
from mending.source.stitched import OverlaidSource

if TYPE_CHECKING:
    from mending.boot.rehearse import RehearsalResult
    from mending.repair.base import MendSettings


class Watch(Protocol):
    """Somebody who looks on while a target is read."""

    def opened(self, target: Target) -> None:
        """What is read is open."""

    def reached(self, phase: Phase) -> None:
        """A check of this phase is done."""


def trace(
    target: NamedTarget,
    host: Host,
    sector: int | None = None,
    firmware: str | None = None,
    secret: GivenKey | None = None,
    watch: Watch | None = None,
    others: Sequence[Path] = (),
) -> Trace:
    """Which phase of starting fails.

    Args:
        others: further disks of the same PC; with them no repair is asked whether it could be done.
        secret: what opens locked volumes; it is kept nowhere.
        watch: told how far it is.

    Raises:
        InputError, UsageError, TookTooMuchError
    """
    keys = None
    if secret is not None:
        keep_no_memory()
        keys = KeyRing(secret)

    if target.case is not None and target.case.state.further:
        from mending.app.case_disk import further_disks  # noqa: PLC0415 - lazy: few PCs have more

        target.case, places = further_disks(target.case, host)
        others = [*map(Path, places), *others]
    if others:
        refuse_named_twice([target.path, *map(str, others)])

    def ask() -> Trace:
        with (
            within_bounds(target.path),
            opened_to_read(target.path, sector) as source,
            ExitStack() as stack,
        ):
            more = [stack.enter_context(opened_disk(str(path), sector)) for path in others]
            reached = None
            if watch is not None:
                watch.opened(source)
                reached = watch.reached
            environment = open_environment(source, keys, more)
            kind = firmware or target.firmware
            options = target.boot_options
            found = trace_environment(source, environment, kind, options, reached)
            if others:
                return found
            return offers_in(source, environment, found, _settings(target, kind, keys))

    found = traced_or_told(target.path, ask)
    _keep_in_case(target, host, found)
    return found


def _keep_in_case(target: NamedTarget, host: Host, found: Trace) -> None:
    """Let the open case of a target remember its trace; where it cannot, that is said."""
    if target.case is None or target.case.state.closed is not None:
        return
    from mending.case import traced  # noqa: PLC0415 - lazy: a bare disk has no case

    try:
        target.case = traced(target.case, host.hand, found)
    except InputError as error:  # a case that may only be read can be traced all the same
        host.tell(f"The trace is not kept in the case: {error.says}")


def _settings(
    target: NamedTarget, firmware: str | None, keys: "KeyRing | None"
) -> Callable[[], "MendSettings"]:
    """What repairs are asked with, made where one is called for."""

    def make() -> "MendSettings":
        from mending.repair.base import MendSettings  # noqa: PLC0415 - lazy: sound disks need none

        return MendSettings(firmware=firmware, boot_options=target.boot_options, keys=keys)

    return make


def offers_in(
    source: Target,
    environment: BootEnvironment,
    found: Trace,
    settings: Callable[[], "MendSettings"],
) -> Trace:
    """A trace that names only repairs that can be done, and what is in the way of the others. Of
    what is only read (bundles, moments of the past) nothing is asked.
    """
    called_for = any(finding.repairs for finding in found.findings)
    if not called_for or not isinstance(source, FileSource | FolderSource):
        return found
    if isinstance(source, FileSource) and source.not_gathered is not None:
        return found
    from mending.repair.run import Examined, with_offers  # noqa: PLC0415 - lazy: as above

    return with_offers(Examined(source, environment, found), settings())


def rehearse(target: NamedTarget, host: Host, sector: int | None = None) -> "RehearsalResult":
    """Run the disk's own boot code in the emulator; an open case remembers the screen.

    Raises:
        InputError, UsageError
    """
    from mending.boot.rehearse import rehearse_disk  # noqa: PLC0415 - lazy: seldom asked for

    with opened_disk(target.path, sector) as source:
        result = rehearse_disk(source)
    if target.case is not None and target.case.state.closed is None:
        from mending.case.results import rehearsed  # noqa: PLC0415 - lazy: for cases only

        target.case = rehearsed(
            target.case, host.hand, result.stopped, result.screen, result.started_volume
        )
    return result


# Searching a whole disk, and what a key opens on it.


_MOST_LOCKED = 16
"""That a key is tried on: each costs seconds, as its owner wanted it."""


def search_target(
    target: NamedTarget,
    sector: int | None = None,
    secret: GivenKey | None = None,
    progress: Progress = silent,
) -> SearchResult:
    """Every volume of a disk, listed or not; with a key, what is inside locked ones, too. Those
    that keep their key in the open need none.

    Args:
        secret: what opens locked volumes; it is kept nowhere.

    Raises:
        InputError: it is no disk, or the key opens nothing. UsageError: nothing is locked here, or
            in a way that is not read.
    """
    if secret is not None:
        keep_no_memory()
    with opened_disk(target.path, sector) as source:
        result = search_result(source, progress)
        inside = [
            row
            for volume, plain in plain_volumes(source, _locked(source, result), KeyRing(secret))
            for row in _inside(source, volume, plain, progress)
        ]
    return msgspec.structs.replace(result, found=(*result.found, *inside))


def _locked(source: Source, result: SearchResult) -> Sequence[Volume]:
    """The locked volumes among those that were found."""
    size = source.bytes_per_sector
    found = [
        msgspec.structs.replace(
            volume_at(source, Lba(row.start), SectorCount(row.bytes // size)),
            number=row.listed or number,
        )
        for number, row in enumerate(result.found, 1)
        if KINDS[FilesystemKind(row.filesystem)].is_locked
    ]
    return found[:_MOST_LOCKED]


def _inside(
    source: Source, volume: Volume, plain: PlainVolume, progress: Progress
) -> Iterator[FoundResult]:
    """What lies in the plain bytes of a volume: they are laid over their locked ones, so that a
    volume that knows its own place is right about it.
    """
    lock = Lock()  # the search reads in several threads, which a cipher does not bear

    def view(offset: int, length: int) -> bytes:
        with lock:
            return plain.read(offset, length)

    over = OverlaidSource(source, volume.offset, plain.bytes, view)
    found = search(over, progress, [(int(volume.offset), plain.bytes)])
    for row in found_results(found, source.bytes_per_sector, {}):
        yield msgspec.structs.replace(row, start=row.start - volume.start, inside=volume.start)
