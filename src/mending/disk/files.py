"""The contents of files inside volumes, through pytsk3. Tables, boot sectors and chains are read by our own code."""

from functools import lru_cache

import msgspec

from mending.disk.volumes import Volume
from mending.formats import fat
from mending.model import InputError, Patch, clean_text
from mending.model.limits import FILE_BYTES
from mending.source import PatchedSource, Source

try:
    import pytsk3
except ImportError:  # the extra `files` is not installed; everything but file contents still works
    pytsk3 = None

_CASELESS = {"fat12", "fat16", "fat32", "ntfs"}
_LIBRARY_NAMES = {"fat12": "FAT12", "fat16": "FAT16", "fat32": "FAT32", "ntfs": "NTFS", "ext": "EXT_DETECT"}
"""The library is told what our own reader found: its guessing reads 25 MB of every disk."""


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

    def __init__(self, filesystem: "pytsk3.FS_Info", caseless: bool) -> None:
        self._filesystem = filesystem
        self._caseless = caseless

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
        try:
            return [
                FileFound(f"{folder.rstrip('/')}/{name}", size, is_folder)
                for name, size, is_folder in map(_plain, self._filesystem.open_dir(path=folder))
                if name not in {"", ".", ".."}
            ]
        except OSError as error:
            raise _unavailable(error) from error

    def read(self, found: FileFound, limit: int = FILE_BYTES) -> bytes:
        """At most `limit` bytes of a file. Raises FilesUnavailableError."""
        try:
            file = self._filesystem.open(found.path)
            data: bytes = file.read_random(0, min(found.bytes, limit)) if found.bytes else b""
        except OSError as error:
            raise _unavailable(error) from error
        return data


def open_files(source: Source, volume: Volume) -> Files:
    """Look into a volume whose boot sector is sound.

    Raises:
        FilesUnavailableError: a file system we cannot read, a damaged one, or the extra `files` is missing.
    """
    if pytsk3 is None:
        raise FilesUnavailableError(
            "Files inside volumes cannot be read here.", "Install mending with its extra `files`."
        )
    if volume.filesystem not in _LIBRARY_NAMES:
        raise FilesUnavailableError(f"Volume {volume.number} holds no file system that can be read here.")
    if not volume.boot.readable:
        raise FilesUnavailableError(
            f"The boot sector of volume {volume.number} is damaged, so its files cannot be read yet."
        )
    try:
        kind = getattr(pytsk3, f"TSK_FS_TYPE_{_LIBRARY_NAMES[volume.filesystem]}")
        filesystem = pytsk3.FS_Info(_image_type()(_legible(source, volume)), offset=volume.offset, type=kind)
    except OSError as error:
        raise _unavailable(error) from error
    return Files(filesystem, volume.filesystem in _CASELESS)


def _legible(source: Source, volume: Volume) -> Source:
    """The source as the library wants it: it reads no FAT volume without signature and media byte, firmware does."""
    if volume.boot.sound:
        return source
    data = volume.boot.data
    whole = fat.COMMON.patch(data, signature=0xAA55, media=0xF8)
    return PatchedSource(source, [Patch(volume.offset, data, whole, "for reading only")])


def _plain(entry: "pytsk3.File") -> tuple[str, int, bool]:
    name, meta = entry.info.name, entry.info.meta
    gone = name is None or meta is None or int(name.flags) != int(pytsk3.TSK_FS_NAME_FLAG_ALLOC)
    if gone:
        return "", 0, False
    shown = clean_text(name.name.decode("utf-8", errors="replace"))
    return shown, int(meta.size), int(meta.type) == int(pytsk3.TSK_FS_META_TYPE_DIR)


@lru_cache(maxsize=1)
def _image_type() -> type:
    """The adapter class, made on first use because its base exists only where pytsk3 does."""

    class SourceImage(pytsk3.Img_Info):  # type: ignore[misc, unused-ignore]
        def __init__(self, source: Source) -> None:
            self._source = source
            super().__init__(url="", type=pytsk3.TSK_IMG_TYPE_EXTERNAL)

        def read(self, offset: int, size: int) -> bytes:
            return self._source.read(offset, size).data

        def get_size(self) -> int:
            return self._source.size

        def close(self) -> None:
            """The source is closed by whoever opened it."""

    return SourceImage


def _unavailable(error: OSError) -> FilesUnavailableError:
    reason = clean_text(str(error).splitlines()[0] if str(error) else "unknown reason", 160)
    return FilesUnavailableError(f"Files of this volume cannot be read: {reason}")
