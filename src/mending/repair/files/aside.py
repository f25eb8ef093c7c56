"""Files set aside on their own volume: the same bytes under a free name, so that they can be put
back.
"""

from mending.boot.chain import OutOfReachError
from mending.disk.volume import Volume
from mending.model import Change, RefusedError
from mending.model.limits import LARGEST_CHANGE
from mending.repair.base import Request
from mending.repair.files.by_driver import put_by_driver

_MOST_NAMES = 1000


def put_aside(request: Request, volume: Volume, paths: list[str], ending: str) -> list[Change]:
    """The changes that set files aside. Needs new rows in a folder, so the system's own driver.

    Raises:
        RefusedError: a file is too long or cannot be read, or a guard says no.
    """
    files: dict[str, bytes | None] = {}
    for path in paths:
        files[free_name(request, volume, f"{path}.{ending}")] = read_all(request, volume, path)
        files[path] = None
    return [*put_by_driver(request.disk, volume, request.settings, files, {})]


def free_name(request: Request, volume: Volume, wanted: str) -> str:
    """A name that nothing on the volume has."""
    wanted = real_path(request, volume, wanted)
    names = (wanted, *(f"{wanted}{number}" for number in range(2, _MOST_NAMES)))
    for name in names:
        if request.environment.find(volume, name) is None:
            return name
    raise RefusedError(f"Every name like {wanted} is taken.")


def real_path(request: Request, volume: Volume, path: str) -> str:
    """A path as the volume writes it, as far as its folders are there: a driver may take other
    letters for another name.
    """
    parts, real = [part for part in path.split("/") if part], ""
    for number, part in enumerate(parts):
        found = request.environment.find(volume, f"{real}/{part}")
        if found is None:
            return "/".join([real, *parts[number:]])
        real = found.path.rstrip("/")
    return real


def read_all(request: Request, volume: Volume, path: str) -> bytes:
    """A whole file.

    Raises:
        RefusedError: it is not there, cannot be read, or is too long.
    """
    environment = request.environment
    try:
        found = environment.find(volume, path)
        data = environment.read(volume, path, LARGEST_CHANGE)
    except OutOfReachError as error:
        raise RefusedError(f"{path} cannot be read: {error}") from error
    if found is None:
        raise RefusedError(f"{path} is not there.")
    return data
