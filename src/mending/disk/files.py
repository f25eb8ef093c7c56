"""The contents of files inside volumes: FAT by our own reader, as firmware sees it, the others through pytsk3."""

from collections.abc import Callable
from typing import Any

import msgspec

from mending.disk import volume_reader
from mending.disk.apart import Apart, GaveUpError
from mending.disk.fat_reader import BrokenChainError, FatReader
from mending.disk.volumes import Volume
from mending.model import InputError, clean_text
from mending.model.limits import APART_SECONDS, FILE_BYTES, LINKS, PATIENT_SECONDS
from mending.source import Source, Tree

_OWN = {"fat12", "fat16", "fat32"}
_CASELESS = {*_OWN, "ntfs"}
_LIBRARY_NAMES = {"ntfs": "NTFS", "ext": "EXT_DETECT"}


class FilesUnavailableError(InputError):
    """The files of this volume cannot be read; `says` tells why. Never a reason to call a file missing."""


class FileDamagedError(FilesUnavailableError):
    """This one file cannot be read to its end; others can."""


class FileFound(msgspec.Struct, frozen=True):
    """One file or folder.

    Attributes:
        path: as it is written on the volume.
        bytes: its length.
        is_link: only where a link could not be followed, or was not asked to be.
        mode: permission bits; all of them where the file system keeps none.
    """

    path: str
    bytes: int
    is_folder: bool
    is_link: bool = False
    mode: int = 0o777


_PIECE = 4 * 1024 * 1024
"""How much of a large file is asked for at once: time is allowed by what was delivered."""
_TOP = FileFound("/", 0, True)


class Files:
    """Read-only look into one volume. Use `open_files` to make one."""

    def __init__(self, ask: Callable[..., Any], caseless: bool) -> None:
        self._reader = ask
        self._caseless = caseless
        self._listings: dict[str, list[FileFound]] = {}

    def find(self, path: str) -> FileFound | None:
        """The file or folder at `path`, links followed inside the volume, or None.

        Raises:
            FilesUnavailableError: damage hides it.
        """
        found, waiting, links = _TOP, [one for one in path.split("/") if one not in {"", "."}], 0
        while waiting:
            name = waiting.pop(0)
            if name == "..":
                found = self.find(found.path.rpartition("/")[0]) or _TOP
                continue
            wanted = self._key(f"{found.path.rstrip('/')}/{name}")
            inside = self.listing(found.path) if found.is_folder else []
            match = next((one for one in inside if self._key(one.path) == wanted), None)
            if match is None:
                return None
            if match.is_link:
                links += 1
                if links > LINKS:
                    return None
                target: str = self._ask("link", match.path)
                waiting = [one for one in target.split("/") if one not in {"", "."}] + waiting
                found = _TOP if target.startswith("/") else found
                continue
            found = match
        return found

    def is_link(self, path: str) -> bool:
        """Whether the last name of a path is a link, wherever it points. Raises FilesUnavailableError."""
        folder, _, name = path.strip("/").rpartition("/")
        home = self.find(folder)
        inside = self.listing(home.path) if home is not None and home.is_folder else []
        return any(one.is_link and self._key(one.path.rpartition("/")[2]) == self._key(name) for one in inside)

    def _key(self, path: str) -> str:
        return path.casefold() if self._caseless else path

    def listing(self, folder: str = "/") -> list[FileFound]:
        """What a folder holds, without deleted entries. Raises FilesUnavailableError."""
        if folder not in self._listings:
            rows = self._ask("listing", folder)
            top = folder.rstrip("/")
            self._listings[folder] = [FileFound(f"{top}/{name}", *rest) for name, *rest in rows]
        return self._listings[folder]

    def read(self, found: FileFound, limit: int = FILE_BYTES) -> bytes:
        """At most `limit` bytes of a file. Raises FileDamagedError, FilesUnavailableError."""
        data: bytes = self._ask("read", found.path, min(found.bytes, limit)) if found.bytes else b""
        return data

    def extents(self, found: FileFound) -> list[tuple[int, int]] | None:
        """Where the content of a file lies: offset in the volume and length in bytes, in order.

        None where it cannot be patched in place. Raises FilesUnavailableError.
        """
        where: list[tuple[int, int]] | None = self._ask("extents", found.path)
        return where

    def _ask(self, method: str, *words: object) -> Any:
        try:
            return self._reader(method, *words)
        except GaveUpError as error:
            says = "Files of this volume cannot be read: damage keeps the reader from coming to an end."
            raise FilesUnavailableError(says) from error
        except OSError as error:
            reason = clean_text(str(error).splitlines()[0] if str(error) else "unknown reason", 160)
            raise FilesUnavailableError(f"Files of this volume cannot be read: {reason}") from error
        except BrokenChainError as error:
            raise FileDamagedError(error.says) from error
        except InputError as error:
            raise FilesUnavailableError(error.says, error.hint) from error


def can_read_files() -> bool:
    """Whether the extra `files` is installed; without it nothing is known about files but those of FAT."""
    return volume_reader.available()


def patient_files(source: Source, volume: Volume) -> Files:
    """`open_files` with the time that reading hundreds of files takes. Raises FilesUnavailableError."""
    return open_files(source, volume, PATIENT_SECONDS)


def open_files(source: Source, volume: Volume, seconds: float = APART_SECONDS) -> Files:
    """Look into a volume whose boot sector can be read.

    Args:
        seconds: processor time that the library may take for all of it.

    Raises:
        FilesUnavailableError: a file system we cannot read, a damaged one, or the extra `files` is missing.
    """
    if volume.filesystem not in {*_OWN, *_LIBRARY_NAMES}:
        raise FilesUnavailableError(f"Volume {volume.number} holds no file system that can be read here.")
    if volume.filesystem not in _OWN and not can_read_files():
        says = f"Files of a volume with {volume.filesystem} cannot be read here."
        raise FilesUnavailableError(says, "Install mending with its extra `files`.")
    if not volume.boot.readable:
        says = f"The boot sector of volume {volume.number} is damaged, so its files cannot be read yet."
        raise FilesUnavailableError(says)
    ask = _own(source, volume) if volume.filesystem in _OWN else _library(source, volume, seconds)
    files = Files(ask, volume.filesystem in _CASELESS)
    files.listing("/")  # so that a volume whose root cannot be read counts as one that cannot be opened
    return files


def open_tree(tree: Tree, top: str = "", *, caseless: bool = False) -> Files:
    """Look into a mounted tree. Args: top: folder in it whose files count as the whole; caseless: a FAT volume."""
    top = top.strip("/")

    def ask(method: str, *words: Any) -> Any:
        path, *rest = words
        return getattr(tree, method)(f"/{top}{path}" if top else path, *rest)

    return Files(ask, caseless)


def _own(source: Source, volume: Volume) -> Callable[..., Any]:
    reader = FatReader(source, volume.offset)
    return lambda method, *words: getattr(reader, method)(*words)


def _library(source: Source, volume: Volume, seconds: float) -> Callable[..., Any]:
    """Calls in the process apart; what is read there is counted here."""
    kind, before = _LIBRARY_NAMES[volume.filesystem], source.bytes_read
    reader = Apart(lambda: volume_reader.VolumeReader(source, volume.offset, kind), seconds)

    def ask(method: str, *words: Any) -> Any:
        nonlocal before
        if method == "read" and words[1] > _PIECE:
            path, length = words
            parts = (ask("read", path, min(_PIECE, length - at), at) for at in range(0, length, _PIECE))
            return b"".join(parts)
        answer, read = reader.call(method, *words)
        source.count_read(read - before)
        before = read
        return answer

    return ask
