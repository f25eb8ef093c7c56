"""The two kinds of targets as a repair touches them: bytes of a disk, files of a mounted tree."""

from collections.abc import Sequence

from mending.model import Change, FileChange, Patch
from mending.source import FolderSource, PatchedFolder, PatchedSource, Source, Tree

Ground = Source | Tree


def is_tree(target: Ground) -> bool:
    """Whether a target is a mounted tree."""
    return isinstance(target, FolderSource | PatchedFolder)


def present(target: Ground, change: Change) -> bytes | None:
    """What stands now where a change goes; None where there is no such file. Raises ReadError, InputError."""
    if isinstance(change, FileChange):
        return target.holds(change.path) if isinstance(target, FolderSource | PatchedFolder) else None
    return b"" if isinstance(target, FolderSource | PatchedFolder) else target.read(change.offset, change.length).data


def put(target: Ground, changes: Sequence[Change]) -> None:
    """Write all changes and wait until they are on the medium. Raises InputError."""
    for change in changes:
        if isinstance(change, FileChange) and isinstance(target, FolderSource):
            target.put(change.path, change.after)
        elif isinstance(change, Patch) and not isinstance(target, FolderSource | PatchedFolder):
            target.write(change.offset, change.after)
    if not isinstance(target, FolderSource | PatchedFolder):
        target.flush()


def as_it_would_be(target: Ground, changes: Sequence[Change]) -> Ground:
    """The target after some changes, in memory."""
    if isinstance(target, FolderSource | PatchedFolder):
        return PatchedFolder(target, [one for one in changes if isinstance(one, FileChange)])
    return PatchedSource(target, [one for one in changes if isinstance(one, Patch)])


def between(now: bytes | None, change: Change) -> bool:
    """Whether what stands there is what a write leaves that was cut off anywhere.

    Bytes of a disk may be a mixture of before and after; a file is one or the other.
    """
    if isinstance(change, FileChange):
        return now in {change.before, change.after}
    if now is None or len(now) != change.length:
        return False
    return all(byte in pair for byte, pair in zip(now, zip(change.before, change.after, strict=True), strict=True))


def named(change: Change) -> str:
    """Where a change goes, for sentences."""
    return change.path if isinstance(change, FileChange) else f"{change.length} bytes at offset {change.offset}"
