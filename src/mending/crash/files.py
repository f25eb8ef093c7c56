"""Which files of a target may tell of crashes: one file, a folder of records, or the places of an installed system."""

from pathlib import Path

import msgspec

from mending.disk import FileFound, Files, FilesUnavailableError, open_tree
from mending.model import InputError
from mending.source import open_folder_source

_PLACES = ("var/log", "var/lib/systemd/pstore", "sys/fs/pstore", "var/crash")
_NAMES = ("kern.log", "messages", "syslog", "dmesg", "console", "dpkg.log")
_UNREAD = (".zst", ".lz4", ".bz2")
_DEPTH, _MOST = 2, 400


class LogFile(msgspec.Struct, frozen=True):
    """A file of evidence: its name for people, where it is, and when it was written last, in Unix seconds."""

    name: str
    path: Path
    modified: float


def log_files(path: Path) -> list[LogFile]:
    """The logs of a file, a mounted system, or a folder of records. Links are not followed. Raises InputError."""
    if not path.is_dir():
        return [log_file(str(path), path)]
    tree = open_folder_source(str(path))
    files = open_tree(tree)
    try:
        homes = [one for place in _PLACES if (one := files.find(place)) is not None]
        if homes:
            found = [one for home in homes for one in _below(files, home.path, 0) if _is_log(one.path)]
        else:
            found = _below(files, "/", 0)
    except FilesUnavailableError:
        return []
    logs = [one for one in found if one.bytes and not one.path.endswith(_UNREAD)]
    return [log_file(one.path, tree.place(one.path)) for one in logs[:_MOST]]


def log_file(name: str, path: Path) -> LogFile:
    """A file as evidence. Raises InputError for one that is not there."""
    try:
        return LogFile(name, path, path.stat().st_mtime)
    except OSError as error:
        raise InputError(f"{path} cannot be read: {error.strerror}.") from error


def _below(files: Files, folder: str, depth: int) -> list[FileFound]:
    """Plain files in a folder and the folders in it."""
    inside = [one for one in files.listing(folder) if not one.is_link]
    below = [each for one in inside if one.is_folder and depth < _DEPTH for each in _below(files, one.path, depth + 1)]
    return [one for one in inside if not one.is_folder] + below


def _is_log(path: str) -> bool:
    return "/pstore/" in path or "/crash/" in path or path.rpartition("/")[2].startswith(_NAMES)
