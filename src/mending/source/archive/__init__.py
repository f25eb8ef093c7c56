"""One open file with members, written whole or not at all; and bundles, which are such files."""

from mending.source.archive.bundle import (
    INDEX,
    Bundle,
    BundledFile,
    BundleIndex,
    BundleRange,
    in_pieces,
    is_bundle,
    note_read,
    noting,
    refuse_missing,
)
from mending.source.archive.zip_file import (
    ArchiveReader,
    ArchiveWriter,
    bytes_packed,
    new_archive,
)

__all__ = [
    "INDEX",
    "ArchiveReader",
    "ArchiveWriter",
    "Bundle",
    "BundleIndex",
    "BundleRange",
    "BundledFile",
    "bytes_packed",
    "in_pieces",
    "is_bundle",
    "new_archive",
    "note_read",
    "noting",
    "refuse_missing",
]
