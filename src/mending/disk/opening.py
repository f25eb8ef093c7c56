"""Disks, mounted trees and moments of the past, opened by what a person calls them."""

import re
import stat
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from mending.disk.layout import disk_at_moment, settle_sector_size
from mending.model import RefusedError, UsageError
from mending.source import FileSource, FolderSource, Target, open_folder_source, open_source

_MOMENT = re.compile(r"(.+)@([0-9]{1,18})", re.DOTALL)


@contextmanager
def opened_target(
    path: str, sector: int | None = None, for_writing: bool = False
) -> Iterator[FileSource | FolderSource]:
    """A disk as `opened_disk` gives it, or a mounted tree where the path is a folder."""
    if Path(path).is_dir():
        tree = open_folder_source(path, for_writing=for_writing)
        try:
            yield tree
        finally:
            tree.close()
        return
    if moment_of(path)[1] is not None:
        raise RefusedError(f"{path} is a moment of the past, which is only read.")
    with opened_disk(path, sector, for_writing) as source:
        yield source


@contextmanager
def opened_to_read(path: str, sector: int | None = None) -> Iterator[Target]:
    """A target as `opened_target` gives it; `DISK@N` is the disk as it was at the moment N that it
    keeps itself.

    Raises:
        InputError
    """
    disk, number = moment_of(path)
    if number is None:
        with opened_target(path, sector) as target:
            yield target
        return
    with opened_disk(disk, sector) as source:
        yield disk_at_moment(source, number)


def moment_of(path: str) -> tuple[str, int | None]:
    """The disk and the number of a moment in `DISK@N`; no number for other names."""
    match = _MOMENT.fullmatch(path) if not Path(path).exists() else None
    return (match.group(1), int(match.group(2))) if match else (path, None)


def refuse_named_twice(paths: Iterable[str]) -> None:
    """Raise UsageError where two names lead to one disk; what is not there is said when opened."""
    seen = set[tuple[int, int]]()
    for path in paths:
        try:
            found = Path(path).stat()
        except OSError:
            continue
        known = (0, found.st_rdev) if stat.S_ISBLK(found.st_mode) else (found.st_dev, found.st_ino)
        if known in seen:
            raise UsageError(f"{path} is named twice.", "Name each disk of the PC once.")
        seen.add(known)


@contextmanager
def opened_disk(
    path: str, sector: int | None = None, for_writing: bool = False
) -> Iterator[FileSource]:
    """A disk whose sector size is settled; closed at the end."""
    with open_source(path, bytes_per_sector=sector, for_writing=for_writing) as source:
        source.bytes_per_sector = settle_sector_size(source, sector)
        yield source
