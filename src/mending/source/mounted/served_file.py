"""One file, `volume`, shown to drivers through FUSE: what it holds is a `CopyOnWrite`."""

import errno
import stat
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import Any

from mending.model import RefusedError
from mending.source.mounted.copy_on_write import CopyOnWrite

NAME = "volume"


@cache
def load_fuse() -> Any:
    """The package that speaks to the system's library, for which it looks when it is imported.

    Raises:
        RefusedError: there is no such library.
    """
    try:
        return import_module("mfusepy")
    except (ImportError, OSError) as error:
        raise RefusedError(
            "The system's FUSE library is not here.", "Install it (libfuse), then try again."
        ) from error


def serve(volume: CopyOnWrite, place: Path) -> None:
    """Show the file in a folder until that is unmounted.

    Raises:
        OSError: the system does not let us, or has no library for it.
        RuntimeError: the mount fails.
    """
    mfusepy = load_fuse()

    class Served(mfusepy.Operations):  # type: ignore[misc, name-defined]
        """The calls that a driver makes on a file."""

        use_ns = True

        def getattr(self, path: str, _fh: int | None = None) -> dict[str, Any]:
            """Of the top and of the file; there is nothing else."""
            if path == "/":
                return {"st_mode": stat.S_IFDIR | 0o700, "st_nlink": 2}
            if path != f"/{NAME}":
                raise mfusepy.FuseOSError(errno.ENOENT)
            return {"st_mode": stat.S_IFREG | 0o600, "st_nlink": 1, "st_size": volume.size}

        def readdir(self, _path: str, _fh: int) -> list[str]:
            """The names of the top."""
            return [".", "..", NAME]

        def read(self, _path: str, size: int, offset: int, _fh: int) -> bytes:
            """Bytes of the volume."""
            return volume.read(offset, size)

        def write(self, _path: str, data: bytes, offset: int, _fh: int) -> int:
            """Bytes that stay here."""
            return volume.write(offset, data)

        def flush(self, _path: str, _fh: int) -> int:
            """Nothing waits."""
            return 0

        def fsync(self, _path: str, _datasync: int, _fh: int) -> int:
            """Nothing waits."""
            return 0

        def truncate(self, _path: str, length: int, _fh: int | None = None) -> int:
            """A volume keeps its length."""
            if length != volume.size:
                raise mfusepy.FuseOSError(errno.EPERM)
            return 0

    mfusepy.FUSE(Served(), str(place), foreground=True, nothreads=True)
