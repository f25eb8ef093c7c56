"""Which reader opens the files of a volume: FAT (as firmware sees it), NTFS and ext by our own,
trees and memory disks as they are.
"""

import io
from typing import TYPE_CHECKING

from mending.disk.fat import FatReader
from mending.disk.files.files import Files, FilesUnavailableError, Listed
from mending.disk.volume import Volume
from mending.model import ByteOffset, FilesystemKind, InputError, clean_text
from mending.source import MemorySource, MountedTree, Source

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
