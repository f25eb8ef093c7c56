"""How each kind of file system is mounted: the programs that do it, the safest first.

A driver outside the kernel is preferred: what a hostile volume can do to it, it cannot do to the
machine. Where a volume says what the kernel is to do about its errors (ext may ask for a panic),
that is overruled. Nothing on the volume is executed, no device of it is opened, and no time of
access is written.
"""

from collections.abc import Mapping

from mending.model import FilesystemKind

_SAFE = "nosuid,nodev,noexec,noatime"
_ENDS = ("{file}", "{folder}")


def drivers_of(kind: FilesystemKind, subvolume: str | None = None) -> tuple[tuple[str, ...], ...]:
    """The command lines that mount a kind, the preferred first; none for a kind that is not mounted
    here. `{file}` and `{folder}` stand for the volume and the place.

    Args:
        subvolume: path of the one that counts as the whole, empty for the uppermost; None for the
            one that is mounted where none is named.
    """
    if kind is FilesystemKind.BTRFS and subvolume is not None:
        if "," in subvolume:
            return ()  # it would be read as further options
        return (_kernel("btrfs", "commit=300", f"subvol=/{subvolume}"),)
    return _DRIVERS.get(kind, ())


def _kernel(kind: str, *options: str) -> tuple[str, ...]:
    return ("mount", "-n", "-t", kind, "-o", ",".join(("loop", _SAFE, *options)), *_ENDS)


_DRIVERS: Mapping[FilesystemKind, tuple[tuple[str, ...], ...]] = {
    FilesystemKind.EXT: (
        ("fuse2fs", "-f", "-o", f"rw,{_SAFE}", *_ENDS),
        _kernel("ext4", "noinit_itable", "errors=remount-ro"),
    ),
    FilesystemKind.XFS: (_kernel("xfs", "nouuid"),),
    FilesystemKind.BTRFS: (_kernel("btrfs", "commit=300"),),
    FilesystemKind.NTFS: (
        ("ntfs-3g", "-o", f"{_SAFE},inherit,no_detach", *_ENDS),
        _kernel("ntfs3"),
    ),
}
