"""Gathering what diagnosis needs of a disk into one file that can be sent.

What belongs into it is not guessed: the disk is traced and its records are read while every read is
noted, and what was read is what is kept. So the same questions get the same answers from the
bundle. What accounts keep secret does not go along: hives with accounts' secrets keep their first
block alone, and the fields of files that may hold a secret are crossed out, but for what is known
to be harmless (`disk/system/private_fields.py`): where they stand on the disk, and wherever else
the same bytes were read.
"""

import contextlib
import hashlib
import re
from collections.abc import Iterator
from pathlib import Path

import msgspec

from mending.app.evidence import read_crashes
from mending.app.targets import CRASHES, TRACE, NamedTarget, named
from mending.boot.chain import BootEnvironment, Trace
from mending.boot.nt import LOGS
from mending.boot.trace import open_environment, trace_environment
from mending.crash.read import log_files
from mending.crash.results import CrashesResult
from mending.disk.files import FileFound, FilesUnavailableError
from mending.disk.opening import moment_of, opened_target
from mending.disk.system import private_files, private_spans
from mending.disk.volume import Volume
from mending.model import NotGatheredError, RefusedError, encode_json, format_json
from mending.source import FileSource, Output, Source
from mending.source.archive import (
    INDEX,
    BundledFile,
    BundleIndex,
    BundleRange,
    bytes_packed,
    in_pieces,
    is_bundle,
    new_archive,
    noting,
)
from mending.source.imaging import ByteRanges

# Secrets in what is gathered of a disk, found by the fields of the files that hold them, and
# crossed out wherever they stand: in the blocks of the file, in the inode or tree leaf of a small
# one, in a journal or a log.


HOME = "system32/config"
MOST_SUMMED = 64 << 20
"""Bytes of a file that is read whole."""
_KNOWN_ANYWHERE = 6
"""Bytes from which a secret is crossed out wherever it stands: shorter ones stand in anything."""
_MANAGER_MENUS = ("boot/grub/grub.cfg", "grub/grub.cfg", "boot/grub2/grub.cfg", "grub2/grub.cfg")
_SETTINGS = "software"
_LONGEST = 1024
"""Bytes to both sides of a piece within which a secret may begin or end."""


def extents_of(
    environment: BootEnvironment, volume: Volume, found: FileFound
) -> list[tuple[int, int]]:
    """Where a file stands on its volume; nothing for one that does not stand there as it reads."""
    try:
        return environment.files(volume).extents(found) or []
    except FilesUnavailableError:
        return []


def read_alone(
    environment: BootEnvironment, volume: Volume, found: FileFound, path: str
) -> ByteRanges:
    """What is read of the disk for a file whose bytes do not stand there as they read."""
    with noting(path) as own, contextlib.suppress(FilesUnavailableError):
        environment.files(volume).read(found, MOST_SUMMED)
    return own


class Secrets:
    """What is crossed out: places on the disk, and bytes wherever they stand."""

    def __init__(self) -> None:
        self.places = ByteRanges()
        self._known = set[bytes]()
        self._anywhere: re.Pattern[bytes] | None = None

    def add(self, secret: bytes) -> None:
        """Cross some bytes out wherever they stand."""
        if len(secret) >= _KNOWN_ANYWHERE:
            self._known.add(secret[:_LONGEST])
            longest = sorted(self._known, key=len, reverse=True)
            self._anywhere = re.compile(b"|".join(map(re.escape, longest)))

    def masked(self, source: Source, at: int, length: int) -> bytes:
        """Bytes of the disk, crossed out."""
        first = max(at - _LONGEST, 0)
        data = source.read(first, at - first + length + _LONGEST).data
        if self._anywhere is not None:
            data = self._anywhere.sub(lambda found: b"x" * len(found.group()), data)
        held = bytearray(data)
        for start, end in self.places.inside(first, first + len(data)):
            held[start - first : end - first] = b"x" * (end - start)
        return bytes(held[at - first :][:length])


def secrets_in(environment: BootEnvironment, noted: ByteRanges, path: str) -> Secrets:
    """The secrets of all systems on a disk. A file that does not stand on the disk as it reads,
    because it is packed, is left out with all that is read for it.
    """
    secrets = Secrets()
    for volume in environment.volumes:
        for found in _private_files(environment, volume):
            try:
                data = environment.files(volume).read(found, MOST_SUMMED)
            except FilesUnavailableError:
                continue
            spans = private_spans(found.path, data)
            extents = extents_of(environment, volume, found)
            for start, end in spans:
                secrets.add(data[start:end])
                for first, last in _on_disk(extents, start, end):
                    secrets.places.add(volume.offset + first, volume.offset + last)
            if spans and not extents and not _stands_plain(environment, volume, found, path, data):
                for first, last in read_alone(environment, volume, found, path):
                    noted.remove(first, last)
    return secrets


def _private_files(environment: BootEnvironment, volume: Volume) -> Iterator[FileFound]:
    """The files of a volume that may hold secrets and that diagnosis reads."""
    if volume.extended:
        return
    try:
        files = environment.files(volume)
        wanted = [*private_files(), *_MANAGER_MENUS]
        for top in files.listing():
            if top.is_folder:
                wanted.append(f"{top.path}/{HOME}/{_SETTINGS}")
                wanted += [f"{top.path}/{name}" for name in private_files()]  # a subvolume
        for name in wanted:
            found = files.find(name)
            if found is not None and not found.is_folder and found.bytes:
                yield found
    except FilesUnavailableError:
        return


def _on_disk(extents: list[tuple[int, int]], start: int, end: int) -> Iterator[tuple[int, int]]:
    """Where a part of a file stands on its volume."""
    at = 0
    for offset, length in extents:
        first, last = max(start, at), min(end, at + length)
        if first < last:
            yield offset + first - at, offset + last - at
        at += length


def _stands_plain(
    environment: BootEnvironment, volume: Volume, found: FileFound, path: str, data: bytes
) -> bool:
    """Whether a file without blocks of its own stands in what is read for it as it reads."""
    if environment.disk is None:
        return False
    source = environment.disk.source
    return any(
        data in source.read(start, min(end - start, MOST_SUMMED)).data
        for start, end in read_alone(environment, volume, found, path)
    )


LIMIT = 20 << 20
"""Bytes of a bundle, unless somebody wants more."""
_LARGE = 4 << 20
"""What lies together in more bytes than this goes in last: kernels and their archives."""
_SECRET_HIVES = ("SAM", "SECURITY")
_SECRETS = (*_SECRET_HIVES, *(f"{hive}{end}" for hive in _SECRET_HIVES for end in LOGS))
_KEPT_OF_SECRETS = 4096
_BOOT_FOLDERS = ("/boot", "/loader", "/EFI", "/grub")
_MOST_LISTED = 2000
_LIMIT_LEAST = 1 << 20


class GatherResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="gather/1"):
    """The bundle that was written.

    Attributes:
        ranges: how many; kept_bytes: of the disk, in all.
        listed: files of the system partitions that are listed.
        left_out: what diagnosis read and the bundle does not hold.
        answers: whether a trace of the bundle reads all it needs in it; where not, it gives the
            answer that the disk gave.
    """

    file: str
    bytes: int
    sha256: str
    ranges: int
    kept_bytes: int
    listed: int
    left_out: tuple[str, ...]
    answers: bool


def gather(target: NamedTarget, out: Output, limit: int = LIMIT) -> GatherResult:
    """Write a bundle.

    Args:
        limit: bytes that it may have at most.

    Raises:
        RefusedError: no disk, or one that was gathered already.
        InputError: the disk cannot be read, or the bundle not be written.
    """
    path = target.path
    refuse_no_disk(path, limit)
    with noting(path) as noted:
        with opened_target(path) as source:
            environment = open_environment(source)
            trace = trace_environment(source, environment, target.firmware, target.boot_options)
        crashes = read_crashes(path, log_files(Path(path)), path)
    with opened_target(path) as source:
        assert isinstance(source, FileSource)
        index = _written(source, noted, trace, crashes, out, limit)
        answers = _answers_alike(out.path, trace, target)
        if not answers:
            ours = Output(out.path, out.never, True, lambda _: True)  # we just wrote it
            index = _written(source, noted, trace, crashes, ours, limit, crossed_out=True)
    data = out.path.read_bytes()
    return GatherResult(
        file=str(out.path),
        bytes=len(data),
        sha256=hashlib.sha256(data).hexdigest(),
        ranges=len(index.ranges),
        kept_bytes=sum(each.length for each in index.ranges),
        listed=len(index.listing),
        left_out=index.left_out,
        answers=answers,
    )


def refuse_no_disk(path: str, limit: int = LIMIT) -> None:
    """Raise RefusedError for what cannot be gathered."""
    if Path(path).is_dir() or moment_of(path)[1] is not None or is_bundle(Path(path)):
        raise RefusedError(
            f"{path} is no disk: only a disk or an image of one is gathered.",
            "Of a mounted system gather the disk that it is mounted from.",
        )
    if limit < _LIMIT_LEAST:
        raise RefusedError("A bundle needs at least 1 MB.")


def _written(
    source: FileSource,
    noted: ByteRanges,
    trace: Trace,
    crashes: CrashesResult,
    out: Output,
    limit: int,
    *,
    crossed_out: bool = False,
) -> BundleIndex:
    environment = open_environment(source)
    left_out = _without_secrets(environment, noted, source.path)
    secrets = secrets_in(environment, noted, source.path)
    name = Path(source.path).name
    documents = {
        TRACE: encode_json(named(trace, name)),
        CRASHES: encode_json(msgspec.structs.replace(crashes, target=name)),
    }
    listing = tuple(_listing(environment))
    spent = sum(map(bytes_packed, documents.values())) + 200 * len(listing)
    chosen, dropped = _chosen(source, noted, limit - spent, secrets)
    if dropped:
        left_out.append(f"{dropped} bytes of large files, which did not fit into the limit")
    ranges = [
        BundleRange(at, length, hashlib.sha256(secrets.masked(source, at, length)).hexdigest())
        for at, length in chosen
    ]
    index = BundleIndex(
        name=name,
        bytes=source.size,
        sector=source.bytes_per_sector,
        ranges=tuple(ranges),
        listing=listing,
        left_out=tuple(left_out),
        documents={each: hashlib.sha256(data).hexdigest() for each, data in documents.items()},
        crossed_out=crossed_out,
    )
    with new_archive(out) as archive:
        archive.put(INDEX, format_json(index))
        for each, data in documents.items():
            archive.put(each, data)
        for number, kept in enumerate(ranges):
            archive.put(f"range-{number}.bin", secrets.masked(source, kept.offset, kept.length))
    return index


def _chosen(
    source: Source, noted: ByteRanges, room: int, secrets: Secrets
) -> tuple[list[tuple[int, int]], int]:
    """The pieces that fit, small things first, in order of their offset; and how many bytes did
    not.
    """
    large = [end - start > _LARGE for start, end in noted]
    starts = [start for start, _ in noted]
    pieces = in_pieces(noted, source.size, source.bytes_per_sector)
    is_large = {start for start, big in zip(starts, large, strict=True) if big}
    spans = [(start, end) for start, end in noted if start in is_large]
    ordered = sorted(pieces, key=lambda piece: any(start <= piece[0] < end for start, end in spans))
    chosen, dropped = [], 0
    for at, length in ordered:
        packed = bytes_packed(secrets.masked(source, at, length)) + 250
        if packed > room:
            dropped += length
            continue
        room -= packed
        chosen.append((at, length))
    return sorted(chosen), dropped


def _without_secrets(environment: BootEnvironment, noted: ByteRanges, path: str) -> list[str]:
    """Take hives with accounts' secrets out of what was noted; says which."""
    told = []
    for volume in environment.volumes:
        for found in _secret_hives(environment, volume):
            extents = extents_of(environment, volume, found)
            for offset, length in extents:
                at = volume.offset + offset
                noted.remove(at, at + length)
            if not extents and found.bytes:
                for start, end in read_alone(environment, volume, found, path):
                    noted.remove(start, end)
                told.append(f"volume {volume.number}: {found.path}, which is packed")
            elif extents and not found.path.upper().endswith(_SECRET_HIVES):
                told.append(f"volume {volume.number}: {found.path}")
            elif extents:
                first = volume.offset + extents[0][0]
                noted.add(first, first + min(_KEPT_OF_SECRETS, extents[0][1]))
                told.append(f"volume {volume.number}: {found.path}, but for its first block")
    return told


def _secret_hives(environment: BootEnvironment, volume: Volume) -> Iterator[FileFound]:
    try:
        files = environment.files(volume)
        tops = [each for each in files.listing() if each.is_folder]
        for top in tops:
            home = files.find(f"{top.path}/{HOME}")
            if home is None or not home.is_folder:
                continue
            inside = [each.path for each in files.listing(home.path) if each.is_folder]
            for folder in [home.path, *inside]:
                found = [files.find(f"{folder}/{name}") for name in _SECRETS]
                yield from (each for each in found if each is not None)
    except FilesUnavailableError:
        return


def _listing(environment: BootEnvironment) -> Iterator[BundledFile]:
    """The files of EFI system partitions and of folders that only starting is in, with their sums.
    Other names are somebody's business.
    """
    count = 0
    for volume in environment.volumes:
        if volume.extended:
            continue
        try:
            for found in _walked(environment, volume, ("/",) if volume.efi else _BOOT_FOLDERS):
                count += 1
                if count > _MOST_LISTED:
                    return
                yield _listed(environment, volume, found)
        except FilesUnavailableError:
            continue


def _walked(
    environment: BootEnvironment, volume: Volume, tops: tuple[str, ...]
) -> Iterator[FileFound]:
    """Every file below some folders of a volume, a folder at a time; links are not followed."""
    files, seen = environment.files(volume), set[str]()
    homes = [files.find(top) for top in tops]
    waiting = [home.path for home in homes if home is not None and home.is_folder]
    while waiting and len(seen) < _MOST_LISTED:
        folder = waiting.pop(0)
        if folder in seen:
            continue
        seen.add(folder)
        for found in files.listing(folder):
            if found.is_folder and not found.is_link:
                waiting.append(found.path)
            elif not found.is_link:
                yield found


def _listed(environment: BootEnvironment, volume: Volume, found: FileFound) -> BundledFile:
    digest = ""
    try:
        if 0 <= found.bytes <= MOST_SUMMED:
            data = environment.files(volume).read(found, MOST_SUMMED)
            digest = hashlib.sha256(data).hexdigest()
    except FilesUnavailableError:
        digest = ""
    return BundledFile(volume.number, found.path, found.bytes, digest)


def _answers_alike(out: Path, trace: Trace, target: NamedTarget) -> bool:
    """Whether a trace of the bundle finds all it needs in it, and says the same."""
    try:
        with opened_target(str(out)) as source:
            environment = open_environment(source)
            again = trace_environment(source, environment, target.firmware, target.boot_options)
    except NotGatheredError:
        return False
    return named(again, "") == named(trace, "")
