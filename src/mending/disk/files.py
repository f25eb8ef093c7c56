"""Files and folders inside one volume, whatever reads them: paths, links, and what is wrong with
either as our own errors.

File systems differ below (`FileReader`) and are alike above. Here a path is followed name by name,
by the rules of the file system for upper and lower case; links are followed inside the volume, so
many and no more, and where one leads elsewhere that is an answer, not an error. Above all it keeps
three things apart that look alike to a caller: a file that is not there, one that cannot be read,
and a folder in which damage may hide names. Only the first may ever be called missing.
"""

import io
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Protocol, TypeVar

import msgspec

from mending.disk.fat import FatReader
from mending.disk.volume import Volume
from mending.model import ByteOffset, DamagedFileError, FilesystemKind, InputError, clean_text
from mending.model.limits import FILE_BYTES, LINKS
from mending.source import MemorySource, MountedTree, Source


class FilesUnavailableError(InputError):
    """The files of this volume cannot be read; `says` tells why. Never a reason to call a file
    missing.
    """


class FileDamagedError(FilesUnavailableError):
    """This one file cannot be read to its end; others can."""


class FileFound(msgspec.Struct, frozen=True):
    """One file or folder.

    Attributes:
        path: as it is written on the volume.
        bytes: its length; -1 where its own record is damaged.
        is_link: only where a link could not be followed, or was not asked to be.
        mode: permission bits; all of them where the file system keeps none.
    """

    path: str
    bytes: int
    is_folder: bool
    is_link: bool = False
    mode: int = 0o777


_TOP = FileFound("/", 0, True)
Listed = tuple[str, int, bool, bool, int]
"""Name, length in bytes (-1: not known), whether it is a folder, whether it is a link, permission
bits.
"""
Answer = TypeVar("Answer")


class FileReader(Protocol):
    """What reads the files of one volume. Paths are from its top; links are not followed.

    Every method may raise OSError and InputError.
    """

    def listing(self, folder: str, /) -> list[Listed]:
        """What a folder holds, without deleted entries."""

    def read(self, path: str, length: int, /) -> bytes:
        """The first bytes of a file."""

    def link(self, path: str, /) -> str:
        """What a link points at."""

    def extents(self, path: str, /) -> list[tuple[int, int]] | None:
        """Where a file lies, offset in the volume and length in bytes; None where that is not so
        simple.
        """

    def is_packed(self, path: str, /) -> bool:
        """Whether the file system keeps the content of a file compressed."""

    def hidden(self, folder: str, /) -> str:
        """Why names of a folder may be hidden by damage; empty where none can be."""


class Files:
    """Read-only look into one volume. Use `open_files` to make one.

    Args:
        fold: makes names alike that the file system takes for the same.
        length: of a file by its path, for a reader whose listings may be outdated.
    """

    def __init__(
        self,
        reader: FileReader,
        fold: Callable[[str], str] = str,
        length: Callable[[str], int] | None = None,
    ) -> None:
        self._reader = reader
        self._fold, self._length = fold, length
        self._listings: dict[str, list[FileFound]] = {}
        self._names: dict[str, dict[str, FileFound]] = {}

    def find(self, path: str) -> FileFound | None:
        """The file or folder at `path`, links followed inside the volume, or None.

        Raises:
            FilesUnavailableError: damage hides it.
        """
        found, waiting, links = _TOP, [part for part in path.split("/") if part not in {"", "."}], 0
        while waiting:
            name = waiting.pop(0)
            if name == "..":
                found = self.find(found.path.rpartition("/")[0]) or _TOP
                continue
            wanted = self._key(f"{found.path.rstrip('/')}/{name}")
            match = self._named(found.path).get(wanted) if found.is_folder else None
            if match is None:
                self._refuse_hidden(found)
                return None
            if match.is_link:
                links += 1
                if links > LINKS:
                    return None
                target = _translated(partial(self._reader.link, match.path))
                waiting = [part for part in target.split("/") if part not in {"", "."}] + waiting
                found = _TOP if target.startswith("/") else found
                continue
            found = match
        return self._settled(found)

    def _settled(self, found: FileFound) -> FileFound:
        """A file with its own length."""
        if self._length is None or found.is_folder or found.is_link:
            return found
        try:
            return msgspec.structs.replace(found, bytes=self._length(found.path))
        except InputError:
            return msgspec.structs.replace(found, bytes=-1)

    def _refuse_hidden(self, folder: FileFound) -> None:
        """What damage may hide is not called missing."""
        why = _translated(lambda: self._reader.hidden(folder.path)) if folder.is_folder else ""
        if why:
            raise FileDamagedError(f"The folder {folder.path} cannot be read whole: {why}.")

    def is_link(self, path: str) -> bool:
        """Whether the last name of a path is a link, wherever it points. Raises
        FilesUnavailableError.
        """
        folder, _, name = path.strip("/").rpartition("/")
        home = self.find(folder)
        inside = self.listing(home.path) if home is not None and home.is_folder else []
        return any(
            file.is_link and self._key(file.path.rpartition("/")[2]) == self._key(name)
            for file in inside
        )

    def target_of(self, path: str) -> str | None:
        """What a link points at, as it is written; None where the name is no link. Raises
        FilesUnavailableError.
        """
        folder, _, name = path.strip("/").rpartition("/")
        home = self.find(folder)
        if home is None or not self.is_link(path):
            return None
        return _translated(lambda: self._reader.link(f"{home.path.rstrip('/')}/{name}"))

    def _key(self, path: str) -> str:
        return self._fold(path)

    def listing(self, folder: str = "/") -> list[FileFound]:
        """What a folder holds, without deleted entries; lengths as the folder has them.

        Raises:
            FilesUnavailableError
        """
        if folder not in self._listings:
            rows = _translated(lambda: self._reader.listing(folder))
            top = folder.rstrip("/")
            self._listings[folder] = [FileFound(f"{top}/{row[0]}", *row[1:]) for row in rows]
        return self._listings[folder]

    def forget(self, folder: str) -> None:
        """Let go of a listing: whoever walks a whole volume comes by no folder twice."""
        self._listings.pop(folder, None)
        self._names.pop(folder, None)

    def _named(self, folder: str) -> dict[str, FileFound]:
        """What a folder holds by folded path; of names that are alike the first counts."""
        if folder not in self._names:
            files = self.listing(folder)
            self._names[folder] = {self._key(file.path): file for file in reversed(files)}
        return self._names[folder]

    def read(self, found: FileFound, limit: int = FILE_BYTES) -> bytes:
        """At most `limit` bytes of a file.

        Raises:
            FileDamagedError, FilesUnavailableError
        """
        if found.is_folder or (not found.bytes and self._length is None):
            return b""
        most = limit if self._length is not None else min(found.bytes, limit)
        return _translated(lambda: self._reader.read(found.path, most))

    def extents(self, found: FileFound) -> list[tuple[int, int]] | None:
        """Where the content of a file lies: offset in the volume and length in bytes, in order.

        None where it cannot be patched in place.

        Raises:
            FilesUnavailableError
        """
        return _translated(lambda: self._reader.extents(found.path))

    def is_packed(self, found: FileFound) -> bool:
        """Whether the file system keeps a file compressed.

        Raises:
            FilesUnavailableError
        """
        return _translated(lambda: self._reader.is_packed(found.path))


def _translated(ask: Callable[[], Answer]) -> Answer:
    """The reader's answer; its errors become ours."""
    try:
        return ask()
    except OSError as error:
        reason = clean_text(str(error).splitlines()[0] if str(error) else "unknown reason", 160)
        raise FilesUnavailableError(f"Files of this volume cannot be read: {reason}") from error
    except DamagedFileError as error:
        raise FileDamagedError(error.says) from error
    except InputError as error:
        raise FilesUnavailableError(error.says, error.hint) from error


# Which reader opens the files of a volume: FAT (as firmware sees it), NTFS and ext by our own,
# trees and memory disks as they are.


if TYPE_CHECKING:
    from tarfile import TarFile, TarInfo

_MOST_MEMBERS = 4096
"""Most files of an archive in a boot manager's image; usual ones hold some hundreds of modules."""


def open_files(source: Source, volume: Volume) -> Files:
    """Look into a volume whose boot sector can be read.

    Raises:
        FilesUnavailableError: a file system we cannot read, or a damaged one.
    """
    if not volume.kind.is_readable:
        says = f"Volume {volume.number} holds no file system that can be read here."
        raise FilesUnavailableError(says)
    if not volume.boot.readable:
        says = f"The boot sector of volume {volume.number} is damaged, so its files cannot be read"
        raise FilesUnavailableError(f"{says} yet.")
    try:
        files = _opened(source, volume)
    except InputError as error:
        raise FilesUnavailableError(error.says, error.hint) from error
    files.listing("/")  # a volume whose root cannot be read counts as one that cannot be opened
    return files


def _opened(source: Source, volume: Volume) -> Files:
    # lazy: a disk has volumes of two or three kinds, and each reader takes its time to load
    if volume.filesystem is FilesystemKind.NTFS:
        from mending.disk.ntfs import NtfsReader  # noqa: PLC0415

        reader = NtfsReader(source, volume.offset)
        return Files(reader, reader.fold, reader.length)
    if volume.filesystem is FilesystemKind.EXT:
        from mending.disk.ext import ExtReader  # noqa: PLC0415

        return Files(ExtReader(source, volume.offset))
    if volume.filesystem is FilesystemKind.BTRFS:
        from mending.disk.btrfs import BtrfsReader  # noqa: PLC0415

        return Files(BtrfsReader(source, volume.offset, volume.top))
    if volume.filesystem is FilesystemKind.XFS:
        from mending.disk.xfs import XfsReader  # noqa: PLC0415

        return Files(XfsReader(source, volume.offset))
    return Files(FatReader(source, volume.offset), str.casefold)


def possible_tops(source: Source, volume: Volume) -> list[str]:
    """The subvolumes of a volume that a system may take for its whole, the likeliest first; of most
    file systems it is just the volume.

    Raises:
        FilesUnavailableError: it cannot be read.
    """
    if volume.filesystem is not FilesystemKind.BTRFS:
        return [""]
    from mending.disk.btrfs import BtrfsReader  # noqa: PLC0415 - lazy, as above

    try:
        return BtrfsReader(source, volume.offset).tops()
    except InputError as error:
        raise FilesUnavailableError(error.says, error.hint) from error


def open_tree(tree: MountedTree, top: str = "", *, caseless: bool = False) -> Files:
    """Look into a mounted tree.

    Args:
        top: folder in it whose files count as the whole.
        caseless: whether it is a FAT volume.
    """
    return Files(_TreeReader(tree, top.strip("/")), str.casefold if caseless else str)


def open_memory_disk(data: bytes) -> Files:
    """Look into the memory disk of a boot manager's image: an archive, or a small FAT volume.

    Raises:
        FilesUnavailableError: it is neither.
    """
    try:
        return Files(_ArchiveReader(data))
    except InputError:
        pass  # no archive: a volume, then
    try:
        files = Files(FatReader(MemorySource(data), ByteOffset(0)), str.casefold)
        files.listing("/")
    except InputError as error:
        says = f"The memory disk in the image can be read neither as archive nor as FAT: {error}"
        raise FilesUnavailableError(says) from error
    return files


class _TreeReader:
    """A folder of a mounted tree as the whole of a volume."""

    def __init__(self, tree: MountedTree, top: str) -> None:
        self._tree, self._top = tree, f"/{top}" if top else ""

    def listing(self, folder: str, /) -> list[Listed]:
        """See `FileReader.listing`."""
        return self._tree.listing(f"{self._top}{folder}")

    def read(self, path: str, length: int, /) -> bytes:
        """See `FileReader.read`."""
        return self._tree.read(f"{self._top}{path}", length)

    def link(self, path: str, /) -> str:
        """See `FileReader.link`."""
        return self._tree.link(f"{self._top}{path}")

    def extents(self, path: str, /) -> list[tuple[int, int]] | None:  # noqa: ARG002
        """Not known from a tree."""
        return None

    def is_packed(self, path: str, /) -> bool:  # noqa: ARG002
        """The running system expands them."""
        return False

    def hidden(self, folder: str, /) -> str:  # noqa: ARG002
        """The running system shows them all."""
        return ""


class _ArchiveReader:
    """The files of a tar archive. Folders need no member of their own.

    Raises:
        InputError: this is no archive, or a damaged one.
    """

    def __init__(self, data: bytes) -> None:
        self._rows: dict[str, dict[str, Listed]] = {"/": {}}
        self._data: dict[str, bytes] = {}
        self._links: dict[str, str] = {}
        import tarfile  # noqa: PLC0415 - lazy, for it is slow to load

        try:
            with tarfile.open(fileobj=io.BytesIO(data), mode="r:") as archive:
                for _, member in zip(range(_MOST_MEMBERS), archive, strict=False):
                    self._add(archive, member)
        except (tarfile.TarError, ValueError, OverflowError, EOFError) as error:
            raise InputError(f"no archive: {clean_text(str(error), 120)}.") from error

    def listing(self, folder: str, /) -> list[Listed]:
        """See `FileReader.listing`."""
        return sorted(self._rows.get(folder, {}).values())

    def read(self, path: str, length: int, /) -> bytes:
        """See `FileReader.read`."""
        return self._data.get(path, b"")[:length]

    def link(self, path: str, /) -> str:
        """See `FileReader.link`."""
        return self._links.get(path, "")

    def extents(self, path: str, /) -> list[tuple[int, int]] | None:  # noqa: ARG002
        """Nothing in an image is changed."""
        return None

    def is_packed(self, path: str, /) -> bool:  # noqa: ARG002
        """Archives of this kind are not packed."""
        return False

    def hidden(self, folder: str, /) -> str:  # noqa: ARG002
        """An archive that can be read is whole."""
        return ""

    def _add(self, archive: "TarFile", member: "TarInfo") -> None:
        names = [clean_text(name, 200) for name in member.name.split("/") if name not in {"", "."}]
        if not names or ".." in names:
            return
        folder = ""
        for name in names[:-1]:
            self._row(folder, name, 0, is_folder=True)
            folder = f"{folder}/{name}"
        path = f"{folder}/{names[-1]}"
        if member.isdir():
            self._row(folder, names[-1], 0, is_folder=True)
        elif member.issym():
            self._row(folder, names[-1], 0, is_link=True)
            self._links[path] = clean_text(member.linkname)
        elif member.isfile():
            file = archive.extractfile(member)
            self._data[path] = file.read() if file is not None else b""
            self._row(folder, names[-1], len(self._data[path]))

    def _row(
        self, folder: str, name: str, length: int, *, is_folder: bool = False, is_link: bool = False
    ) -> None:
        rows = self._rows.setdefault(folder or "/", {})
        rows.setdefault(name, (name, length, is_folder, is_link, 0o755 if is_folder else 0o644))
        if is_folder:
            self._rows.setdefault(f"{folder}/{name}", {})
