"""Secrets in what is gathered of a disk, found by the fields of the files that hold them, and
crossed out wherever they stand: in the blocks of the file, in the inode or tree leaf of a small
one, in a journal or a log.
"""

import contextlib
import re
from collections.abc import Iterator

from mending.boot.chain import BootEnvironment
from mending.disk.files import FileFound, FilesUnavailableError
from mending.disk.system import private_files, private_spans
from mending.disk.volume import Volume
from mending.source import Source
from mending.source.archive import noting
from mending.source.imaging import ByteRanges

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
