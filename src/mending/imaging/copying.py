"""Copying a failing drive: what starts the PC, what its owner needs, then the rest."""

import heapq
import time
from collections.abc import Callable, Iterable

import msgspec

from mending.boot.trace import open_environment, trace_environment
from mending.disk.opening import opened_disk
from mending.imaging.drive import CopyingSource, DriveGoneError, Regions
from mending.imaging.worth import Holdings, Stretch, Worth, find_holdings
from mending.knowledge.families import FileWishes, wishes_of
from mending.model import InputError, ReadError, RefusedError
from mending.source import Source, TargetKind
from mending.source.devices import DriveHealth, drive_health, lies_on
from mending.source.imaging import ByteRanges, GrowingImage, ReadingHeader, open_image

# The rest of a drive, piece by piece: a queue of stretches, of which the one that promises most is
# next.
#
# A read that fails is cut smaller and comes again when everything better is safe; a region that
# failed or was slow waits behind others of the same worth.


_QUEUED = 16 << 20
"""Longest stretch that waits in one piece: odds differ along it."""
_WORDS = {
    Worth.START: "what starts the PC",
    Worth.STRUCTURES: "file system structures",
    Worth.WANTED: "files asked for",
    Worth.FILES: "other files",
    Worth.USED: "else in use",
    Worth.UNKNOWN: "outside of volumes",
    Worth.REST: "free space",
}


class Progress(msgspec.Struct, frozen=True):
    """How far it is: bytes safe and in all; in words, what is being read, and how much of it is
    safe.
    """

    safe: int
    total: int
    says: str


Told = Callable[[Progress], None]


class _Tally:
    """How much of each part is to be fetched, and how much came."""

    def __init__(self) -> None:
        self._wanted = dict.fromkeys(Worth, 0)
        self._came = dict.fromkeys(Worth, 0)

    def expect(self, worth: Worth, count: int) -> None:
        self._wanted[worth] += count

    def came(self, worth: Worth, count: int) -> None:
        self._came[worth] += count

    def says(self, worth: Worth, effort: int) -> str:
        """What is being read, in words."""
        share = self._came[worth] / max(self._wanted[worth], 1)
        return f"{_WORDS[worth]}{' again' if effort else ''}: {share:.0%} safe"


class Copied(msgspec.Struct, frozen=True):
    """How it ended. `again`: structures came that had failed before, so that there may be more to
    find.
    """

    safe: int
    again: bool


def fetch_all(
    source: CopyingSource,
    stretches: Iterable[Stretch],
    most_effort: int,
    told: Told,
    *,
    may_stop: bool = False,
) -> Copied:
    """Fetch everything that is not safe yet.

    Args:
        most_effort: how often a piece is tried again, each time in smaller bites.
        told: is told how far it is.
        may_stop: as soon as a structure comes that had failed.

    Raises:
        DriveGoneError: the drive does not answer any more.
        InputError: the image cannot be written.
    """
    record, queue, tally = source.image.record, _Queue(source), _Tally()
    for stretch in stretches:
        tally.expect(stretch.worth, queue.put_missing(stretch))
    while (item := queue.take()) is not None:
        worth, start, end, effort = item
        if effort > most_effort:
            continue
        size = source.regions.bite(start, effort, source.bytes_per_sector)
        stop = min(end, start + size)
        came = False
        for first, last, wanted in list(source.missing(start, stop)):
            if wanted > effort:
                continue  # it waits elsewhere, for a harder try
            if source.fetch(first, last, effort):
                came = True
                tally.came(worth, last - first)
            else:
                queue.put(worth, first, last, effort + 1)
        queue.put(worth, stop, end, effort)
        told(Progress(record.safe.total, source.size, tally.says(worth, effort)))
        if came and effort and may_stop and worth is Worth.STRUCTURES:
            source.end()
            return Copied(record.safe.total, True)
    source.end()
    return Copied(record.safe.total, False)


class _Queue:
    """Stretches by what they promise. A score is looked at again when its turn comes, for its
    region may have answered since.
    """

    def __init__(self, source: CopyingSource) -> None:
        self._source = source
        self._heap: list[tuple[int, int, int, Worth, int]] = []

    def put_missing(self, stretch: Stretch) -> int:
        """What of a stretch is not safe, in pieces, each as hard as it has to be tried; gives how
        many bytes that is.
        """
        unit = self._source.bytes_per_sector
        start = stretch.start // unit * unit
        end = min(-(-stretch.end // unit) * unit, self._source.size)
        missing = list(self._source.missing(start, end))
        for first, last, effort in missing:
            for at in range(first, last, _QUEUED):
                self.put(stretch.worth, at, min(at + _QUEUED, last), effort)
        return sum(last - first for first, last, _ in missing)

    def put(self, worth: Worth, start: int, end: int, effort: int) -> None:
        """Put a piece in."""
        if start < end:
            score = self._source.regions.score(start, worth, effort)
            heapq.heappush(self._heap, (-score, start, end, worth, effort))

    def take(self) -> tuple[Worth, int, int, int] | None:
        """The best piece: worth, start, end, effort."""
        while self._heap:
            score, start, end, worth, effort = heapq.heappop(self._heap)
            now = -self._source.regions.score(start, worth, effort)
            if now > score and self._heap and now > self._heap[0][0]:
                heapq.heappush(self._heap, (now, start, end, worth, effort))
                continue
            return worth, start, end, effort
        return None


_MOST_WALKS, _SAMPLES = 4, 8
"""Walks of the file systems, and places by which a drive is known again."""
_UNREAD_FILES = 1000
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
