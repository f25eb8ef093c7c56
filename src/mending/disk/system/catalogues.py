"""Catalogues of a system of the nt family: lists of digests by which files are known that carry no
signature of their own.
"""

from collections.abc import Iterator

from mending.disk.files import FileFound, Files, FilesUnavailableError
from mending.formats.executable import signatures

_MOST_CATALOGUES, _MOST_BYTES, _DEEPEST = 20_000, 1 << 30, 3
_CATALOGUE_BYTES = 16 << 20
_MOST_DIGESTS = 2_000_000
"""Several times what a system has; they take a few hundred megabytes. What stands in catalogues
behind that many is not known."""


class Catalogues:
    """The digests that the catalogues of a system list, read when they are asked for the first
    time.

    Args:
        files: of the system's volume; None where they cannot be read.
        folder: below which the catalogues are.
    """

    def __init__(self, files: Files | None, folder: str) -> None:
        self._files, self._folder = files, folder
        self._known: frozenset[bytes] | None = None
        self.count = 0

    def know(self, data: bytes) -> bool:
        """Whether a program is listed: by the digest that signatures take, or, as older lists have
        it, by SHA-1 of it.
        """
        known = self._digests()
        return bool(known) and not known.isdisjoint(signatures.listed_as(data))

    def _digests(self) -> frozenset[bytes]:
        if self._known is None:
            found: set[bytes] = set()
            for data in self._read():
                digests = signatures.catalogue_digests(data)
                self.count += bool(digests)
                found |= digests
                if len(found) > _MOST_DIGESTS:
                    break
            self._known = frozenset(found)
        return self._known

    def _read(self) -> Iterator[bytes]:
        """The files below the folder of catalogues; what is damaged is left out."""
        files = self._files
        if files is None:
            return
        try:
            home = files.find(self._folder)
        except FilesUnavailableError:
            return
        left = _MOST_BYTES
        for found in _below(files, home, _DEEPEST) if home is not None and home.is_folder else ():
            if found.bytes > min(_CATALOGUE_BYTES, left):
                continue
            left -= found.bytes
            try:
                yield files.read(found, _CATALOGUE_BYTES)
            except FilesUnavailableError:
                continue


def _below(files: Files, folder: FileFound, depth: int) -> Iterator[FileFound]:
    try:
        inside = files.listing(folder.path)[:_MOST_CATALOGUES]
    except FilesUnavailableError:
        return
    for found in inside:
        if not found.is_folder:
            yield found
        elif depth:
            yield from _below(files, found, depth - 1)
