"""The contents of files inside volumes, through pytsk3. Tables, boot sectors and chains are read by our own code."""

from typing import Any

import msgspec

from mending.disk import volume_reader
from mending.disk.apart import Apart, GaveUpError
from mending.disk.volumes import Volume
from mending.formats import fat
from mending.model import InputError, Patch, clean_text
from mending.model.limits import FILE_BYTES
from mending.source import PatchedSource, Source

_CASELESS = {"fat12", "fat16", "fat32", "ntfs"}
_LIBRARY_NAMES = {"fat12": "FAT12", "fat16": "FAT16", "fat32": "FAT32", "ntfs": "NTFS", "ext": "EXT_DETECT"}


class FilesUnavailableError(InputError):
    """The files of this volume cannot be read; `says` tells why. Never a reason to call a file missing."""


class FileFound(msgspec.Struct, frozen=True):
    """One file or folder.

    Attributes:
        path: as it is written on the volume.
        bytes: its length.
    """

    path: str
    bytes: int
    is_folder: bool


class Files:
    """Read-only look into one volume. Use `open_files` to make one."""

    def __init__(self, source: Source, reader: Apart, caseless: bool) -> None:
        self._source = source
        self._reader = reader
        self._caseless = caseless
        self._before = source.bytes_read
        self._listings: dict[str, list[FileFound]] = {}

    def find(self, path: str) -> FileFound | None:
        """The file or folder at `path`, or None. Raises FilesUnavailableError where damage hides it."""
        found = FileFound("/", 0, True)
        for name in path.strip("/").split("/"):
            wanted = self._key(f"{found.path.rstrip('/')}/{name}")
            inside = self.listing(found.path) if found.is_folder else []
            match = next((one for one in inside if self._key(one.path) == wanted), None)
            if match is None:
                return None
            found = match
        return found

    def _key(self, path: str) -> str:
        return path.casefold() if self._caseless else path

    def listing(self, folder: str = "/") -> list[FileFound]:
        """What a folder holds, without deleted entries. Raises FilesUnavailableError."""
        if folder not in self._listings:
            rows = self._ask("listing", folder)
            top = folder.rstrip("/")
            self._listings[folder] = [FileFound(f"{top}/{name}", size, is_folder) for name, size, is_folder in rows]
        return self._listings[folder]

    def read(self, found: FileFound, limit: int = FILE_BYTES) -> bytes:
        """At most `limit` bytes of a file. Raises FilesUnavailableError."""
        data: bytes = self._ask("read", found.path, min(found.bytes, limit)) if found.bytes else b""
        return data

    def _ask(self, method: str, *words: object) -> Any:
        try:
            answer, read = self._reader.call(method, *words)
        except GaveUpError as error:
            says = "Files of this volume cannot be read: damage keeps the reader from coming to an end."
            raise FilesUnavailableError(says) from error
        except OSError as error:
            reason = clean_text(str(error).splitlines()[0] if str(error) else "unknown reason", 160)
            raise FilesUnavailableError(f"Files of this volume cannot be read: {reason}") from error
        except InputError as error:
            raise FilesUnavailableError(error.says, error.hint) from error
        self._source.count_read(read - self._before)  # read in the other process
        self._before = read
        return answer


def can_read_files() -> bool:
    """Whether the extra `files` is installed; without it nothing is known about any file."""
    return volume_reader.available()


def open_files(source: Source, volume: Volume) -> Files:
    """Look into a volume whose boot sector can be read.

    Raises:
        FilesUnavailableError: a file system we cannot read, a damaged one, or the extra `files` is missing.
    """
    if not can_read_files():
        says = "Files inside volumes cannot be read here."
        raise FilesUnavailableError(says, "Install mending with its extra `files`.")
    if volume.filesystem not in _LIBRARY_NAMES:
        raise FilesUnavailableError(f"Volume {volume.number} holds no file system that can be read here.")
    if not volume.boot.readable:
        says = f"The boot sector of volume {volume.number} is damaged, so its files cannot be read yet."
        raise FilesUnavailableError(says)
    legible, kind = _legible(source, volume), _LIBRARY_NAMES[volume.filesystem]
    files = Files(
        source,
        Apart(lambda: volume_reader.VolumeReader(legible, volume.offset, kind)),
        volume.filesystem in _CASELESS,
    )
    files.listing("/")  # so that a volume whose root cannot be read counts as one that cannot be opened
    return files


def _legible(source: Source, volume: Volume) -> Source:
    """The source as the library wants it: it reads no FAT volume without signature and media byte, firmware does."""
    if volume.boot.sound:
        return source
    data = volume.boot.data
    whole = fat.COMMON.patch(data, signature=0xAA55, media=0xF8)
    return PatchedSource(source, [Patch(volume.offset, data, whole, "for reading only")])
