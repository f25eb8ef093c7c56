"""The library's look into one volume. Used in a sandboxed process, because damage can keep the
library busy for ever. Needs the extra `files`, so it is imported where a volume asks for it.
"""

import pytsk3

from mending.model import clean_text
from mending.source import Source

Row = tuple[str, int, bool, bool, int]
"""Name, length in bytes, whether it is a folder, whether it is a link, permission bits."""


class VolumeReader:
    """One opened volume.

    Args:
        offset: where the volume starts, in bytes.
        kind: the library's name of the file system: its own guessing reads 25 MB of every disk.

    Raises:
        OSError: the library cannot read the volume.
    """

    def __init__(self, source: Source, offset: int, kind: str) -> None:
        self._source = source
        self._filesystem = pytsk3.FS_Info(
            _adapter(source), offset=offset, type=getattr(pytsk3, f"TSK_FS_TYPE_{kind}")
        )

    def listing(self, folder: str) -> tuple[list[Row], int]:
        """What a folder holds, without deleted entries; and how many bytes of the source have been
        read so far.
        """
        rows = [
            row
            for row in map(_plain, self._filesystem.open_dir(path=folder))
            if row[0] not in {"", ".", ".."}
        ]
        return rows, self._source.bytes_read

    def read(self, path: str, length: int, offset: int = 0) -> tuple[bytes, int]:
        """Bytes of a file; and how many bytes of the source have been read so far."""
        data: bytes = self._filesystem.open(path).read_random(offset, length)
        return data, self._source.bytes_read

    def link(self, path: str) -> tuple[str, int]:
        """What a link points at; and how many bytes of the source have been read so far."""
        target = self._filesystem.open(path).info.meta.link
        return (target or b"").decode("utf-8", errors="replace"), self._source.bytes_read

    def extents(self, path: str) -> tuple[list[tuple[int, int]] | None, int]:
        """Where a file's blocks lie, offset in the volume and length in bytes; None where that is
        not so simple.

        Not simple are holes, compressed files and contents that lie beside the file's own record.
        """
        size = int(self._filesystem.info.block_size)
        attributes = [
            value for value in self._filesystem.open(path) if int(value.info.type) in _CONTENT
        ]
        if len(attributes) != 1 or not int(attributes[0].info.flags) & int(
            pytsk3.TSK_FS_ATTR_NONRES
        ):
            return None, self._source.bytes_read
        runs = list(attributes[0])
        if any(int(run.flags) for run in runs):  # filled in or sparse
            return None, self._source.bytes_read
        ordered = sorted(runs, key=lambda run: int(run.offset))
        return [
            (int(run.addr) * size, int(run.len) * size) for run in ordered
        ], self._source.bytes_read

    def is_packed(self, path: str) -> tuple[bool, int]:
        """Whether the content of a file is kept compressed; and how many bytes of the source have
        been read so far.
        """
        attributes = [
            attribute
            for attribute in self._filesystem.open(path)
            if int(attribute.info.type) in _CONTENT
        ]
        packed = int(pytsk3.TSK_FS_ATTR_COMP)
        return any(int(part.info.flags) & packed for part in attributes), self._source.bytes_read


_CONTENT = {1, 128}
"""Kinds of attributes that are a file's content: that of most file systems, and that of NTFS."""


def _adapter(source: Source) -> "pytsk3.Img_Info":
    class SourceImage(pytsk3.Img_Info):  # type: ignore[misc, unused-ignore]
        """Made here, because its base exists only where the library does."""

        def __init__(self) -> None:
            super().__init__(url="", type=pytsk3.TSK_IMG_TYPE_EXTERNAL)

        def read(self, offset: int, size: int) -> bytes:
            return source.read(offset, size).data

        def get_size(self) -> int:
            return source.size

        def close(self) -> None:
            """The source is closed by whoever opened it."""

    return SourceImage()


def _plain(entry: "pytsk3.File") -> Row:
    name, meta = entry.info.name, entry.info.meta
    gone = name is None or meta is None or int(name.flags) != int(pytsk3.TSK_FS_NAME_FLAG_ALLOC)
    if gone:
        return "", 0, False, False, 0
    shown = clean_text(name.name.decode("utf-8", errors="replace"))
    folder, link = (
        int(meta.type) == int(kind)
        for kind in (pytsk3.TSK_FS_META_TYPE_DIR, pytsk3.TSK_FS_META_TYPE_LNK)
    )
    return shown, int(meta.size), folder, link, int(meta.mode)
