"""One open file with members: written whole or not at all, read with a bound for each member.

It is a ZIP (APPNOTE 6.3), so that anybody can look into it.
"""

import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from mending.model import InputError
from mending.source.output_file import Output
from mending.source.plain_file import open_plain

if TYPE_CHECKING:
    import zipfile  # lazy: it is slow, and a bare disk is no archive

_LEVEL = 1
_SAMPLE, _WORTH = 64 << 10, 0.9
"""What does not pack in its first bytes, as kernels do not, is stored as it is."""
_NO_TIME = (1980, 1, 1, 0, 0, 0)
"""The same members make the same file, whenever it is written."""


def _packs(data: bytes) -> bool:
    sample = data[:_SAMPLE]
    return len(zlib.compress(sample, _LEVEL)) < len(sample) * _WORTH


def bytes_packed(data: bytes) -> int:
    """How many bytes of an archive a member's content takes."""
    return len(zlib.compress(data, _LEVEL)) if _packs(data) else len(data)


class ArchiveWriter:
    """Takes members, one after the other."""

    def __init__(self, archive: "zipfile.ZipFile") -> None:
        self._archive = archive

    def put(self, name: str, data: bytes) -> None:
        """Add a member.

        Raises:
            OSError
        """
        import zipfile  # noqa: PLC0415 - lazy: see above

        info = zipfile.ZipInfo(name, _NO_TIME)
        how = zipfile.ZIP_DEFLATED if _packs(data) else zipfile.ZIP_STORED
        self._archive.writestr(info, data, how, _LEVEL)


@contextmanager
def new_archive(output: Output) -> Iterator[ArchiveWriter]:
    """A file that only its owner can read, and that has its name once it is whole on the medium.

    Raises:
        InputError: it cannot be written. RefusedError: the name is taken.
    """
    import zipfile  # noqa: PLC0415 - lazy: see above

    with output.opened() as file, zipfile.ZipFile(file, "w") as archive:
        yield ArchiveWriter(archive)


class ArchiveReader:
    """Members by name.

    Raises:
        InputError: no such file, or it is no archive.
    """

    def __init__(self, path: Path) -> None:
        import zipfile  # noqa: PLC0415 - lazy: see above

        self._path = path
        try:
            self._file = open_plain(path)
        except OSError as error:
            raise InputError(f"{path} cannot be read: {error.strerror}.") from error
        try:
            self._archive = zipfile.ZipFile(self._file)
        except (OSError, zipfile.BadZipFile, ValueError, NotImplementedError) as error:
            self._file.close()
            raise InputError(f"{path} is no archive that can be read.") from error

    def holds(self, name: str) -> bool:
        """Whether there is a member of that name."""
        return name in self._archive.NameToInfo

    def read(self, name: str, most: int) -> bytes:
        """A member of at most so many bytes.

        Raises:
            InputError: it is not there, too long or damaged.
        """
        import zipfile  # noqa: PLC0415 - lazy: see above

        try:
            info = self._archive.getinfo(name)
            with self._archive.open(info) as file:
                data = file.read(most + 1)
        except (KeyError, zipfile.BadZipFile, zlib.error, OSError) as error:
            raise InputError(f"{self._path} does not hold {name} whole.") from error
        except (RuntimeError, NotImplementedError, EOFError, ValueError) as error:
            raise InputError(f"{self._path} cannot be unpacked: {name}.") from error
        if len(data) > most:
            raise InputError(f"{name} in {self._path} is larger than it may be.")
        return data

    def close(self) -> None:
        """Let go of it."""
        self._archive.close()
        self._file.close()
