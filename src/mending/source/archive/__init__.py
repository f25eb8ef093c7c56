"""One open file with members, written whole or not at all."""

from mending.source.archive.zip_file import ArchiveReader, ArchiveWriter, new_archive

__all__ = ["ArchiveReader", "ArchiveWriter", "new_archive"]
