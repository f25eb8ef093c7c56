"""Copying a failing drive: what starts the PC, what its owner needs, then the rest."""

import time
from collections.abc import Callable

import msgspec

from mending.app.opening import opened_disk
from mending.boot.trace import open_environment, trace_environment
from mending.disk.imaging import (
    CopyingSource,
    DriveGoneError,
    Holdings,
    Progress,
    Regions,
    Worth,
    fetch_all,
    find_holdings,
)
from mending.knowledge.families import FileWishes, wishes_of
from mending.model import InputError, ReadError, RefusedError
from mending.source import Source, TargetKind
from mending.source.drive_health import DriveHealth, drive_health, lies_on
from mending.source.imaging import ByteRanges, GrowingImage, ReadingHeader, open_image

_MOST_WALKS, _SAMPLES = 4, 8
"""Walks of the file systems, and places by which a drive is known again."""
_UNREAD_FILES = 1000
Told = Callable[[Progress], None]
Verified = Callable[[int, int], None]
"""Is given how many bytes were checked, of how many."""


class PartResult(msgspec.Struct, frozen=True, kw_only=True):
    """Files of one worth: `asked-for` or `others`; how many, their bytes, and what is safe."""

    what: str
    files: int
    bytes: int
    safe_files: int
    safe_bytes: int


class UnreadFile(msgspec.Struct, frozen=True, kw_only=True):
    """A file of which not all is safe."""

    path: str
    volume: int
    bytes: int
    safe_bytes: int
    asked_for: bool


class CopyResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="copy/1"):
    """How far a copy is. `asked` is how many bytes the drive was asked for this time, `unread` what
    is safe of no effort yet; `stopped` says why it ended before its end, None where it did not.
    `unseen`: folders and volumes that could not be walked.
    """

    drive: str
    image: str
    record: str
    bytes: int
    safe: int
    unread: int
    asked: int
    parts: tuple[PartResult, ...]
    unread_files: tuple[UnreadFile, ...]
    unseen: tuple[str, ...]
    health: DriveHealth | None
    stopped: str | None


def copy_drive(
    drive: str,
    image: str,
    first: tuple[str, ...],
    effort: int,
    told: Told,
    sector: int | None = None,
    verified: Verified | None = None,
) -> CopyResult:
    """Copy a drive, or go on with a copy that was begun.

    Args:
        first: folders, suffixes or kinds of files that come first; none for those of persons.
        effort: how often a piece that fails is tried again.
        verified: where given, what is in the image is read again first; what is not any more what
            the drive gave is read of it anew.

    Raises:
        UsageError: an unknown kind of files.
        RefusedError: the image would lie on the drive, or is of another one.
        InputError: the drive cannot be opened, or the image not be written.
    """
    wishes = wishes_of(first)
    with opened_disk(drive, sector) as source:
        if source.kind is TargetKind.DEVICE and lies_on(drive, image):
            raise RefusedError(f"{image} would lie on {drive} itself.", "Name a place elsewhere.")
        header = ReadingHeader(
            drive=drive,
            bytes=source.size,
            sector=source.bytes_per_sector,
            serial=source.serial,
        )
        growing = open_image(image, header)
        try:
            _refuse_another(source, growing)
            if verified is not None:
                _lose_what_differs(growing, verified)
            return copy_into(source, growing, wishes, effort, told)
        finally:
            growing.close()


def _refuse_another(drive: Source, growing: GrowingImage) -> None:
    """What is in the image was read of the drive that was under this name then. A few places of it
    are read again of the drive; where they answer and differ, it is another one.

    Raises:
        RefusedError
    """
    safe = growing.record.safe
    step = max(safe.total // _SAMPLES, drive.bytes_per_sector)
    compared = 0
    for start, end in safe:
        for at in range(start, end, max(step, drive.bytes_per_sector)):
            place = at // drive.bytes_per_sector * drive.bytes_per_sector
            kept = growing.read(place, min(drive.bytes_per_sector, end - place))
            if place < start or not kept.strip(b"\0") or compared >= _SAMPLES:
                continue
            try:
                now = drive.read(place, len(kept)).data
            except ReadError:
                continue  # a failing drive: it says nothing here
            compared += 1
            if now != kept:
                raise RefusedError(
                    f"{drive.path} is not the drive that {growing.path} was begun from: at offset"
                    f" {place} it holds something else.",
                    "Plug the other drive in, or choose another name for the image.",
                )


def _lose_what_differs(growing: GrowingImage, verified: Verified) -> None:
    done, summed = 0, sum(end - start for start, end, _ in growing.record.sums)
    for start, end, differs in growing.differing():
        if differs:
            growing.lose(start, end - start)
        done += end - start
        verified(done, summed)


def copy_into(
    drive: Source,
    growing: GrowingImage,
    wishes: FileWishes,
    effort: int,
    told: Told,
    clock: Callable[[], float] = time.monotonic,
) -> CopyResult:
    """The copy itself, of an opened drive into an opened image. Raises InputError where the image
    cannot be written.
    """
    regions = Regions()
    source = CopyingSource(drive, growing, regions, clock)
    holdings, stopped = Holdings([], [], [], ByteRanges()), None
    try:
        _keep_holes(drive, growing)
        _trace(source)
        holdings = find_holdings(source, wishes)
        for walk in range(_MOST_WALKS):
            stretches = holdings.stretches(source.size, source.wanted_in_vain)
            done = fetch_all(source, stretches, effort, told, may_stop=walk < _MOST_WALKS - 1)
            if not done.again:
                break
            source.forget_in_vain()
            holdings = find_holdings(source, wishes)
    except DriveGoneError as error:
        stopped = f"{error.says} {error.hint}"
    except KeyboardInterrupt:
        stopped = "It was stopped; the same command goes on where it was."
    growing.settle()
    return _result(drive, growing, holdings, regions, stopped)


def _keep_holes(drive: Source, growing: GrowingImage) -> None:
    """What a sparse image does not hold is zeros."""
    if drive.kind is not TargetKind.IMAGE:
        return
    at = 0
    for start, length in [*drive.data_ranges(), (drive.size, 0)]:
        for first, last in list(growing.record.safe.gaps(at, start)):
            growing.keep_hole(first, last - first)
        at = start + length


def _trace(source: CopyingSource) -> None:
    """Read what a start reads: then it is safe."""
    try:
        trace_environment(source, open_environment(source))
    except InputError:
        source.refuse_gone()  # what cannot be read waits for a harder try


def _result(
    drive: Source,
    growing: GrowingImage,
    holdings: Holdings,
    regions: Regions,
    stopped: str | None,
) -> CopyResult:
    safe = growing.record.safe
    unread: list[UnreadFile] = []
    tally = {worth: [0, 0, 0, 0] for worth in (Worth.WANTED, Worth.FILES)}
    for file in holdings.files:
        length = sum(end - start for start, end in file.ranges)
        kept = sum(safe.count_inside(start, end) for start, end in file.ranges)
        row = tally[file.worth]
        row[0] += 1
        row[1] += length
        row[2] += kept == length
        row[3] += kept
        if kept != length and len(unread) < _UNREAD_FILES:
            asked_for = file.worth is Worth.WANTED
            unread.append(
                UnreadFile(
                    path=file.path,
                    volume=file.volume,
                    bytes=length,
                    safe_bytes=kept,
                    asked_for=asked_for,
                )
            )
    names = {Worth.WANTED: "asked-for", Worth.FILES: "others"}
    parts = tuple(
        PartResult(
            what=names[worth], files=row[0], bytes=row[1], safe_files=row[2], safe_bytes=row[3]
        )
        for worth, row in tally.items()
    )
    return CopyResult(
        drive=drive.path,
        image=growing.path,
        record=f"{growing.path}.reading",
        bytes=drive.size,
        safe=safe.total,
        unread=drive.size - safe.total,
        asked=regions.asked,
        parts=parts,
        unread_files=tuple(sorted(unread, key=lambda file: (not file.asked_for, file.path))),
        unseen=tuple(holdings.unseen),
        health=drive_health(drive.path) if drive.kind is TargetKind.DEVICE else None,
        stopped=stopped,
    )
